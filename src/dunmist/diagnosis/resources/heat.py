"""Resource ``heat``: does the processor lose clock because it is hot?

A hot processor that keeps its clock limits nothing. What it loses is judged only while it is busy:
an idle one lowers its clock to save power. The throttle counters, where there are any, are the
kernel's own word.
"""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import EvidenceFigure, figure
from dunmist.diagnosis.resources.cpu import CPU_SAVING, cpu_coverage
from dunmist.diagnosis.resources.declared import Demand, Resource, ResourceInstance, flow_demand
from dunmist.series import ProcessorSensor, Rate
from dunmist.thresholds.levels import heat_levels


class Heat(NamedTuple):
    """Facts of the CPU's heat."""

    sensor: ProcessorSensor
    celsius: Rate
    margin: Rate  # kelvin to the critical temperature
    lost: Rate  # share of the clock that busy CPUs lack
    throttles: Rate | None  # how often heat cut the clock, a second; None if it is not counted
    critical_celsius: float
    is_critical_known: bool  # false where a usual value stands for it


def find_heat(exam: Examination) -> Heat | None:
    """Return the facts of the processor's heat, None if no sensor tells."""
    sensor = exam.series.processor_sensor
    if sensor is None:
        return None
    celsius = sensor.level.at_ends()
    point = sensor.critical or exam.limits.heat.assumed_critical_celsius
    counts = [rate for _, rate in sorted(exam.series.devices.throttled.items())]
    return Heat(
        sensor=sensor,
        celsius=celsius,
        margin=celsius * -1.0 + point,
        lost=_lost_clock(exam),
        throttles=Rate.greatest_of(counts) if counts else None,
        critical_celsius=point,
        is_critical_known=bool(sensor.critical),
    )


def _lost_clock(exam: Examination) -> Rate:
    """Return the share of the clock that busy CPUs lack, in each interval."""
    machine, table = exam.series.machine, exam.limits.heat
    ratios = [
        (processor.clock_hz.at_ends() / processor.max_clock_hz).where(
            processor.busy.at_least(table.busy_processor)
        )
        for processor in machine.processors
        if processor.clock_hz and processor.max_clock_hz
    ]
    if not ratios:
        return Rate.unknown(machine.line)
    values = np.array([ratio.values for ratio in ratios])
    known = ~np.isnan(values)
    count = known.sum(axis=0)
    total = np.where(known, values, 0.0).sum(axis=0)
    mean = np.where(count > 0, total / np.maximum(count, 1), np.nan)
    return (Rate(machine.line, mean) / table.full_clock * -1.0 + 1.0).between(0.0, np.inf)


def _instances(exam: Examination) -> list[ResourceInstance]:
    heat, table = exam.once(find_heat), exam.limits.heat
    if heat is None:
        return []
    lost = heat.lost.known_or(0.0)
    is_throttled = _is_throttled(heat, table.throttled_share)
    conditions = heat_levels(heat.margin, lost, table, is_throttled=is_throttled)
    span = heat.critical_celsius - table.room_celsius
    used = ((heat.celsius - table.room_celsius) / span).between(0.0, 1.0)
    return [ResourceInstance(heat.sensor.name, used, lost, conditions, heat_evidence(exam, heat))]


def _is_throttled(heat: Heat, least_share: float) -> bool:
    if heat.throttles is None:
        return False
    some = Rate(heat.throttles.line, (heat.throttles.values > 0).astype(float))
    return some.mean() >= least_share


def heat_evidence(exam: Examination, heat: Heat) -> list[EvidenceFigure]:
    """Return the figures that speak of heat."""
    name, celsius = heat.sensor.name, exam.typical(heat.celsius)
    last, room = heat.celsius.last(), exam.limits.heat.room_celsius
    point = heat.critical_celsius
    evidence = [
        figure("heat-sensor", np.nan if last is None else last, name=name, why=heat.sensor.why),
        figure("heat-celsius", celsius, name=name, of=point)
        if heat.is_critical_known
        else figure("heat-celsius-assumed", celsius, name=name, of=point),
    ]
    if heat.celsius.is_known:
        used = exam.typical(exam.series.machine.used)
        evidence.append(figure("heat-rise", celsius - room, of=used, room=room))
    if heat.lost.is_known:
        evidence.append(figure("heat-lost-clock", exam.typical(heat.lost.known_or(0.0))))
    if heat.throttles is not None:
        evidence.append(figure("heat-throttles", float(round(heat.throttles.total()))))
    return evidence


def _demand(exam: Examination) -> Demand:
    """Return the CPU time of each application: low-priority time heats like any other."""
    return flow_demand(
        exam, lambda application: application.cores, "cores", exam.series.machine.busy_cores
    )


HEAT = Resource("heat", 0, _instances, _demand, CPU_SAVING, cpu_coverage, follows_at_once=False)
