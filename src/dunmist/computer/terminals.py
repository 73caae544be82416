"""Find the programs that print into the terminals of a busy program.

A terminal window, a session that is kept, a remote login: each holds the one end of a pseudo
terminal, and shows or hands on what is printed into the other. Sources: pts(4), proc_pid_fd(5),
proc_pid_io(5), and ``tty-index`` of fdinfo (drivers/tty/pty.c, since Linux 4.14). No text is read.
"""

import re
from collections.abc import Iterable, Sequence
from itertools import islice

import msgspec

from dunmist.computer.file_positions import parse_characters
from dunmist.computer.parsing import Counter, Identity, ParseError, count_of
from dunmist.computer.root import Root

SUBJECT = "who prints into a terminal"
MASTERS = ("/dev/ptmx", "/dev/pts/ptmx")
# standard output and standard error
PRINTED_TO = (1, 2)
# a session that is kept may hold many terminals; on large computers some processes are enough
LINKS_MOST, PROCESSES_MOST, PRINTERS_MOST = 256, 4096, 8
_INDEX = re.compile(rb"^tty-index:\s+(\d{1,7})$", re.M)


class Printer(msgspec.Struct, frozen=True, array_like=True):
    """One process that prints there, with all bytes that it wrote by calls since it started."""

    process: Identity
    written_bytes: Counter


class ShownTerminal(msgspec.Struct, frozen=True):
    """The terminals that a process shows: who prints into them, the most first."""

    process: Identity
    printers: list[Printer]


def parse_terminal_index(data: bytes) -> int:
    """Return the number of the terminal of ``/proc/PID/fdinfo/N``; raises ParseError."""
    index = _INDEX.search(data)
    if not index:
        raise ParseError("/proc/PID/fdinfo", "expected tty-index", data)
    return count_of(index[1], "/proc/PID/fdinfo")


def read_shown_terminals(
    root: Root, busiest: Iterable[tuple[int, int]], all_processes: Sequence[tuple[int, int]]
) -> list[ShownTerminal]:
    """Return the terminals of processes, by identity and PID, into which others print."""
    shown: dict[str, int] = {}
    for number, pid in busiest:
        shown |= dict.fromkeys(_terminals(root, pid), number)
    if not shown:
        return []
    if len(all_processes) > PROCESSES_MOST:
        root.note(SUBJECT, "too-many")
    printers: dict[int, list[Printer]] = {}
    for number, pid in all_processes[-PROCESSES_MOST:]:
        shows = next((shown[file] for file in _printed_to(root, pid) if file in shown), None)
        # output of a program into a terminal that it shows itself is its own
        if shows in (None, number):
            continue
        moved = root.parse(f"proc/{pid}/io", parse_characters, SUBJECT, may_be_absent=True)
        if moved:
            printers.setdefault(shows, []).append(Printer(number, moved[1]))
    return [
        ShownTerminal(number, sorted(each, key=lambda one: -one.written_bytes)[:PRINTERS_MOST])
        for number, each in printers.items()
    ]


def _terminals(root: Root, pid: int) -> list[str]:
    """Return the names that the terminals of a process have on the side that prints into them."""
    try:
        links = islice(root.links_in(f"proc/{pid}/fd"), LINKS_MOST)
        held = [name for name, file in links if file in MASTERS]
    except OSError:
        # that its files cannot be listed is a blind spot of its own already
        return []
    numbers = (
        root.parse(f"proc/{pid}/fdinfo/{name}", parse_terminal_index, SUBJECT, may_be_absent=True)
        for name in held
    )
    return [f"/dev/pts/{number}" for number in numbers if number is not None]


def _printed_to(root: Root, pid: int) -> list[str]:
    found = []
    for descriptor in PRINTED_TO:
        try:
            file = root.link(f"proc/{pid}/fd/{descriptor}")
        except PermissionError:  # of somebody else, as above
            return []
        if file:
            found.append(file)
    return found
