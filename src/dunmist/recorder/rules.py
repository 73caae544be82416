"""Light rules on the kernel's own figures: when is something worth keeping?

The stall totals of ``/proc/pressure`` (Documentation/accounting/psi.rst) are read at every tick.
Their growth is what the kernel's triggers would wait for. A kernel without them has its run queue.
Nothing is judged here, and nothing heavy imported.
"""

import tomllib
from importlib.resources import files
from typing import Literal

import msgspec

from dunmist.recorder.latest_state import Known
from dunmist.sampling import Tick
from dunmist.sampling.deltas import NICE, Interval
from dunmist.thresholds import Thresholds

BITS = 8.0
# clock ticks of 10 ms are counted at both ends of an interval, which may be of 0.2 s only
COUNTED_BY_TICKS = 0.1
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

STALLED: dict[str, FigureWord] = {
    "cpu": "cpu-stalled",
    "memory": "memory-stalled",
    "io": "io-stalled",
}


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
        self, rules: dict[str, Rule], speeds_bits: dict[str, int], limits: Thresholds
    ) -> None:
        self._rules = rules
        self._speeds_bits = speeds_bits
        self._limits = limits
        self._before_s = 0.0
        self._stuck_since_s: dict[int, float] = {}
        self._since_s: dict[str, float] = {}

    def add(self, tick: Tick, interval: Interval | None, known: Known) -> dict[str, float]:
        """Return the rules that have held for long enough, with the time since when.

        ``interval`` is what ended with the tick, None at the first one.
        """
        figures = self._figures(tick, interval, known)
        held = {}
        for name, rule in self._rules.items():
            if not _holds(rule, figures):
                self._since_s.pop(name, None)
                continue
            # a figure is that of the interval before its tick
            since_s = self._since_s.setdefault(name, self._before_s)
            if tick.at_s - since_s >= rule.for_s:
                held[name] = since_s
        self._before_s = tick.at_s
        return held

    def _figures(
        self, tick: Tick, interval: Interval | None, known: Known
    ) -> dict[FigureWord, float]:
        """Return the figures of an interval; one that is not published is left out."""
        stuck_for_s = self._stuck_for_s(tick, known)
        if interval is None:
            return {}
        figures: dict[FigureWord, float] = {
            "stuck-for": stuck_for_s,
            "fullest-process": self._fullest(interval, known),
            "ordinary-use": _ordinary_use(interval),
            "throttled": float(interval.throttles),
            "killed": float(interval.killed),
            "link-full": self._link_full(interval, known),
        }
        for resource, word in STALLED.items():
            if resource in interval.stalled:
                figures[word] = interval.stalled[resource]
        if "cpu-stalled" not in figures and tick.load is not None:
            waiting = tick.load.runnable - len(tick.processors.times_clk)
            figures["cpu-stalled"] = 1.0 if waiting > 1 else 0.0
        return figures

    def _fullest(self, interval: Interval, known: Known) -> float:
        """Return the use of one CPU by the busiest process.

        What gives way is in nobody's way, and what has several threads at work hangs on none.
        """
        most = self._limits.core.single_core_max + COUNTED_BY_TICKS
        return max(
            (
                cores
                for line, sample in known.states()
                if sample.nice <= 0
                and (use := interval.processes.get(line.id)) is not None
                and (cores := use.cores or 0.0) < most
            ),
            default=0.0,
        )

    def _stuck_for_s(self, tick: Tick, known: Known) -> float:
        """Return the longest unbroken wait of a process."""
        self._stuck_since_s = {
            line.id: self._stuck_since_s.get(line.id, tick.at_s)
            for line, sample in known.states()
            if sample.state == "D" and not line.facts.kernel
        }
        return max((tick.at_s - since_s for since_s in self._stuck_since_s.values()), default=0.0)

    def _link_full(self, interval: Interval, known: Known) -> float:
        shares = [
            BITS * (link.fuller_bytes_per_s or 0.0) / speed
            for name, link in interval.links.items()
            if (speed := self._speeds_bits.get(name))
        ]
        # without a speed, what waits to be sent at tick after tick says that it is full
        most = self._limits.link.queued_bytes
        waits = any(queue.waiting_bytes > most for queue in known.queues)
        return max([*shares, 1.0 if waits else 0.0])


def _holds(rule: Rule, figures: dict[FigureWord, float]) -> bool:
    if figures.get(rule.figure, 0.0) < rule.at_least:
        return False
    return rule.also is None or figures.get(rule.also, rule.also_least) >= rule.also_least


def _ordinary_use(interval: Interval) -> float:
    """Return the share of all CPUs used at ordinary priority."""
    cpus = interval.cpus.values()
    return sum(cpu.busy - cpu.shares[NICE] for cpu in cpus) / max(1, len(cpus))
