"""Add up usage over days and months, by program and by resource."""

from collections.abc import Callable, Sequence
from math import fsum
from typing import Literal, NamedTuple

from dunmist.history.sums import HOUR_S, ApplicationSum, Period, ResourceSum, add_up, quantile

By = Literal["cpu", "memory", "disk", "network", "energy"]
# a rate of a shorter part of an hour says little of that hour
RATE_LEAST_S = 300.0
TAIL = 0.95


class Amount(NamedTuple):
    """Figure that programs are compared by: a sum, and the time for which it is known."""

    name: str
    unit: Literal["s", "bytes", "J"]
    rate_unit: Literal["cores", "bytes", "bytes/s", "W"]
    of: Callable[[ApplicationSum], float]
    is_level: bool = False  # a mean over time, and no sum


AMOUNTS: dict[By, Amount] = {
    "cpu": Amount("CPU time", "s", "cores", lambda each: each.cpu_s),
    "memory": Amount("memory of its own", "bytes", "bytes", lambda each: each.memory_byte_s, True),
    "disk": Amount("disk", "bytes", "bytes/s", lambda each: each.disk_bytes),
    "network": Amount("network over TCP", "bytes", "bytes/s", lambda each: each.network_bytes),
    "energy": Amount("energy of the CPU", "J", "W", lambda each: each.energy_j),
}


class Busiest(NamedTuple):
    """The hour in which somebody took most."""

    began_s: int
    offset_s: int
    rate: float


class Usage(NamedTuple):
    """Usage of one program."""

    name: str
    amount: float  # a sum, or a mean over the recorded time
    share: float | None  # of what all programs took
    peak: float | None  # of memory: the most it had
    busiest: Busiest | None
    curve: list[float | None]  # rates over time; None if nothing was recorded


class ResourceUse(NamedTuple):
    """Use of one resource; shares."""

    name: str
    used_mean: float | None
    used_p95: float | None
    held_mean: float | None
    held_p95: float | None
    curve: list[float | None]


def usage_by(
    periods: Sequence[Period], by: By, span: tuple[float, float], marks: int
) -> list[Usage]:
    """Return the usage of each program, the greatest first; the curve has ``marks`` values."""
    amount = AMOUNTS[by]
    recorded_s = fsum(period.sampled_s for period in periods)
    if recorded_s <= 0:
        return []
    mark_of = _mark_index(span, marks)
    seconds = [0.0] * marks
    for period in periods:
        seconds[mark_of(period)] += period.sampled_s
    wholes: dict[str, ApplicationSum] = {}
    curves: dict[str, list[float]] = {}
    busiest: dict[str, Busiest] = {}
    for period in periods:
        mark = mark_of(period)
        for name, each in period.applications.items():
            if name not in wholes:
                wholes[name], curves[name] = ApplicationSum(), [0.0] * marks
            wholes[name].add(each)
            curves[name][mark] += amount.of(each)
            if period.length_s == HOUR_S and period.sampled_s >= RATE_LEAST_S:
                rate = amount.of(each) / period.sampled_s
                if name not in busiest or rate > busiest[name].rate:
                    busiest[name] = Busiest(period.began_s, period.offset_s, rate)
    whole = fsum(amount.of(each) for each in wholes.values())
    used = [
        Usage(
            name=name,
            amount=amount.of(each) / recorded_s if amount.is_level else amount.of(each),
            share=amount.of(each) / whole if whole > 0 else None,
            peak=each.memory_peak_bytes if amount.is_level else None,
            busiest=busiest.get(name),
            curve=[
                part / span_s if span_s > 0 else None
                for part, span_s in zip(curves[name], seconds, strict=True)
            ],
        )
        for name, each in wholes.items()
        if amount.of(each) > 0
    ]
    return sorted(used, key=lambda each: -each.amount)


def unattributed_cpu_s(periods: Sequence[Period]) -> float:
    """Return the CPU time that the kernel counted and no program has: what ended between ticks."""
    counted = 0.0
    for period in periods:
        cpu = period.resources.get("cpu")
        if cpu is not None:
            counted += cpu.used_share_s * period.cpus
    attributed = fsum(each.cpu_s for period in periods for each in period.applications.values())
    return max(0.0, counted - attributed)


def resources_of(
    periods: Sequence[Period], span: tuple[float, float], marks: int
) -> list[ResourceUse]:
    """Return the usage of each resource."""
    mark_of = _mark_index(span, marks)
    parts: dict[str, list[ResourceSum]] = {}
    for period in periods:
        mark = mark_of(period)
        for name, each in period.resources.items():
            if name not in parts:
                parts[name] = [ResourceSum() for _ in range(marks)]
            add_up(parts[name][mark], each)
    wholes = {name: ResourceSum() for name in parts}
    for name, curve in parts.items():
        for part in curve:
            add_up(wholes[name], part)
    return [
        ResourceUse(
            name,
            _mean(each.used_share_s, each.used_s),
            quantile(each.used_bins, TAIL),
            _mean(each.held_share_s, each.held_s),
            quantile(each.held_bins, TAIL),
            [_mean(part.used_share_s, part.used_s) for part in parts[name]],
        )
        for name, each in wholes.items()
    ]


def hours_short_of(periods: Sequence[Period], resource: str, held_least: float) -> tuple[int, int]:
    """Return in how many recorded hours tasks waited for a resource, and how many there were.

    An hour counts in which they waited for at least this share of the time.
    """
    short = known = 0
    for period in periods:
        each = period.resources.get(resource)
        if each is None or period.length_s != HOUR_S or each.held_s < RATE_LEAST_S:
            continue
        known += 1
        short += each.held_share_s / each.held_s >= held_least
    return short, known


def _mark_index(span: tuple[float, float], marks: int) -> Callable[[Period], int]:
    since_s, until_s = span
    step_s = max(1.0, (until_s - since_s) / marks)
    return lambda period: min(
        marks - 1, max(0, int((period.began_s + period.length_s / 2 - since_s) / step_s))
    )


def _mean(whole: float, seconds: float) -> float | None:
    return whole / seconds if seconds > 0 else None
