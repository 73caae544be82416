"""What sampling gives, one record at a time; each is one line of a capture file.

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
)
from dunmist.sampling.exited_tasks import ExitSum

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
    """Something that happened before or at a tick.

    ``gap``: ``count`` ticks were missed. ``asleep``: the computer slept for ``seconds``.
    ``clock-set``: the wall clock jumped by ``seconds``, which no interval depends on. ``exit``:
    ``processes`` were no longer there. ``exec``: ``processes`` holds one that is now ``facts``.
    ``processors``: ``count`` logical processors are online from here on.
    """

    what: What
    tick: Counter
    count: Counter | None = None
    seconds: float | None = None
    processes: list[Identity] = []
    facts: ProcessFacts | None = None


class Tick(msgspec.Struct, frozen=True, omit_defaults=True, tag_field="kind", tag="tick"):
    """One round of reading.

    ``due_s`` and ``at_s`` count from the first tick; ``took_s`` is how long reading took.
    ``after_ms`` says how long after ``at_s`` a source of time counters began to be read, by the
    first of its fields, where it matters. ``memory``, ``paging``, ``tcp`` and ``interrupts`` carry
    the kernel's own words, ``zram_bytes`` is memory held by compressed swap. ``processes``,
    ``disks``, ``links``, ``queues``, ``tcp``, ``sensors``, ``throttles``, ``interrupts`` and
    ``sockets`` hold only what changed since it was read before. ``sensors`` are pairs of the place
    in the header's list and the raw reading, None for no reading. ``complaints`` are new in the
    kernel's log, at the first tick all that it holds. ``own_cpu_s`` and ``own_rss_bytes`` are the
    sampler's.
    """

    n: Counter
    due_s: float
    at_s: float
    late: bool
    took_s: float
    processors: ProcessorTimes
    clocks_khz: list[Counter | None] | None
    load: LoadAverage | None
    uptime_s: float | None
    pressure: dict[str, StallTotals]
    memory: dict[str, Counter] | None
    paging: dict[str, Counter] | None
    alive: int
    processes: list[ProcessSample]
    threads: list[ThreadSample]
    own_cpu_s: float
    own_rss_bytes: Counter | None
    details: list[ProcessDetail] = []
    exits: list[ExitSum] = []
    disks: list[DiskSample] = []
    links: list[LinkSample] = []
    tcp: dict[str, Counter] = {}
    queues: list[QueueSample] = []
    sockets: list[SocketSample] = []
    sockets_ended: list[Identity] = []
    sensors: list[tuple[int, int | None]] = []
    throttles: list[ThrottleSample] = []
    supplies: list[PowerSupply] = []
    graphics: list[GraphicsSample] = []
    graphics_use: list[GraphicsUse] = []
    groups: list[GroupSample] = []
    interrupts: dict[str, Counter] = {}
    zram_bytes: Counter | None = None
    complaints: list[KernelMessage] = []
    after_ms: dict[str, Counter] = {}

    def after_s(self, field: str) -> float:
        """How long after the tick began a source was read, by the first of its fields."""
        return self.after_ms.get(field, 0) / MS_PER_S
