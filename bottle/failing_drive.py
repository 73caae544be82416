"""An ATA drive that says of itself that it fails, in user space: what the kernel asks, it answers.

Run it inside the bottle; it stays until it is ended. Sources: ``linux/target_core_user.h`` for
the ring that is shared with the kernel, SPC-4 and SBC-3 for what every disk must answer, SAT-4 and
ACS-3 for ATA PASS-THROUGH (16) and SMART. What its pages hold is made up.
"""

import mmap
import os
import signal
import struct
import subprocess
import sys
import threading
import time
from pathlib import Path

TARGET = Path("/sys/kernel/config/target")
STORE = TARGET / "core/user_0/failing"
PORT = TARGET / "loopback/naa.6001405000000001/tpgt_1"
BLOCK, BLOCKS = 512, 65_536
# struct tcmu_mailbox, and of an entry: where its command and its parts of memory are
MAILBOX, TAIL_AT = struct.Struct("=HHIII"), 64
COMMAND_AT, PARTS_AT, PART = 24, 48, struct.Struct("=QQ")
OPERATION_MASK, OPERATION_COMMAND = 7, 1
GOOD, CHECK_CONDITION = 0, 2
ILLEGAL = bytes((0x70, 0, 5, 0, 0, 0, 0, 10, 0, 0, 0, 0, 0x20, 0, 0, 0, 0, 0))
FAILS = (0xF4, 0x2C)
ACTIVE = 0xFF
# reallocated, hours, celsius, pending, lost, errors of the cable: number, value, least, raw
ATTRIBUTES = (
    (5, 12, 36, 1984),
    (9, 71, 0, 26_000),
    (194, 60, 0, 41),
    (197, 88, 0, 24),
    (198, 90, 0, 7),
    (199, 200, 0, 3),
)


def attributes():
    """The page of SMART READ DATA."""
    page = bytearray(512)
    for place, (number, value, _, raw) in enumerate(ATTRIBUTES):
        start = 2 + 12 * place
        page[start : start + 5] = struct.pack("<BHBB", number, 3, value, value)
        page[start + 5 : start + 11] = raw.to_bytes(6, "little")
    return bytes(page)


def thresholds():
    """The page of the least values that are allowed."""
    page = bytearray(512)
    for place, (number, _, least, _) in enumerate(ATTRIBUTES):
        page[2 + 12 * place : 4 + 12 * place] = bytes((number, least))
    return bytes(page)


def identity():
    """IDENTIFY DEVICE, as far as it says that there is SMART, switched on, without its logs."""
    page = bytearray(512)
    struct.pack_into("<6H", page, 164, 1, 0x4000, 0x4000, 1, 0, 0x4000)
    return bytes(page)


def registers(count=0, middle=0, high=0):
    """The descriptor of sense data that gives back the registers of ATA."""
    return bytes(
        (0x72, 1, 0, 0x1D, 0, 0, 0, 14, 0x09, 12, 0, 0, 0, count, 0, 0, 0, middle, 0, high, 0, 0x50)
    )


def ata(command):
    """Answer ATA PASS-THROUGH (16): data, status and sense."""
    features, what = command[4], command[14]
    if what == 0xE5:
        return b"", CHECK_CONDITION, registers(count=ACTIVE)
    if what == 0xEC:
        return identity(), GOOD, b""
    if what == 0xB0 and features == 0xDA:
        return b"", CHECK_CONDITION, registers(middle=FAILS[0], high=FAILS[1])
    if what == 0xB0 and features in (0xD0, 0xD1):
        return attributes() if features == 0xD0 else thresholds(), GOOD, b""
    return b"", CHECK_CONDITION, ILLEGAL


def answer(command):
    """Answer a command of SCSI: data, status and sense."""
    what = command[0]
    if what == 0x85:
        return ata(command)
    if what == 0x12 and not command[1] & 1:
        about = b"ATA     " + b"Skerrow Old One ".ljust(16)[:16] + b"1   "
        return bytes((0, 0, 6, 2, 31, 0, 0, 2)) + about, GOOD, b""
    if what == 0x25:
        return struct.pack(">II", BLOCKS - 1, BLOCK), GOOD, b""
    if what == 0x9E and command[1] & 0x1F == 0x10:
        return struct.pack(">QI", BLOCKS - 1, BLOCK) + bytes(20), GOOD, b""
    if what in (0x28, 0x88):
        count = int.from_bytes(command[7:9] if what == 0x28 else command[10:14], "big")
        return bytes(count * BLOCK), GOOD, b""
    if what in (0x1A, 0x5A):
        return bytes((3, 0, 0, 0)) if what == 0x1A else bytes((0, 6, 0, 0, 0, 0, 0, 0)), GOOD, b""
    if what in (0x00, 0x1B, 0x35, 0x91):
        return b"", GOOD, b""
    return b"", CHECK_CONDITION, ILLEGAL


class Ring:
    """The memory that is shared with the kernel, and its commands one after another."""

    def __init__(self, device):
        self.descriptor = os.open(device, os.O_RDWR)
        size = Path(f"/sys/class/uio/{device.name}/maps/map0/size").read_text()
        self.memory = mmap.mmap(self.descriptor, int(size, 16))
        _, _, self.offset, self.size, _ = MAILBOX.unpack_from(self.memory)

    def serve(self):
        while os.read(self.descriptor, 4):
            tail = struct.unpack_from("=I", self.memory, TAIL_AT)[0]
            while tail != MAILBOX.unpack_from(self.memory)[4]:
                entry = self.offset + tail
                length = struct.unpack_from("=I", self.memory, entry)[0]
                if length & OPERATION_MASK == OPERATION_COMMAND:
                    self.reply(entry)
                tail = (tail + (length & ~OPERATION_MASK)) % self.size
                struct.pack_into("=I", self.memory, TAIL_AT, tail)
            os.write(self.descriptor, struct.pack("=I", 0))

    def reply(self, entry):
        (parts,) = struct.unpack_from("=I", self.memory, entry + 8)
        (at,) = struct.unpack_from("=Q", self.memory, entry + COMMAND_AT)
        data, status, sense = answer(self.memory[at : at + 16])
        for part in range(parts):
            base, size = PART.unpack_from(self.memory, entry + PARTS_AT + part * PART.size)
            piece, data = data[:size], data[size:]
            self.memory[base : base + len(piece)] = piece
        struct.pack_into("=BBHI", self.memory, entry + 8, status, 0, 0, 0)
        self.memory[entry + 16 : entry + 16 + len(sense)] = sense


def main():
    for module in ("target_core_user", "tcm_loop"):
        subprocess.run(["modprobe", module], check=True)
    if not TARGET.is_dir():
        subprocess.run(["mount", "-t", "configfs", "none", TARGET.parent], check=True)
    STORE.mkdir(parents=True)
    (STORE / "control").write_text(f"dev_size={BLOCK * BLOCKS},dev_config=skerrow/failing")
    (STORE / "enable").write_text("1")
    while not (devices := list(Path("/dev").glob("uio*"))):
        time.sleep(0.1)
    threading.Thread(target=Ring(devices[0]).serve, daemon=True).start()
    PORT.mkdir(parents=True)
    (PORT / "nexus").write_text("naa.6001405000000002")
    (PORT / "lun/lun_0").mkdir(parents=True)
    (PORT / "lun/lun_0/port").symlink_to(STORE)
    print("ready", flush=True)
    ended = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: ended.set())
    ended.wait()
    # in this order, and still answered: a disk that falls silent would hold up whoever asks it
    (PORT / "lun/lun_0/port").unlink()
    for place in (PORT / "lun/lun_0", PORT, PORT.parent, STORE):
        place.rmdir()


if __name__ == "__main__":
    sys.exit(main())
