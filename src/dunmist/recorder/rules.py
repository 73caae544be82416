"""Light rules on the kernel's own figures: when is something worth keeping?

The stall totals of ``/proc/pressure`` (Documentation/accounting/psi.rst) are read at every tick.
Their growth is what the kernel's triggers would wait for. A kernel without them has its run queue.
Nothing is judged here, and nothing heavy imported.
"""

import tomllib
from importlib.resources import files
from typing import Literal

import msgspec

from dunmist.recorder.growth import NICE, idle_of, processor_growth, stalled_share
from dunmist.recorder.latest_state import Known
from dunmist.sampling import Tick

BITS = 8.0
# as in diagnosis: a packet or more waits to be sent
QUEUED_BYTES = 1_000
# above one full core, with the error of counting by clock ticks
ONE_AND_A_BIT = 1.15
FigureWord = Literal[
    "cpu-stalled",
    "ordinary-use",
    "fullest-process",
    "memory-stalled",
    "io-stalled",
    "link-full",
    "throttled",
    "killed",
    "stuck-for",
]


class Rule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A figure that is at least so much for so long."""

    figure: FigureWord
    at_least: float
    for_s: float  # without a break
    text: str  # half a sentence
    also: FigureWord | None = None  # a second figure that must hold as well
    also_least: float = 0.0


def load_watch_rules() -> dict[str, Rule]:
    """Return the rules by name."""
    text = (files("dunmist.recorder") / "rules.toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text), dict[str, Rule])


class Rules:
    """Follows a run; ``add`` gives which rules hold at a tick, and since when."""

    def __init__(
        self, rules: dict[str, Rule], clock_ticks_per_s: int, speeds_bits: dict[str, int]
    ) -> None:
        self._rules = rules
        self._figures = _Figures(clock_ticks_per_s, speeds_bits)
        self._since_s: dict[str, float] = {}

    def add(self, tick: Tick, known: Known) -> dict[str, float]:
        """Return the rules that have held for long enough, with the moment since when."""
        before_s = self._figures.before_s
        figures = self._figures.at(tick, known)
        held = {}
        for name, rule in self._rules.items():
            if not _holds(rule, figures):
                self._since_s.pop(name, None)
                continue
            # a figure is that of the interval before its tick
            since_s = self._since_s.setdefault(name, before_s)
            if tick.at_s - since_s >= rule.for_s:
                held[name] = since_s
        return held


def _holds(rule: Rule, figures: dict[str, float]) -> bool:
    if figures.get(rule.figure, 0.0) < rule.at_least:
        return False
    return rule.also is None or figures.get(rule.also, rule.also_least) >= rule.also_least


class _Figures:
    """The figures of each interval, by their word; one that is not published is left out."""

    def __init__(self, clock_ticks_per_s: int, speeds_bits: dict[str, int]) -> None:
        self._clk = clock_ticks_per_s
        self._speeds_bits = speeds_bits
        self._tick: Tick | None = None
        self._used_clk: dict[int, int] = {}
        self._links: dict[str, tuple[int, int]] = {}
        self._throttles: dict[int, int] = {}
        self._stuck_since_s: dict[int, float] = {}

    @property
    def before_s(self) -> float:
        """When the tick before was taken."""
        return self._tick.at_s if self._tick else 0.0

    def at(self, tick: Tick, known: Known) -> dict[str, float]:
        """Return the figures of the interval that ends with a tick."""
        before, self._tick = self._tick, tick
        own = self._of_processes(tick, before, known)
        throttled, moved = self._throttled(tick), self._moved(tick)
        if before is None:
            return {}
        span_s = max(tick.at_s - before.at_s, 1e-3)
        conditions = {**own, "throttled": throttled}
        for word, subject in (
            ("cpu-stalled", "cpu"),
            ("memory-stalled", "memory"),
            ("io-stalled", "io"),
        ):
            stalled = stalled_share(tick, before, subject)
            if stalled is not None:
                conditions[word] = stalled
        conditions["ordinary-use"] = _ordinary_use(tick, before)
        if "cpu-stalled" not in conditions and tick.load is not None:
            waiting = tick.load.runnable - len(tick.processors.times_clk)
            conditions["cpu-stalled"] = 1.0 if waiting > 1 else 0.0
        shares = [
            BITS * bytes_ / span_s / speed
            for link, bytes_ in moved.items()
            if (speed := self._speeds_bits.get(link))
        ]
        # without a speed, what waits to be sent at tick after tick says that it is full
        waits = any(queue.waiting_bytes > QUEUED_BYTES for queue in known.queues)
        conditions["link-full"] = max([*shares, 1.0 if waits else 0.0])
        paging, paged = tick.paging or {}, before.paging or {}
        conditions["killed"] = float(paging.get("oom_kill", 0) - paged.get("oom_kill", 0))
        return conditions

    def _of_processes(self, tick: Tick, before: Tick | None, known: Known) -> dict[str, float]:
        """Return what the fullest process used, and how long the longest one was stuck."""
        fullest, used_clk, stuck = 0.0, {}, {}
        span_s = tick.at_s - before.at_s if before else 0.0
        for line, sample in known.states():
            used = sample.user_clk + sample.system_clk
            used_clk[line.id] = used
            cores = (used - self._used_clk.get(line.id, used)) / self._clk / max(span_s, 1e-3)
            # what gives way is in nobody's way, and what has several threads at work hangs on none
            if sample.nice <= 0 and cores < ONE_AND_A_BIT:
                fullest = max(fullest, cores)
            if sample.state == "D" and not line.facts.kernel:
                stuck[line.id] = self._stuck_since_s.get(line.id, tick.at_s)
        self._used_clk, self._stuck_since_s = used_clk, stuck
        longest = max((tick.at_s - since_s for since_s in stuck.values()), default=0.0)
        return {"fullest-process": fullest, "stuck-for": longest}

    def _throttled(self, tick: Tick) -> float:
        grown = 0
        for throttle in tick.throttles:
            count = (throttle.core or 0) + (throttle.package or 0)
            grown += max(0, count - self._throttles.get(throttle.processor, count))
            self._throttles[throttle.processor] = count
        return float(grown)

    def _moved(self, tick: Tick) -> dict[str, int]:
        """Return the bytes of the fuller direction of each link that moved any."""
        moved = {}
        for link in tick.links:
            now = (link.received_bytes, link.sent_bytes)
            then = self._links.get(link.name, now)
            moved[link.name] = max(now[0] - then[0], now[1] - then[1])
            self._links[link.name] = now
        return moved


def _ordinary_use(tick: Tick, before: Tick) -> float:
    """Return how much of all CPUs work of ordinary priority used."""
    whole = ordinary = 0
    for grown in processor_growth(tick, before):
        whole += sum(grown)
        ordinary += sum(grown) - grown[NICE] - idle_of(grown)
    return ordinary / whole if whole > 0 else 0.0
