"""What the machine's own counters grew by between two ticks."""

from collections.abc import Iterator

from dunmist.computer import ProcessorTimes
from dunmist.sampling import Tick

US_PER_S = 1e6
# user to steal: guest time is counted in user time as well (proc_stat(5))
NICE, IDLE, IO_WAIT, FIELDS = 1, 3, 4, 8


def stalled_share(tick: Tick, before: Tick, subject: str) -> float | None:
    """Return the share of the interval in which some task was held up; None where unpublished."""
    now, then = tick.pressure.get(subject), before.pressure.get(subject)
    if now is None or then is None or now.some_us is None or then.some_us is None:
        return None
    span_s = max(tick.at_s - before.at_s, 1e-3)
    return (now.some_us - then.some_us) / US_PER_S / span_s


def processor_growth(tick: Tick, before: Tick) -> Iterator[list[int]]:
    """Yield what the counters of each logical CPU grew by, in the order of its number."""
    yield from grown_times(tick.processors, before.processors)


def grown_times(now: ProcessorTimes, before: ProcessorTimes) -> Iterator[list[int]]:
    """Yield the same of two readings of ``/proc/stat``."""
    for number, times in sorted(now.times_clk.items()):
        then = before.times_clk.get(number, times)
        yield [new - old for new, old in zip(times, then, strict=False)][:FIELDS]


def idle_of(grown: list[int]) -> int:
    """Return the part of a growth in which nothing ran."""
    return sum(grown[IDLE : IO_WAIT + 1])
