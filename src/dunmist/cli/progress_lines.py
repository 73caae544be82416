"""Format the progress lines that are shown while sampling runs.

Three lines, redrawn at each tick: time, the load of each logical CPU, the busiest
applications so far.
"""

from typing import TYPE_CHECKING

from dunmist.applications import RunningUse
from dunmist.computer import Machine
from dunmist.harmless import cut_middle, harmless
from dunmist.jobs.interim_verdict import InterimVerdict
from dunmist.sampling import Observer, Plan, Record, Tick
from dunmist.sampling.deltas import Deltas, Interval

if TYPE_CHECKING:
    from rich.live import Live
    from rich.text import Text

SHADES = " ▁▂▃▄▅▆▇█"
BAR_WIDTH = 30
# names that fit on the line of progress
BUSIEST = 3


class Progress:
    """Follows the records of a running capture and redraws at each tick."""

    def __init__(
        self, live: "Live", plan: Plan, observer: Observer | None, machine: Machine
    ) -> None:
        self._live = live
        self._plan = plan
        self._processors = len(machine.processors)
        self._deltas = Deltas(machine)
        self._use = RunningUse(observer)
        self._interim: InterimVerdict | None = None

    def add(self, record: Record | InterimVerdict) -> None:
        """Take one record into account, or what is believed so far."""
        if isinstance(record, InterimVerdict):
            self._interim = record
            return
        interval = self._deltas.add(record)
        self._use.add(record, interval)
        if isinstance(record, Tick):
            self._live.update(self._drawn(record, interval), refresh=True)

    def _drawn(self, tick: Tick, interval: Interval | None) -> "Text":
        from rich.text import Text

        done = min(1.0, tick.at_s / self._plan.duration_s)
        filled = round(BAR_WIDTH * done)
        lines = [
            f"sampling  {'━' * filled}{'┄' * (BAR_WIDTH - filled)}  "
            f"{tick.at_s:.0f} of {self._plan.duration_s:g} s",
            f"cpu load  {self._strip(interval)}",
            "busiest   " + self._busiest(),
        ]
        if self._interim is not None:
            age_s = tick.at_s - self._interim.at_s
            lines.append(f"{age_s:3.0f} s ago " + _interim_text(self._interim))
        return Text("\n".join(lines), no_wrap=True, overflow="ellipsis")

    def _strip(self, interval: Interval | None) -> str:
        busy = [cpu.busy for cpu in interval.cpus.values()] if interval else []
        strip = "".join(SHADES[round(share * (len(SHADES) - 1))] for share in busy)
        return f"│{strip}│ one mark for each of {self._processors}"

    def _busiest(self) -> str:
        named = [
            f"{cut_middle(harmless(name), 24)} {cores:.2f} cores"
            for name, cores in self._use.busiest(BUSIEST)
        ]
        return ", ".join(named) or "nothing yet"


def _interim_text(interim: InterimVerdict) -> str:
    """Return the verdict so far, and how firm that is."""
    if interim.limiting is None:
        return f"{interim.level}, nothing limits"
    by = f", {cut_middle(harmless(interim.culprit), 24)}" if interim.culprit else ""
    return f"{interim.limiting} {interim.level}{by}, confidence {100 * interim.confidence:.0f} %"
