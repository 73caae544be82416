"""Put kernel messages on the time line of the capture.

A complaint from before the capture has a negative time.
"""

from collections.abc import Sequence
from typing import NamedTuple

from dunmist.computer import KernelMessage, KernelMessageKind
from dunmist.sampling import Tick


class KernelMessageSeries(NamedTuple):
    """All lines of one class about one thing; ``during`` of all ``times`` came while sampling.

    Times are seconds since the first tick; ``text`` is the newest line.
    """

    kind: KernelMessageKind
    about: str | None
    times: int
    during: int
    first_s: float
    last_s: float
    text: str
    pid: int | None


class KernelMessageCollector:
    """Gathers what ticks say of the kernel's log."""

    fields = ("complaints",)

    def __init__(self) -> None:
        self._found: list[tuple[float, bool, KernelMessage]] = []

    def add(self, row: int, tick: Tick) -> None:
        """Add the figures of the ``row``-th tick; the first has what the log held before."""
        self._found += [(tick.at_s, row > 0, complaint) for complaint in tick.complaints]

    def finish(self, began_s: float) -> Sequence[KernelMessageSeries]:
        """Return them, the newest first; ``began_s`` is when the first tick was."""
        series: dict[tuple[KernelMessageKind, str | None], KernelMessageSeries] = {}
        for at_s, during, message in self._found:
            before = series.get((message.kind, message.about))
            now_s = at_s - began_s
            series[message.kind, message.about] = KernelMessageSeries(
                message.kind,
                message.about,
                (before.times if before else 0) + message.count,
                (before.during if before else 0) + (message.count if during else 0),
                before.first_s if before else now_s - message.first_ago_s,
                now_s - message.last_ago_s,
                message.text,
                message.pid,
            )
        return sorted(series.values(), key=lambda message_series: -message_series.last_s)
