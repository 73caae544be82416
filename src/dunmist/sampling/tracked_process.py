"""One process that is followed: the files of it that stay open, and what they say at a tick.

Each ``/proc/PID/stat`` stays open and is read again from its start. This costs less than opening
it, and cannot hit another process: the descriptor of an ended process answers ESRCH, even if its
number was given away again (proc(5)).
"""

import errno
import os
import resource
from collections.abc import Collection
from dataclasses import dataclass, field

from dunmist.computer import (
    ParseError,
    ProcessSample,
    ProcessStat,
    Root,
    parse_io,
    parse_process_stat,
    parse_schedstat,
    parse_statm,
    parse_waits_in,
    reason_of,
)

# a line has some 350 bytes; the kernel gives at most a page at once
STAT_BYTES = 4096
SCHEDSTAT_BYTES, NEVER_RAN = 128, b"0 "
RUNNABLE = "R"
# more processes than this are read by opening, which is slower and no less right
DESCRIPTORS_WANTED = 65_536
# files that stay open in addition to the line: of an idle process, and of one that changes
HELD_AT_REST = ("schedstat",)
HELD = ("statm", "io", "schedstat")
SUBJECTS = {
    "statm": "memory of processes",
    "schedstat": "run-queue delay",
    "io": "bytes read and written by processes",
}


def raise_descriptor_limit() -> int:
    """Raise this program's own limit of open files as far as allowed and return it."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = DESCRIPTORS_WANTED if hard == resource.RLIM_INFINITY else min(hard, DESCRIPTORS_WANTED)
    if soft != resource.RLIM_INFINITY and soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
        return wanted
    return DESCRIPTORS_WANTED if soft == resource.RLIM_INFINITY else soft


@dataclass(slots=True)
class TrackedProcess:
    """One process and its open files."""

    name: str  # of its directory in /proc
    number: int
    stat: int | None  # descriptor, None while there is no room to hold one
    line: bytes  # the last ``stat`` line, to see whether it changed
    called: str
    start_clk: int
    used_clk: int
    found_clk: int  # CPU time at its first sample, 0 if it started later
    first_seen_s: float
    rss_pages: int = 0
    moved_bytes: int | None = None  # read from and written to storage so far
    threads: int = 1
    state: str = ""
    rested: bytes = b""  # its schedstat before the line was read
    detailed_ns: int | None = None  # how long it had run when its details were read
    kernel: bool = False
    group: str | None = None
    unit_group: str | None = None
    files: tuple[str, ...] = ()
    more: dict[str, int] = field(default_factory=dict)  # descriptors of its other files
    hidden: set[str] = field(default_factory=set)  # files that may not be read

    def close(self) -> None:
        """Give back the descriptors."""
        for descriptor in (self.stat, *self.more.values()):
            if descriptor is not None:
                os.close(descriptor)
        self.stat = None
        self.more.clear()

    @property
    def held(self) -> int:
        """Number of its open files."""
        return (self.stat is not None) + len(self.more)

    @property
    def used_here_clk(self) -> int:
        """CPU time that it used while it was followed."""
        return self.used_clk - self.found_clk

    def has_rested(self) -> bool:
        """Whether a process of one thread did not run since its line was read.

        Its schedstat costs a third of its line, and counts each time that it was let run. Who could
        run and did not get to it is not resting.
        """
        descriptor = self.more.get("schedstat")
        if descriptor is None or self.threads != 1 or self.state == RUNNABLE:
            return False
        try:
            now = os.pread(descriptor, SCHEDSTAT_BYTES, 0)
        except OSError:
            return False  # the line tells what that means
        # a kernel that does not account writes noughts for everybody
        if now == self.rested and not now.startswith(NEVER_RAN):
            return True
        self.rested = now
        return False

    def line_again(self, root: Root) -> bytes:
        """Return the line of now, an empty one when the process has ended."""
        try:
            if self.stat is None:
                # the start time in the line tells whether it is still the same one
                return root.read_start(f"proc/{self.name}/stat", STAT_BYTES)
            return os.pread(self.stat, STAT_BYTES, 0)
        except OSError as error:
            if error.errno in (errno.ESRCH, errno.ENOENT):
                return b""
            # it is there and cannot be read just now: one that came back would be somebody new
            root.note("processes", reason_of(error), self.name)
            return self.line

    def ran_ns(self, root: Root) -> int | None:
        """Return its CPU time, None if that is not known of all its threads.

        It is exact where the line counts in clock ticks: who has run no longer did nothing.
        """
        data = self._more(root, "schedstat") if self.threads == 1 else None
        if not data:
            return None
        counts = root.parsed(data, parse_schedstat, SUBJECTS["schedstat"], self.name)
        return (counts[0] or None) if counts else None

    def sample(
        self, root: Root, stat: ProcessStat, after_ms: int, hold: Collection[str]
    ) -> ProcessSample:
        """Return the figures of the process, read ``after_ms`` after its tick began.

        The files of it that are named in ``hold`` stay open for the next time.
        """
        self.rss_pages, self.threads, self.state = stat.rss_pages, stat.threads, stat.state
        shared = run_ns = delay_ns = read_bytes = write_bytes = None
        try:
            # kernel tasks have neither pages of their own nor files
            if not self.kernel:
                if data := self._more(root, "statm", hold):
                    shared = parse_statm(data).shared
                if data := self._more(root, "io", hold):
                    read_bytes, write_bytes = parse_io(data)
            if data := self._more(root, "schedstat", hold):
                run_ns, delay_ns = parse_schedstat(data)
        except ParseError:
            root.note("processes", "garbled", self.name)
        return ProcessSample(
            self.number,
            stat.state,
            stat.user_clk,
            stat.system_clk,
            stat.children_user_clk,
            stat.children_system_clk,
            stat.minor_faults,
            stat.major_faults,
            stat.io_delay_clk,
            stat.nice,
            stat.threads,
            stat.processor,
            stat.rss_pages,
            shared,
            run_ns,
            delay_ns,
            read_bytes,
            write_bytes,
            self._waits_in(root) if stat.state == "D" else None,
            after_ms,
        )

    def _more(self, root: Root, file: str, hold: Collection[str] = ()) -> bytes | None:
        if file in self.hidden:
            return None
        descriptor = self.more.get(file)
        try:
            if descriptor is not None:
                return os.pread(descriptor, STAT_BYTES, 0)
            if file not in hold:
                return root.read(f"proc/{self.name}/{file}")
            descriptor = root.open(f"proc/{self.name}/{file}")
            self.more[file] = descriptor
            return os.pread(descriptor, STAT_BYTES, 0)
        except OSError as error:
            reason = reason_of(error)
            # absent although the process still exists: the kernel does not publish it
            if reason != "absent" or root.exists(f"proc/{self.name}/stat"):
                self.hidden.add(file)
                root.note(SUBJECTS[file], reason, self.name)
            return None

    def _waits_in(self, root: Root) -> str | None:
        return root.parse(
            f"proc/{self.name}/wchan", parse_waits_in, "what processes wait in", may_be_absent=True
        )


def used_clk(stat: ProcessStat) -> int:
    """Return the CPU time of a process by its line, in clock ticks."""
    return stat.user_clk + stat.system_clk


def open_stat(root: Root, name: str, *, hold: bool) -> tuple[int | None, bytes, ProcessStat] | None:
    """Return the open file with ``hold``, the line and what it says; None when it cannot be had."""
    descriptor = None
    try:
        if not root.keeps_open:
            line = root.read_start(f"proc/{name}/stat", STAT_BYTES)
            return None, line, parse_process_stat(line)
        descriptor = root.open(f"proc/{name}/stat")
        line = os.pread(descriptor, STAT_BYTES, 0)
        stat = parse_process_stat(line)
        if hold:
            kept, descriptor = descriptor, None
            return kept, line, stat
        return None, line, stat
    except (FileNotFoundError, ProcessLookupError):
        pass  # ended between the listing and the reading
    except OSError as error:
        root.note("processes", reason_of(error), name)
    except ParseError:
        root.note("processes", "garbled", name)
    finally:
        if descriptor is not None:
            os.close(descriptor)
    return None
