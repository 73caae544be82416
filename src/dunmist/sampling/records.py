"""Define the records of sampling; each is one line of a capture file.

``process`` is given once for each identity and again never; a program that replaces itself
(execve(2)) is an ``event``. Counters are raw, as the kernel gave them.
"""

from typing import Literal

import msgspec

from dunmist.computer import (
    Counter,
    DiskSample,
    GraphicsSample,
    GraphicsUse,
    GroupSample,
    Identity,
    KernelMessage,
    LinkSample,
    LoadAverage,
    PowerSupply,
    ProcessDetail,
    ProcessFacts,
    ProcessorTimes,
    ProcessSample,
    QueueSample,
    SocketFacts,
    SocketSample,
    StallTotals,
    ThreadSample,
    ThrottleSample,
    WaitingCall,
)
from dunmist.sampling.code_sampler import CodeSample
from dunmist.sampling.exited_tasks import ExitSum
from dunmist.sampling.file_activity import CharacterCounts, FileSample

MS_PER_S = 1e3
What = Literal["gap", "asleep", "clock-set", "exit", "exec", "processors"]


class ProcessLine(msgspec.Struct, frozen=True, tag_field="kind", tag="process"):
    """An identity seen for the first time; ``id`` is what later records call it."""

    id: Identity
    tick: Counter
    facts: ProcessFacts


class SocketLine(msgspec.Struct, frozen=True, tag_field="kind", tag="socket"):
    """A socket seen for the first time; ``id`` is what later records call it."""

    id: Identity
    tick: Counter
    facts: SocketFacts


class Event(msgspec.Struct, frozen=True, omit_defaults=True, tag_field="kind", tag="event"):
    """Something that happened before or at a tick."""

    what: What  # gap, asleep, clock-set, exit, exec or processors
    tick: Counter
    count: Counter | None = None  # ticks missed by a gap, or CPUs online from here on
    seconds: float | None = None  # slept, or by which the wall clock jumped
    processes: list[Identity] = []  # those that exited, or the one that runs another program
    facts: ProcessFacts | None = None  # of the new program


class Tick(msgspec.Struct, frozen=True, omit_defaults=True, tag_field="kind", tag="tick"):
    """One round of reading; lists hold what changed since it was read before."""

    n: Counter
    due_s: float  # after the first tick, by the monotonic clock
    at_s: float
    late: bool  # began too late to count as even
    took_s: float  # of reading
    processors: ProcessorTimes
    clocks_khz: list[Counter | None] | None
    load: LoadAverage | None
    uptime_s: float | None
    pressure: dict[str, StallTotals]
    memory: dict[str, Counter] | None  # kernel's own words (proc_meminfo(5))
    paging: dict[str, Counter] | None  # kernel's own words (/proc/vmstat)
    alive: int  # number of processes
    processes: list[ProcessSample]
    threads: list[ThreadSample]  # of busy processes
    own_cpu_s: float  # since the sampler started
    own_rss_bytes: Counter | None
    details: list[ProcessDetail] = []
    exits: list[ExitSum] = []
    disks: list[DiskSample] = []
    links: list[LinkSample] = []
    tcp: dict[str, Counter] = {}
    queues: list[QueueSample] = []
    sockets: list[SocketSample] = []
    sockets_ended: list[Identity] = []
    # index in the inventory, raw reading or None if it failed
    sensors: list[tuple[int, int | None]] = []
    throttles: list[ThrottleSample] = []
    supplies: list[PowerSupply] = []
    graphics: list[GraphicsSample] = []
    graphics_use: list[GraphicsUse] = []
    groups: list[GroupSample] = []
    interrupts: dict[str, Counter] = {}
    zram_bytes: Counter | None = None  # memory held by compressed swap
    complaints: list[KernelMessage] = []
    code: list[CodeSample] = []  # of the busiest programs
    files: list[FileSample] = []  # of the programs that move most, those that moved
    file_totals: list[CharacterCounts] = []  # of those programs
    calls: list[WaitingCall] = []  # calls of processes in state D
    # how long after ``at_s`` a source began to be read, by its first field
    after_ms: dict[str, Counter] = {}

    def after_s(self, field: str) -> float:
        """Delay of a source after the begin of the tick, by the first of its fields."""
        return self.after_ms.get(field, 0) / MS_PER_S
