"""Ask one drive for its own health figures; run as a separate program with the drive's name.

Sources: ``linux/nvme_ioctl.h`` and the NVM Express base specification (Get Log Page 02h);
``scsi/sg.h``, SAT-4 (ATA PASS-THROUGH (16)) and ACS-3 (CHECK POWER MODE, IDENTIFY DEVICE, SMART).
Nothing is written to a drive, and a drive that sleeps is left asleep. No drive is asked for a page
that it does not announce: a refused command makes the kernel stop and check its others. For the
same reason no command may run out of time, which would reset the drive. So it may not answer for
long, and who asked it cannot be ended meanwhile: it is a process that can be left to itself. It
writes a word a line, with what was read as hexadecimal digits. It imports nothing of ours, so that
it starts in no time.
"""

import ctypes
import fcntl
import os
import stat
import struct
import sys

NVME_ADMIN_COMMAND = 0xC0484E41  # _IOWR('N', 0x41, struct nvme_passthru_cmd)
# opcode, flags, namespace, address, length, dwords 10 to 15, time limit, result
NVME_COMMAND = struct.Struct("=BBHIIIQQIIIIIIIIII")
# admin command and log page, NVM Express 1.4
GET_LOG_PAGE, HEALTH_PAGE, ALL_NAMESPACES, PAGE_BYTES = 0x02, 0x02, 0xFFFFFFFF, 512
# include/scsi/sg.h
SG_IO = 0x2285
# struct sg_io_hdr, to the end of its last word
SG_HEADER = struct.Struct("@iiBBHIPPPIIiPBBBBHHiII0P")
# directions of a transfer, include/scsi/sg.h
FROM_DEVICE, NO_DATA = -3, -1
# longer than the kernel waits for anything else of a disk; of NVMe 0 is the driver's own limit
TIMEOUT_MS, NVME_TIMEOUT_MS = 120_000, 0
# sense keys of a refused command
SENSE_BYTES = 32
# ATA commands inside SCSI ones, SAT-3
PASS_THROUGH_16, PIO_IN, NON_DATA = 0x85, 4, 3
# length in the count field, in blocks, from the device; and 'give back the registers'
READ_FLAGS, CHECK_CONDITION = 0x0E, 0x20
# commands of ACS-3
CHECK_POWER_MODE, SMART, IDENTIFY = 0xE5, 0xB0, 0xEC
# of IDENTIFY DEVICE: where words 82 to 87 are, and the bits of SMART, of its logs, of validity
FEATURES = struct.Struct("<6H")
# words of IDENTIFY DEVICE with the supported features, ACS-3
FEATURES_AT, SMART_BIT, LOGS_BIT, VALID_BITS, VALID = 164, 0x1, 0x1, 0xC000, 0x4000
LOG_DIRECTORY = 0x00
# features of the SMART command, ACS-3
READ_DATA, READ_THRESHOLDS, READ_LOG, RETURN_STATUS = 0xD0, 0xD1, 0xD5, 0xDA
STATISTICS_LOG, STATISTICS_PAGES = 0x04, 8
# register values that keep a drive from mistaking the command
SMART_KEY = (0x4F, 0xC2)
ASLEEP = (0x00, 0x01)  # standby


def say(word: str, digits: str) -> None:
    """Write one line of the answer."""
    sys.stdout.write(f"{word} {digits}\n")


def nvme_health(descriptor: int) -> bytes:
    """Return the 512 bytes of the health log; raises OSError."""
    page = ctypes.create_string_buffer(PAGE_BYTES)
    dwords = PAGE_BYTES // 4 - 1
    command = NVME_COMMAND.pack(
        GET_LOG_PAGE, 0, 0, ALL_NAMESPACES, 0, 0, 0, ctypes.addressof(page), 0, PAGE_BYTES,
        HEALTH_PAGE | dwords << 16, 0, 0, 0, 0, 0, NVME_TIMEOUT_MS, 0,
    )
    if fcntl.ioctl(descriptor, NVME_ADMIN_COMMAND, bytearray(command)):
        raise OSError("the drive refused")
    return page.raw


def ata(
    descriptor: int, command: int, *, features: int = 0, blocks: int = 0, low: int = 0,
    key: tuple[int, int] = (0, 0),
) -> tuple[bytes, bytes]:
    """Return the data of a drive command, and its registers; raises OSError."""
    data = ctypes.create_string_buffer(max(1, blocks) * PAGE_BYTES)
    sense = ctypes.create_string_buffer(SENSE_BYTES)
    block = ctypes.create_string_buffer(bytes((
        PASS_THROUGH_16, (PIO_IN if blocks else NON_DATA) << 1,
        READ_FLAGS if blocks else CHECK_CONDITION, 0, features, 0, blocks, 0, low, 0, key[0], 0,
        key[1], 0, command, 0,
    )), 16)
    header = bytearray(SG_HEADER.pack(
        ord("S"), FROM_DEVICE if blocks else NO_DATA, 16, SENSE_BYTES, 0, blocks * PAGE_BYTES,
        ctypes.addressof(data) if blocks else 0, ctypes.addressof(block), ctypes.addressof(sense),
        TIMEOUT_MS, 0, 0, 0, *(0,) * 9,
    ))
    fcntl.ioctl(descriptor, SG_IO, header)
    done = SG_HEADER.unpack(header)
    host_status = done[17]
    if host_status or (blocks and done[13]):
        raise OSError("the drive refused")
    return data.raw, sense.raw


def registers(sense: bytes) -> tuple[int, int, int]:
    """Return count, middle and high register of the answer; raises OSError without any."""
    if sense[0] & 0x7F != 0x72 or sense[8] != 0x09:
        raise OSError("the drive gave no registers")
    return sense[13], sense[17], sense[19]


def abilities(identity: bytes) -> tuple[bool, bool]:
    """Return whether a drive has SMART and has it switched on, and whether it has SMART's logs."""
    supported, valid, logs, enabled, _, logs_enabled = FEATURES.unpack_from(identity, FEATURES_AT)
    is_valid = valid & VALID_BITS == VALID
    has_logs = bool(
        (logs & VALID_BITS == VALID and logs & LOGS_BIT)
        or (logs_enabled & VALID_BITS == VALID and logs_enabled & LOGS_BIT)
    )
    return is_valid and bool(supported & enabled & SMART_BIT), has_logs


def ask_ata(descriptor: int) -> None:
    """Say what an ATA drive says; raises OSError where it is none."""
    count, _, _ = registers(ata(descriptor, CHECK_POWER_MODE)[1])
    if count in ASLEEP:
        say("asleep", "1")
        return
    has_smart, has_logs = abilities(ata(descriptor, IDENTIFY, blocks=1)[0])
    if not has_smart:
        return
    _, middle, high = registers(ata(descriptor, SMART, features=RETURN_STATUS, key=SMART_KEY)[1])
    say("ata", str(int((middle, high) != SMART_KEY)))
    for word, features in (("data", READ_DATA), ("thresholds", READ_THRESHOLDS)):
        say(word, smart(descriptor, features).hex())
    if has_logs:
        pages = smart(descriptor, READ_LOG, low=LOG_DIRECTORY)[2 * STATISTICS_LOG]
        if pages >= STATISTICS_PAGES:
            log = smart(descriptor, READ_LOG, blocks=STATISTICS_PAGES, low=STATISTICS_LOG)
            say("statistics", log.hex())


def smart(descriptor: int, features: int, *, blocks: int = 1, low: int = 0) -> bytes:
    """Return the data of a SMART read command; raises OSError."""
    return ata(descriptor, SMART, features=features, blocks=blocks, low=low, key=SMART_KEY)[0]


def main(name: str) -> int:
    """Ask the drive of that name below /dev; the status says whether it answered."""
    descriptor = os.open(f"/dev/{name}", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    if not stat.S_ISBLK(os.fstat(descriptor).st_mode):
        return 1
    if name.startswith("nvme"):
        say("nvme", nvme_health(descriptor).hex())
    else:
        ask_ata(descriptor)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
