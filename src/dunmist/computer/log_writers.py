"""Find the writers of the log that a busy log service keeps.

Sources: proc_pid_fd(5) for the log that a process has open; RFC 3164, section 4.1, for lines of
text, and the same with the time of RFC 3339; journalctl(1) and systemd.journal-fields(7) for the
journal. Only the end of a log is read. Of each line only the name and the process of its writer
are kept, no other words.
"""

import re
from collections import Counter as Counts
from collections.abc import Callable, Iterable
from itertools import islice

import msgspec

from dunmist.computer.file_positions import ACCESS_MASK, parse_position
from dunmist.computer.parsing import Counter, Identity, ParseError, text_of
from dunmist.computer.root import Root, reason_of

SUBJECT = "who writes into the log"
LOGS, JOURNAL_END = ("/var/log/", "/run/log/"), ".journal"
# some hundred lines say who writes most
END_BYTES, JOURNAL_LINES, WRITERS_MOST, NAME_MOST = 65_536, 500, 8, 64
# a process has more descriptors than logs
LINKS_MOST = 256
JOURNAL_WAIT_S = 2.0
# fields of an entry with the name of the writer
NAMES = ("_COMM", "SYSLOG_IDENTIFIER")
_LINE = re.compile(
    rb"^(?:<\d{1,3}>)?(?:[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\dT[0-9:.+Z-]+) \S+ "
    rb"([^\s:\[]{1,64})(?:\[(\d{1,10})\])?: (?:message repeated (\d{1,7}) times: )?",
    re.M,
)
_NUMBER = re.compile(r"[0-9]{1,10}\Z")
# writers by name and process number (0 if no line has it), with the number of lines
Lines = Counts[tuple[str, int]]


class LogWriter(msgspec.Struct, frozen=True, array_like=True):
    """One program by the name that its lines have; its identity is None if it is gone."""

    name: str
    process: Identity | None
    lines: Counter


class LogEnd(msgspec.Struct, frozen=True):
    """The last lines of a log: the process that keeps it, and who wrote most of them."""

    process: Identity
    lines: Counter
    writers: list[LogWriter]


def parse_log(data: bytes) -> Lines:
    """Return the writers of the lines of a text log; other lines have none."""
    lines: Lines = Counts()
    for name, number, repeated in _LINE.findall(data):
        lines[text_of(name), int(number or 0)] += int(repeated or 1)
    return lines


def parse_journal(data: bytes) -> Lines:
    """Return the writers of the entries that journalctl prints as JSON; raises ParseError."""
    lines: Lines = Counts()
    for line in data.splitlines():
        try:
            entry = msgspec.json.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError):
            raise ParseError("journal", "expected JSON", line[:80]) from None
        if not isinstance(entry, dict):
            raise ParseError("journal", "expected an entry", line[:80])
        # a field that is no text comes as numbers, and one that came twice as a list
        name = next((word for key in NAMES if isinstance(word := entry.get(key), str)), "")
        number = entry.get("_PID")
        known = _NUMBER.match(number) if isinstance(number, str) else None
        if name:
            lines[name[:NAME_MOST], int(known[0]) if known else 0] += 1
    return lines


def read_log_ends(
    root: Root, busiest: Iterable[tuple[int, int]], number_of: Callable[[int], int | None]
) -> list[LogEnd]:
    """Return the ends of the logs that processes, by identity and PID, have open for writing.

    ``number_of`` gives the identity of the process that has a number now.
    """
    ends = []
    for number, pid in busiest:
        log = _find_log(root, pid)
        lines = _last_lines(root, log) if log else None
        if lines:
            ends.append(LogEnd(number, lines.total(), _writers(lines, number_of)))
    return ends


def _find_log(root: Root, pid: int) -> str | None:
    """Return the log that a process wrote last, the journal's where it has one."""
    try:
        links = islice(root.links_in(f"proc/{pid}/fd"), LINKS_MOST)
        files = {name: file for name, file in links if file and file.startswith(LOGS)}
    except OSError as error:
        if reason_of(error) != "absent":
            root.note(SUBJECT, reason_of(error), str(pid))
        return None
    written = []
    for name, file in files.items():
        about = root.parse(f"proc/{pid}/fdinfo/{name}", parse_position, SUBJECT, may_be_absent=True)
        if about and about[1] & ACCESS_MASK:
            written.append(file)
    journal = (file for file in written if file.endswith(JOURNAL_END))
    last = max(written, key=lambda file: _changed_s(root, file), default=None)
    return next(journal, last)


def _changed_s(root: Root, file: str) -> float:
    return root.changed_s(file.lstrip("/")) or 0.0


def _last_lines(root: Root, log: str) -> Lines | None:
    if not log.endswith(JOURNAL_END):
        try:
            end = root.read_end(log.lstrip("/"), END_BYTES)
        except OSError as error:
            root.note(SUBJECT, reason_of(error), log)
            return None
        # a log of another form names no programs
        return parse_log(end)
    answer = _ask_journal() if root.is_this_computer else None
    if answer is None:
        root.note(SUBJECT, "failed" if root.is_this_computer else "absent", log)
        return None
    return root.parsed(answer, parse_journal, SUBJECT, log)


def _ask_journal() -> bytes | None:
    """Return the last entries of the journal, None if its program does not give them in time."""
    # few logs are that busy, so only then
    from subprocess import PIPE, TimeoutExpired

    from dunmist.children import find_program, start_child

    program = find_program("journalctl")
    if program is None:
        return None
    fields = ",".join(("_PID", *NAMES))
    command = [program, "-q", "-o", "json", "-n", str(JOURNAL_LINES), f"--output-fields={fields}"]
    with start_child(command, stdout=PIPE) as child:
        try:
            answer, _ = child.communicate(timeout=JOURNAL_WAIT_S)
        except TimeoutExpired:
            child.kill()
            return None
    return answer


def _writers(lines: Lines, number_of: Callable[[int], int | None]) -> list[LogWriter]:
    """Return the heaviest writers; for one name the process that wrote most."""
    by_name, process = Counts[str](), dict[str, int | None]()
    for (name, pid), count in lines.most_common():
        by_name[name] += count
        if process.get(name) is None:
            process[name] = number_of(pid) if pid else None
    return [
        LogWriter(name, process[name], count) for name, count in by_name.most_common(WRITERS_MOST)
    ]
