"""Names of functions by address: what a child answers while the last figures are read.

``python symbols.py`` reads a question from standard input and writes one line for each part of it
as soon as it is known: a JSON list of names, null where there is none. Sources: the System V ABI
(symbol tables of ELF files), and ``/proc/kallsyms``. Files are hostile: they are read by
pyelftools, within bounds, in a child that gets little memory and is left to itself when it takes
too long. It imports nothing of ours.
"""

import errno
import json
import os
import resource
import stat
import struct
import sys
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from itertools import chain
from typing import TYPE_CHECKING, Any, BinaryIO, NamedTuple

if TYPE_CHECKING:
    from elftools.elf.elffile import ELFFile

ADDRESS_SPACE_BYTES, CPU_S = 512 << 20, 1
# one file; a browser's has some hundred MiB, of which only the tables are read
TABLE_BYTES_MOST = 64 << 20
NAME_BYTES_MOST = 200
# how many symbols are read at a time
PIECE_SYMBOLS = 4096
KALLSYMS_LINE_BYTES = 512
# elf(5): type of a symbol in the low bits, and the ones that are code
TYPE_MASK, CODE_TYPES, FROM_ELSEWHERE = 0xF, (2, 10), 0
# how far behind the start of a symbol without a length an address may lie
LENGTHLESS_BYTES = 4096
SYMBOL_64, SYMBOL_32 = struct.Struct("IBBHQQ"), struct.Struct("IIIBBH")
# proc(5): kinds of the kernel's symbols that are code
KERNEL_CODE = (b"t", b"T", b"w", b"W")


def names_in_file(paths: list[str], inode: int, offsets: list[int]) -> list[str | None]:
    """Return the function at each offset of a file; the first of the paths that leads to it.

    An ``inode`` of 0 is that of any file.
    """
    for path in paths:
        try:
            descriptor = open_plain(path, inode)
        except OSError:
            continue
        with os.fdopen(descriptor, "rb") as file:
            try:
                return _names_in_elf(file, offsets)
            except Exception:  # noqa: BLE001 - whatever a hostile file makes the library raise
                return [None] * len(offsets)
    return [None] * len(offsets)


def open_plain(path: str, inode: int) -> int:
    """Return the descriptor of a plain file; raises OSError.

    It is looked at before it is opened: to open a device may already do harm.
    """
    found = os.open(path, os.O_PATH | os.O_CLOEXEC)
    try:
        about = os.fstat(found)
        if not stat.S_ISREG(about.st_mode) or inode not in (0, about.st_ino):
            raise OSError(errno.EINVAL, "not the file that was mapped")
        return os.open(f"/proc/self/fd/{found}", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    finally:
        os.close(found)


def _names_in_elf(file: BinaryIO, offsets: list[int]) -> list[str | None]:
    from elftools.elf.elffile import ELFFile

    elf = ELFFile(file)
    loaded = [
        (part["p_offset"], part["p_filesz"], part["p_vaddr"])
        for part in elf.iter_segments()
        if part["p_type"] == "PT_LOAD"
    ]
    addresses = [
        next((at - first + to for first, size, to in loaded if first <= at < first + size), -1)
        for at in offsets
    ]
    best: list[_Symbol | None] = [None] * len(addresses)
    order = sorted(range(len(addresses)), key=addresses.__getitem__)
    sought = [addresses[index] for index in order]
    for name in (".symtab", ".dynsym"):
        table = elf.get_section_by_name(name)
        if table is None or table["sh_size"] > TABLE_BYTES_MOST:
            continue
        names = elf.get_section(table["sh_link"])
        if names is None or names["sh_size"] > TABLE_BYTES_MOST:
            continue
        for value, size, at in _code_symbols(file, table["sh_offset"], table["sh_size"], elf):
            end = value + (size or LENGTHLESS_BYTES)
            first = bisect_left(sought, value)
            for index in order[first : bisect_right(sought, end - 1)]:
                known = best[index]
                # a function with a length is surer than a mark, and the nearer one than the farther
                if known is None or (size > 0, value) > (known.size > 0, known.value):
                    at_most = min(NAME_BYTES_MOST, max(names["sh_size"] - at, 0))
                    best[index] = _Symbol(value, size, names["sh_offset"] + at, at_most)
    return [None if one is None else _name_at(file, one) for one in best]


class _Symbol(NamedTuple):
    """A symbol that may be the one: its address and length, and where in the file its name is."""

    value: int
    size: int
    name_at: int
    name_bytes_most: int


def _code_symbols(
    file: BinaryIO, begin: int, size_bytes: int, elf: "ELFFile"
) -> Iterator[tuple[int, int, int]]:
    """Yield address, length and offset of the name of each symbol that is code.

    The table is never whole in memory.
    """
    is_long, order = elf.elfclass == 64, "<" if elf.little_endian else ">"
    layout = struct.Struct(order + (SYMBOL_64 if is_long else SYMBOL_32).format)
    end = begin + size_bytes
    while begin < end:
        file.seek(begin)
        data = file.read(min(PIECE_SYMBOLS * layout.size, end - begin))
        if len(data) < layout.size:
            return
        begin += len(data)
        whole = memoryview(data)[: len(data) // layout.size * layout.size]
        for fields in layout.iter_unpack(whole):
            if is_long:
                at, info, _, section, value, size = fields
            else:
                at, value, size, info, _, section = fields
            if info & TYPE_MASK in CODE_TYPES and section != FROM_ELSEWHERE:
                yield value, size, at


def _name_at(file: BinaryIO, symbol: _Symbol) -> str | None:
    file.seek(symbol.name_at)
    return _text(file.read(symbol.name_bytes_most))


def _text(name: bytes) -> str | None:
    return name.partition(b"\0")[0].decode("utf-8", "backslashreplace") or None


def names_in_kernel(path: str, sought: list[int]) -> dict[int, str | None]:
    """Return the kernel's function at each of some sorted addresses; none where they are hidden."""
    # of each address the symbol that begins nearest before it
    starts, names = [0] * len(sought), [b""] * len(sought)
    try:
        with open(path, "rb") as file:  # noqa: PTH123 - nothing of ours, nor pathlib, is loaded
            while line := file.readline(KALLSYMS_LINE_BYTES):
                digits, kind, name = line.split(maxsplit=2)
                address = int(digits, 16)
                index = bisect_left(sought, address)
                if index < len(sought) and address > starts[index] and kind in KERNEL_CODE:
                    starts[index], names[index] = address, name
    except (OSError, ValueError):
        return {}
    for index in range(1, len(sought)):
        if starts[index - 1] > starts[index]:
            starts[index], names[index] = starts[index - 1], names[index - 1]
    return {
        address: _text(name.split()[0][:NAME_BYTES_MOST]) if name else None
        for address, name in zip(sought, names, strict=True)
    }


def answers(question: dict[str, Any]) -> Iterator[list[str | None]]:
    """Yield the names that each part of a question asks for; the kernel's parts have no paths."""
    of_kernel: dict[int, str | None] | None = None
    for part in question["parts"]:
        if part["paths"] is not None:
            yield names_in_file(part["paths"], part["inode"], part["at"])
            continue
        if of_kernel is None:
            parts = (part["at"] for part in question["parts"] if part["paths"] is None)
            of_kernel = names_in_kernel(question["kallsyms"], sorted(set(chain(*parts))))
        yield [of_kernel.get(address) for address in part["at"]]


if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_AS, (ADDRESS_SPACE_BYTES, ADDRESS_SPACE_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_S, CPU_S))
    for names in answers(json.load(sys.stdin)):
        sys.stdout.write(f"{json.dumps(names)}\n")
        sys.stdout.flush()
