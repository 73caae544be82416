"""Parse the firmware's tables of the computer: SMBIOS, DMTF standard DSP0134.

Linux hands the tables on unchanged (``Documentation/ABI/testing/sysfs-firmware-dmi-tables``), to
the administrator only. A structure has a header (type, length, handle) and a formatted part of that
length. Texts follow, which end in two zero bytes. The formatted part names its texts by number from
1. Serial numbers are not read. Without the tables the few words below ``sys/class/dmi/id`` will do.
"""

import re
import struct
from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from dunmist.computer.parsing import ParseError, parse_text, text_of
from dunmist.computer.root import Root

SUBJECT = "firmware tables"
MODULES = "memory modules"
# DSP0134 7.18.1 and 7.18.2
FORM_FACTORS = {3: "SIMM", 9: "DIMM", 11: "row of chips", 13: "SODIMM", 15: "FB-DIMM", 16: "die"}
MEMORY_TYPES = {
    18: "DDR",
    19: "DDR2",
    20: "DDR2 FB-DIMM",
    24: "DDR3",
    26: "DDR4",
    27: "LPDDR",
    28: "LPDDR2",
    29: "LPDDR3",
    30: "LPDDR4",
    32: "HBM",
    33: "HBM2",
    34: "DDR5",
    35: "LPDDR5",
    36: "HBM3",
}
# use of an array, and type of the last structure (SMBIOS 3.2)
SYSTEM_MEMORY, END_OF_TABLE = 3, 127
# marks in place of a size (SMBIOS 3.2, 7.18)
UNKNOWN_SIZE, EXTENDED_SIZE = 0xFFFF, 0x7FFF
MIB, KIB = 1 << 20, 1 << 10
WORDS = {
    "maker": "sys_vendor",
    "model": "product_name",
    "board": "board_name",
    "firmware_maker": "bios_vendor",
    "firmware_version": "bios_version",
    "firmware_date": "bios_date",
}
_BLANKS = re.compile(
    r"(?i)(?:not specified|to be filled by o\.?e\.?m\.?|default string|unknown|"
    r"none|n/a|no dimm|<bad index>|system (?:manufacturer|product name))?\Z"
)


class MemoryModule(msgspec.Struct, frozen=True, omit_defaults=True):
    """One slot and what is in it (DSP0134, type 17)."""

    slot: str | None  # device locator, as printed on the board
    bank: str | None = None
    size_bytes: int | None = None  # 0 for an empty slot, None for an unknown size
    kind: str | None = None
    form_factor: str | None = None
    rated_mtps: int | None = None  # millions of transfers a second that it can do
    configured_mtps: int | None = None  # configured speed
    maker: str | None = None
    part: str | None = None


class Firmware(msgspec.Struct, frozen=True, omit_defaults=True):
    """System, board and firmware, and the memory that the firmware lists."""

    maker: str | None = None
    model: str | None = None
    board: str | None = None
    firmware_maker: str | None = None
    firmware_version: str | None = None
    firmware_date: str | None = None
    slots: int | None = None  # of all arrays for system memory (type 16)
    capacity_bytes: int | None = None  # the most that the board takes
    modules: list[MemoryModule] = []


class _Structure(NamedTuple):
    """One structure: its type, its formatted part with the header, and its texts."""

    kind: int
    handle: int
    formatted: bytes
    texts: list[str]

    def number(self, offset: int, form: str) -> int | None:
        """Return a number, None when this version of the structure is shorter."""
        layout = struct.Struct(f"<{form}")
        if offset + layout.size > len(self.formatted):
            return None
        value: int = layout.unpack_from(self.formatted, offset)[0]
        return value

    def text(self, offset: int) -> str | None:
        """Return a text, None when there is none or it is one of the makers' blanks."""
        number = self.number(offset, "B")
        if not number or number > len(self.texts):
            return None
        text = self.texts[number - 1].strip()
        return None if _BLANKS.match(text) else text


def parse_smbios(data: bytes) -> Firmware:
    """Return the facts in the structure table; raises ParseError."""
    facts: dict[str, str | None] = {}
    arrays: dict[int, _Structure] = {}
    devices: list[_Structure] = []
    for structure in _structures(data):
        if structure.kind == 0 and "firmware_maker" not in facts:
            facts |= {
                "firmware_maker": structure.text(4),
                "firmware_version": structure.text(5),
                "firmware_date": structure.text(8),
            }
        elif structure.kind == 1 and "maker" not in facts:
            facts |= {"maker": structure.text(4), "model": structure.text(5)}
        elif structure.kind == 2 and "board" not in facts:
            facts["board"] = structure.text(5)
        elif structure.kind == 16 and structure.number(5, "B") == SYSTEM_MEMORY:
            arrays[structure.handle] = structure
        elif structure.kind == 17:
            devices.append(structure)
    counted = [number for array in arrays.values() if (number := array.number(0x0D, "H"))]
    modules = [
        _module(device) for device in devices if not arrays or device.number(4, "H") in arrays
    ]
    return msgspec.structs.replace(
        msgspec.convert(facts, Firmware),
        slots=sum(counted) if counted else None,
        capacity_bytes=sum(map(_capacity_bytes, arrays.values())) or None,
        modules=modules,
    )


def _structures(data: bytes) -> Iterator[_Structure]:
    position = 0
    while position + 4 <= len(data):
        kind, length, handle = struct.unpack_from("<BBH", data, position)
        end = data.find(b"\0\0", position + length)
        if length < 4 or end < 0:
            raise ParseError("SMBIOS", f"structure of {length} bytes at {position}", data[:16])
        formatted = data[position : position + length]
        texts = [text_of(raw) for raw in data[position + length : end].split(b"\0")]
        position = end + 2
        if kind == END_OF_TABLE:
            return
        yield _Structure(kind, handle, formatted, texts)


def _capacity_bytes(array: _Structure) -> int:
    small = array.number(7, "I") or 0
    if small == 0x80000000:
        return array.number(0x0F, "Q") or 0
    return small * KIB


def _module(device: _Structure) -> MemoryModule:
    rated, configured = device.number(0x15, "H"), device.number(0x20, "H")
    if rated == 0xFFFF:
        rated = device.number(0x54, "I")
    if configured == 0xFFFF:
        configured = device.number(0x58, "I")
    return MemoryModule(
        slot=device.text(0x10),
        bank=device.text(0x11),
        size_bytes=_size_bytes(device),
        kind=MEMORY_TYPES.get(device.number(0x12, "B") or 0),
        form_factor=FORM_FACTORS.get(device.number(0x0E, "B") or 0),
        rated_mtps=rated or None,
        configured_mtps=configured or None,
        maker=device.text(0x17),
        part=device.text(0x1A),
    )


def _size_bytes(device: _Structure) -> int | None:
    size = device.number(0x0C, "H")
    if size is None or size == UNKNOWN_SIZE:
        return None
    if size == EXTENDED_SIZE:
        extended = device.number(0x1C, "I")
        return None if extended is None else (extended & 0x7FFFFFFF) * MIB
    # the highest bit says that the size is in KiB
    return (size & 0x7FFF) * KIB if size & 0x8000 else size * MIB


def read_firmware(root: Root) -> Firmware | None:
    """Return the facts of the firmware, from its tables where they are readable."""
    if root.exists("sys/firmware/dmi/tables/DMI"):
        firmware = root.parse("sys/firmware/dmi/tables/DMI", parse_smbios, MODULES)
        if firmware:
            return firmware
    else:
        root.note(MODULES, "absent")
    facts = {
        field: root.parse(f"sys/class/dmi/id/{name}", parse_text, SUBJECT, may_be_silent=True)
        for field, name in WORDS.items()
    }
    return msgspec.convert(facts, Firmware) if any(facts.values()) else None
