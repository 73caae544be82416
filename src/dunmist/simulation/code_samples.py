"""Code that programs of a model computer run: samples, mappings and files with symbols.

A scenario says in which functions a program spends its CPU time. Of that come the records that the
kernel would write (perf_event_open(2)), the mappings of each process, small ELF files with a symbol
table, and ``/proc/kallsyms``. The samples are spread evenly: no chance is in them.
"""

import struct
from collections.abc import Iterator

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.processes import ModelProcess
from dunmist.simulation.scenario import ProgramSpec

RING = "perf/cpu-clock"
RING_BYTES = 1 << 16
# samples a second of CPU time
FREQUENCY_HZ = 49.0
# include/uapi/linux/perf_event.h: PERF_RECORD_SAMPLE, and the modes of the CPU
SAMPLE, MODE_KERNEL, MODE_USER = 9, 1, 2
KERNEL, GENERATED = "[kernel]", "[generated]"
LIBRARIES = "/usr/lib/skerrow"
KERNEL_START, FIRST_MAPPING, MAPPING_STEP = 0xFFFF_FFFF_8100_0000, 0x7F00_0000_0000, 1 << 24
TEXT_AT, FUNCTION_BYTES = 0x1000, 0x100
# elf(5): 64 bits, little endian; code, a symbol that is a function, an executable segment
ELF_IDENTITY = b"\x7fELF\x02\x01\x01".ljust(16, b"\0")
ET_DYN, EM_X86_64, PT_LOAD, READ_EXECUTE = 3, 62, 1, 5
SHT_SYMTAB, SHT_STRTAB, GLOBAL_FUNCTION = 2, 3, 0x12
_RECORD = struct.Struct("=IHHQII")


class CodeSamples:
    """Keeps count of the samples that each process has had."""

    def __init__(self, model: ModelComputer) -> None:
        self._model = model
        self._taken: dict[int, float] = {}  # samples of each process so far
        self._due_shares: dict[tuple[int, str], float] = {}
        self._written = 0
        self._ring = b""
        names = {name for spec in model.scenario.programs for name in spec.code}
        files: dict[str, list[str]] = {}
        for name in sorted(names):
            file, _, function = name.partition(":")
            files.setdefault(file, []).append(function)
        self._files = files

    def ring(self) -> bytes:
        """Return the number of bytes written so far, and the last of them."""
        new = b"".join(
            record
            for process in self._model.processes.all
            if process.spec.code
            for record in self._records(process)
        )
        self._written += len(new)
        whole = _RECORD.size * (RING_BYTES // _RECORD.size)
        self._ring = (self._ring + new)[-whole:]
        return struct.pack("=Q", self._written) + self._ring

    def still_files(self) -> Iterator[tuple[str, str | bytes]]:
        """Yield the libraries and the symbols of the kernel."""
        for file, functions in self._files.items():
            if file == KERNEL:
                yield (
                    "proc/kallsyms",
                    "".join(
                        f"{KERNEL_START + index * FUNCTION_BYTES:016x} t {function}\n"
                        for index, function in enumerate(functions)
                    ),
                )
            elif file != GENERATED:
                yield f"{LIBRARIES}/{file}".lstrip("/"), elf_file(functions)

    def mappings(self, spec: ProgramSpec) -> str:
        """Return ``/proc/PID/maps`` of a program."""
        lines = []
        for index, file in enumerate(self._files):
            if file != KERNEL and any(name.partition(":")[0] == file for name in spec.code):
                start = FIRST_MAPPING + index * MAPPING_STEP
                path = "" if file == GENERATED else f"{LIBRARIES}/{file}"
                length = TEXT_AT + len(self._files[file]) * FUNCTION_BYTES
                lines.append(f"{start:x}-{start + length:x} r-xp 00000000 08:01 7   {path}\n")
        return "".join(lines)

    def _records(self, process: ModelProcess) -> Iterator[bytes]:
        figures = self._model.processes.figures
        used_s = figures["user_s"][process.index] + figures["system_s"][process.index]
        due = float(used_s) * FREQUENCY_HZ
        if process.index not in self._taken:
            self._taken[process.index] = due  # CPU time before the capture
        while self._taken[process.index] + 1.0 <= due:
            self._taken[process.index] += 1.0
            yield self._record(process)

    def _record(self, process: ModelProcess) -> bytes:
        """Return a sample of the function that has had the least of its share."""
        shares = process.spec.code
        for name, share in shares.items():
            key = (process.index, name)
            self._due_shares[key] = self._due_shares.get(key, 0.0) + share
        name = max(shares, key=lambda one: self._due_shares[process.index, one])
        self._due_shares[process.index, name] -= sum(shares.values())
        file, _, function = name.partition(":")
        at = self._files[file].index(function) * FUNCTION_BYTES + FUNCTION_BYTES // 2
        is_kernel = file == KERNEL
        start = FIRST_MAPPING + list(self._files).index(file) * MAPPING_STEP + TEXT_AT
        address = KERNEL_START + at if is_kernel else start + at
        mode = MODE_KERNEL if is_kernel else MODE_USER
        thread = process.pid + int(self._taken[process.index]) % process.spec.busy_threads
        return _RECORD.pack(SAMPLE, mode, _RECORD.size, address, process.pid, thread)


def elf_file(functions: list[str]) -> bytes:
    """Return a small ELF file with a symbol for each function, one after another from TEXT_AT."""
    strings = b"\0" + b"".join(name.encode() + b"\0" for name in functions)
    symbols = bytes(24)
    for index, name in enumerate(functions):
        at = strings.index(b"\0" + name.encode() + b"\0") + 1
        value = TEXT_AT + index * FUNCTION_BYTES
        symbols += struct.pack("<IBBHQQ", at, GLOBAL_FUNCTION, 0, 1, value, FUNCTION_BYTES)
    titles = b"\0.symtab\0.strtab\0.shstrtab\0"
    symbols_at = TEXT_AT + len(functions) * FUNCTION_BYTES
    strings_at = symbols_at + len(symbols)
    titles_at = strings_at + len(strings)
    sections_at = titles_at + len(titles)
    header = ELF_IDENTITY + struct.pack(
        "<HHIQQQIHHHHHH", ET_DYN, EM_X86_64, 1, 0, 64, sections_at, 0, 64, 56, 1, 64, 4, 3
    )
    segment = struct.pack("<IIQQQQQQ", PT_LOAD, READ_EXECUTE, 0, 0, 0, symbols_at, symbols_at, 4096)
    sections = bytes(64)
    for title, kind, at, size, link, each in (
        (b".symtab", SHT_SYMTAB, symbols_at, len(symbols), 2, 24),
        (b".strtab", SHT_STRTAB, strings_at, len(strings), 0, 0),
        (b".shstrtab", SHT_STRTAB, titles_at, len(titles), 0, 0),
    ):
        name_at = titles.index(b"\0" + title + b"\0") + 1
        sections += struct.pack("<IIQQQQIIQQ", name_at, kind, 0, 0, at, size, link, 1, 1, each)
    text = (header + segment).ljust(symbols_at, b"\0")
    return text + symbols + strings + titles + sections
