"""Read the kernel's log and sort its lines into classes.

Sources: ``Documentation/ABI/testing/dev-kmsg``; ``kernel_messages.toml`` says of each class where
the kernel prints it. Only what the kernel itself wrote counts (facility 0): programs may write into
the log as well. Of each line is kept: class, what it names, when, how often, and its words.
"""

import os
import re
import stat
import time
import tomllib
from functools import cache
from pathlib import Path
from typing import Literal, NamedTuple, get_args

import msgspec

from dunmist.computer.parsing import Counter, ParseError, ProcessNumber, count_of, text_of
from dunmist.computer.root import OPEN_FLAGS, Root, reason_of

SUBJECT = "the kernel's log"
TABLE = Path(__file__).with_name("kernel_messages.toml")
LOG = "dev/kmsg"
DEVICE = (1, 11)  # Documentation/admin-guide/devices.txt
# one read of /dev/kmsg gives one record, which is shorter
RECORD_MOST_BYTES = 16 << 10
US_PER_S = 1e6
# characters of a line, and different lines, that a capture keeps
TEXT_MOST, KINDS_MOST = 240, 200
KernelMessageKind = Literal[
    "medium-error",
    "io-error",
    "drive-reset",
    "file-system-error",
    "file-system-read-only",
    "machine-check",
    "memory-corrected",
    "memory-uncorrected",
    "bus-error",
    "heat-limit",
    "out-of-memory",
    "memory-asked-for",
    "hung-task",
    "processor-stuck",
    "kernel-fault",
    "graphics-reset",
    "usb-reset",
    "device-came",
    "device-went",
    "over-current",
    "network-link-down",
    "transmit-stuck",
    "crash",
    "firmware",
]
KERNEL_MESSAGE_KINDS: tuple[KernelMessageKind, ...] = get_args(KernelMessageKind)
# addresses of other computers and of people's devices are nobody's business
_ADDRESS = re.compile(r"\b(?:[0-9a-f]{2}:){5}[0-9a-f]{2}\b", re.I)
# priority, number, microseconds since the start, flags, and whatever a later kernel adds
_HEAD = re.compile(rb"(\d{1,10}),\d{1,20},(\d{1,19}),([^;,]*)[^;]*;")
# a part of a line that was torn from its beginning, as the path of a control group (pr_cont)
TORN = b"c"
# text that the kernel prints after a program's name at the beginning of a line; a name has 15
# bytes, each of which may be printed as \xNN
_NAME_FIRST = re.compile(
    r"(?:\\x[0-9a-f]{2}|[^\\]){1,15}?"
    r"(?:\[\d+\]:? |\s?\(\d+\): |: (?:page allocation|vmalloc)| invoked oom-killer: )"
)
NAME_FIRST_KINDS: tuple[KernelMessageKind, ...] = ("crash", "memory-asked-for")


class KernelMessage(msgspec.Struct, frozen=True, omit_defaults=True):
    """Lines of one class about one thing."""

    kind: KernelMessageKind
    about: str | None  # a device, the device of a file system, or a program
    count: Counter
    # before its tick, by the clock of the log, which stands while the computer sleeps
    first_ago_s: float
    last_ago_s: float
    text: str  # the newest line
    pid: ProcessNumber | None = None


class LogLine(NamedTuple):
    """One line that the kernel wrote, and when, in seconds since it started."""

    at_s: float
    text: str


class MessageClass(NamedTuple):
    """Pattern of the lines of a class."""

    kind: KernelMessageKind
    word: bytes
    pattern: str  # compiled when a line has the word: few of them are ever needed


@cache
def message_classes() -> tuple[MessageClass, ...]:
    """Return the table of classes."""
    text = TABLE.read_text(encoding="utf-8")
    return tuple(
        MessageClass(entry["kind"], entry["word"].encode(), entry["pattern"])
        for entry in tomllib.loads(text)["message"]
    )


def parse_log_record(data: bytes) -> LogLine | None:
    """Return one record of the log, None if it is no whole line of the kernel's own.

    Raises ParseError.
    """
    match = _HEAD.match(data)
    if match is None:
        raise ParseError(LOG, "expected a record of the kernel's log", data)
    # the lower three bits are the severity, the rest says who wrote
    if count_of(match[1], LOG) >> 3 or match[3] == TORN:
        return None
    line = data[match.end() :].partition(b"\n")[0]
    return LogLine(count_of(match[2], LOG) / US_PER_S, text_of(line))


def classify(line: LogLine) -> tuple[KernelMessageKind, str | None, int | None] | None:
    """Return the class of a line, what it names and the process number; None for all others."""
    data = line.text.encode()
    is_name_first = _NAME_FIRST.match(line.text) is not None
    for message_class in message_classes():
        if is_name_first and message_class.kind not in NAME_FIRST_KINDS:
            continue
        if message_class.word in data and (match := re.match(message_class.pattern, line.text)):
            named = match.groupdict()
            pid = int(named["pid"]) if named.get("pid") else None
            return (
                message_class.kind,
                named.get("device") or named.get("link") or named.get("process"),
                pid,
            )
    return None


def summed(lines: list[LogLine], now_s: float) -> list[KernelMessage]:
    """Return the complaints among lines, one for each class and thing, oldest first."""
    by_kind: dict[tuple[KernelMessageKind, str | None], KernelMessage] = {}
    for line in lines:
        known = classify(line)
        if known is None:
            continue
        kind, about, pid = known
        ago_s = round(max(0.0, now_s - line.at_s), 3)
        before = by_kind.get((kind, about))
        if before is None and len(by_kind) >= KINDS_MOST:
            continue
        by_kind[kind, about] = KernelMessage(
            kind,
            about,
            before.count + 1 if before else 1,
            before.first_ago_s if before else ago_s,
            ago_s,
            _kept(line.text),
            pid,
        )
    return list(by_kind.values())


def _kept(text: str) -> str:
    return _ADDRESS.sub("(address)", text)[:TEXT_MOST]


class KernelLog:
    """The log, kept open: each reading gives the new messages, the first one gives all."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._offset = 0
        self._descriptor: int | None = None
        message_classes()  # before there is a tick that would wait for it
        try:
            self._descriptor = self._open()
        except OSError as error:
            root.note(SUBJECT, reason_of(error))

    def _open(self) -> int:
        if not self._root.is_this_computer:
            return self._root.open(LOG)
        descriptor = os.open(f"/{LOG}", OPEN_FLAGS)
        about = os.fstat(descriptor)
        if (os.major(about.st_rdev), os.minor(about.st_rdev)) != DEVICE or not stat.S_ISCHR(
            about.st_mode
        ):
            os.close(descriptor)
            raise OSError(f"{LOG}: not the kernel's log")
        return descriptor

    def read_new(self, uptime_s: float | None) -> list[KernelMessage]:
        """Return the complaints since the last reading; ``uptime_s`` dates those of a copy."""
        lines = []
        for record in self._records():
            try:
                line = parse_log_record(record)
            except ParseError:
                self._root.note(SUBJECT, "garbled")
                continue
            if line is not None:
                lines.append(line)
        now_s = time.monotonic() if self._root.is_this_computer else uptime_s or 0.0
        return summed(lines, now_s) if lines else []

    def _records(self) -> list[bytes]:
        if self._descriptor is None:
            return []
        return self._from_device() if self._root.is_this_computer else self._from_copy()

    def _from_device(self) -> list[bytes]:
        """Read record after record until there is none; each read gives one."""
        assert self._descriptor is not None
        records: list[bytes] = []
        while True:
            try:
                records.append(os.read(self._descriptor, RECORD_MOST_BYTES))
            except BlockingIOError:
                return records
            except BrokenPipeError:  # overwritten before it was read; the next read goes on after
                self._root.note(SUBJECT, "overflow")
            except OSError as error:
                self._root.note(SUBJECT, reason_of(error))
                return records

    def _from_copy(self) -> list[bytes]:
        """Read what a copy of the log holds beyond what was read; indented lines go on a record."""
        assert self._descriptor is not None
        data = os.pread(self._descriptor, 64 * RECORD_MOST_BYTES, self._offset)
        whole = data[: data.rfind(b"\n") + 1]
        self._offset += len(whole)
        return [line for line in whole.split(b"\n") if line and not line.startswith(b" ")]

    def close(self) -> None:
        """Close the log."""
        if self._descriptor is not None:
            os.close(self._descriptor)
            self._descriptor = None
