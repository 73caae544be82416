"""One computer while it is sampled, and one tick of it while it is read.

``OpenComputer`` keeps open what it can; a ``Reading`` is what the sources of one tick share.
"""

from functools import cached_property

from dunmist.computer import (
    AskedDrives,
    Change,
    ControlGroups,
    DriveHealth,
    Inventory,
    KernelLog,
    LinkQueues,
    Machine,
    PackageLookup,
    ParseError,
    ProcessorTimes,
    Root,
    StartEntry,
    architecture_of,
    find_pressure,
    find_throttling,
    find_zram,
    open_code_events,
    open_task_exits,
    parse_number,
    parse_stat,
    parse_tcp_counters,
    parse_uptime,
    parse_vmstat,
)
from dunmist.errors import UnreadableComputer
from dunmist.sampling.clock import Clock
from dunmist.sampling.code_sampler import CodeSampler
from dunmist.sampling.file_activity import FileActivity
from dunmist.sampling.pace import Due
from dunmist.sampling.process_table import ProcessRound, ProcessTable
from dunmist.sampling.registry import Cadence, Changes
from dunmist.sampling.socket_table import SocketRound, SocketTable, TcpCounts
from dunmist.sampling.waiting_sampler import WaitingSampler

MS_PER_S = 1e3
# a listing of all sockets walks through a table that goes with the memory
ALL_SOCKETS_S = 10.0
TCP_FILES = ("proc/net/snmp", "proc/net/netstat")
# its words for connections made, and for what moves on any of them
OPENED = ("TcpActiveOpens", "TcpPassiveOpens")
# and of memory, for pages that were taken from processes
TAKEN = ("pgsteal_kswapd", "pgsteal_direct", "pswpout")
SEGMENTS = ("TcpInSegs", "TcpOutSegs")
# how long each task waited for storage is accounted only where this says 1 (sysctl(8))
DELAYS, DELAY_ACCOUNTING = "delays of storage", "proc/sys/kernel/task_delayacct"


class OpenComputer:
    """Open files of one computer, and its figures from tick to tick."""

    def __init__(
        self,
        root: Root,
        machine: Machine,
        inventory: Inventory,
        clock: Clock,
        *,
        with_code: bool = False,
        with_files: bool = False,
    ) -> None:
        numbers = [processor.number for processor in machine.processors]
        self.root = root
        self.clock = clock
        self.inventory = inventory
        self.clock_ticks_per_s = machine.clock_ticks_per_s
        self.table = ProcessTable(root, machine.clock_ticks_per_s)
        self.sockets = SocketTable(root)
        self.exits = open_task_exits(root, max(numbers) + 1)
        self._numbers = numbers
        self._has_code = False
        self._code_since_s = 0.0
        self.code: CodeSampler | None = None
        self.sample_code(wanted=with_code)
        self.files = FileActivity(root) if with_files else None
        self.waiting = WaitingSampler(root, architecture_of(root)) if with_files else None
        self.groups = ControlGroups(root)
        self.quotas: dict[str, float | None] = {}
        self.pressure = find_pressure(root)
        self.has_clocks = any(processor.max_khz for processor in machine.processors)
        self.throttling = find_throttling(root, numbers)
        self.zram = find_zram(root)
        # without it nothing is lost that an administrator could not have
        if root.parse(DELAY_ACCOUNTING, parse_number, DELAYS, may_be_absent=True) == 0:
            root.note(DELAYS, "switched-off")
        self.queues = LinkQueues(root)
        self.kernel_log = KernelLog(root)
        self.cadence = Cadence()
        self.changes = Changes()
        self.pages_taken: list[int] = []
        self.start_entries: list[StartEntry] = []  # of the first survey
        # begun before the last tick
        self.packages: PackageLookup | None = None
        self.system_changes: list[Change] | None = None
        self._drives: AskedDrives | None = None

    def sample_code(self, *, wanted: bool) -> None:
        """Begin or cease to sample which code runs; where that is refused it is tried once."""
        if wanted == self._has_code:
            return
        self._has_code = wanted
        if wanted:
            self._code_since_s = self.clock.monotonic_s()
            events = open_code_events(self.root, self._numbers)
            self.code = CodeSampler(self.root, events) if events else None
        elif self.code:
            self.code.close()
            self.code = None

    def ask_drives(self) -> None:
        """Ask the drives how they are; they have until :meth:`drives_read` to answer."""
        if self._drives is None:
            self._drives = AskedDrives(self.root, self.inventory.disks)

    def ask_functions(self) -> None:
        """Have the functions of what was sampled looked up, where code is sampled."""
        if self.code:
            span_s = self.clock.monotonic_s() - self._code_since_s
            self.code.ask_functions(self.table.own, span_s)

    def drives_read(self) -> list[DriveHealth]:
        """Return their answers, once."""
        drives, self._drives = self._drives, None
        return drives.health() if drives else []

    def read_ahead(self, until_s: float) -> None:
        """Begin with what is read after the last tick, so that nobody waits for it then.

        ``until_s`` is when to be done, by the monotonic clock.
        """
        self.ask_drives()
        self.ask_functions()
        self.packages = PackageLookup(self.root, self.table.program_paths())
        self.packages.go_on(lambda: self.clock.monotonic_s() >= until_s)

    def meanwhile(self) -> None:
        """Take what the kernel sends between ticks, before its buffer overflows."""
        if self.exits:
            self.exits.gather()
        if self.code:
            self.code.gather()
        if self.waiting:
            self.waiting.sample()

    def pause_s(self) -> float | None:
        """Longest wait before :meth:`meanwhile`, None if any time will do."""
        return self.waiting.pause_s if self.waiting else None

    def close(self) -> None:
        """Close everything that was kept open, and note what was lost."""
        if self._drives:
            self._drives.leave()
        self.sample_code(wanted=False)
        self.table.close()
        self.sockets.close()
        self.queues.close()
        self.kernel_log.close()
        if self.exits:
            if self.exits.lost:
                self.root.note("ends of short-lived processes", "overflow")
            if self.exits.garbled:
                self.root.note("ends of short-lived processes", "garbled")
            self.exits.close()


class TickContext:
    """One tick being read. What several sources need is read once, when the first one asks."""

    def __init__(
        self, computer: OpenComputer, due: Due, elapsed_s: float, *, is_last: bool
    ) -> None:
        self.computer, self.due, self.is_last = computer, due, is_last
        self.elapsed_s = elapsed_s
        self._began_s = computer.clock.monotonic_s()

    def after_s(self) -> float:
        """Time since the begin of the tick."""
        return self.computer.clock.monotonic_s() - self._began_s

    def after_ms(self) -> int:
        """Time since the begin of the tick, in whole milliseconds."""
        return int(MS_PER_S * self.after_s())

    def is_due(self, name: str, every_s: float) -> bool:
        """Say whether what is read more seldom than each tick is due at this one."""
        return self.computer.cadence.is_due(name, every_s, self.due.at_s, last=self.is_last)

    @property
    def root(self) -> Root:
        """The computer's root."""
        return self.computer.root

    @cached_property
    def times(self) -> ProcessorTimes:
        """The times of the CPUs; raises UnreadableComputer."""
        try:
            return parse_stat(self.root.read_again("proc/stat"))
        except ParseError as error:
            raise UnreadableComputer(
                f"{error}; a computer cannot be sampled without processor times"
            ) from error

    @cached_property
    def uptime_s(self) -> float | None:
        """Seconds since the computer started, sleep included."""
        return self.root.parse("proc/uptime", parse_uptime, "uptime", again=True)

    @cached_property
    def processes(self) -> ProcessRound:
        """All processes, with the owners of sockets that appeared meanwhile."""
        processes = self.computer.table.sample(
            self.elapsed_s, self.after_ms, all_details=self.is_last, pages_went=self._pages_went()
        )
        if self.due.number and any(facts.inode for _, facts in self.found_sockets.appeared):
            self.computer.table.owners_wanted(processes)
        return processes

    def _pages_went(self) -> bool:
        """Whether the kernel took pages from anybody since the tick before."""
        taken = [(self.paging or {}).get(word, 0) for word in TAKEN]
        before, self.computer.pages_taken = self.computer.pages_taken, taken
        return self.paging is None or taken != before

    @cached_property
    def paging(self) -> dict[str, int] | None:
        """The kernel's counters of paging."""
        return self.root.parse("proc/vmstat", parse_vmstat, "paging counters", again=True)

    @cached_property
    def found_sockets(self) -> SocketRound:
        """All sockets: TCP at each tick, the other kinds seldom."""
        opened, segments = (
            [self.tcp[word] for word in words if word in self.tcp] for words in (OPENED, SEGMENTS)
        )
        known = len(opened) == len(OPENED) and len(segments) == len(SEGMENTS)
        return self.computer.sockets.sample(
            all_kinds=self.is_due("all sockets", ALL_SOCKETS_S),
            counts=TcpCounts(sum(opened), sum(segments)) if known else None,
        )

    @cached_property
    def tcp(self) -> dict[str, int]:
        """The kernel's counters of TCP."""
        words: dict[str, int] = {}
        for name in TCP_FILES:
            words |= self.root.parse(name, parse_tcp_counters, "counters of TCP", again=True) or {}
        return words
