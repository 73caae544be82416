"""The resource that limits, and the culprits' part in it, over the same time axis."""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.diagnosis import Diagnosis, Resource, ResourceState
from dunmist.reports.figures import shown_state
from dunmist.reports.pictures.style import (
    COLOURS,
    FAINT,
    INK,
    canvas,
    finish,
    legend,
    plain_label,
    step_line,
    styles,
    title,
)
from dunmist.series import Series
from dunmist.series.naming import distinct_name
from dunmist.series.rates import Floats

CULPRITS_SHOWN = 4
MIB = float(1 << 20)


def draw_limiting(series: Series, diagnosis: Diagnosis, identity: int | None = None) -> Figure:
    """Return the limiting resource, or the fullest where none limits, and who uses it."""
    del identity
    state = shown_state(diagnosis)
    figure, axes = canvas([1.7, 2.2])
    _draw_state(axes[0], series, state)
    _draw_users(axes[1], series, diagnosis, state.resource)
    finish(axes, series)
    return figure


def _draw_state(panel: Axes, series: Series, state: ResourceState) -> None:
    at_s, trace = series.machine.at_s, state.trace
    if trace is None:
        return
    step_line(panel, 100.0 * trace.used, at_s, color=INK, linewidth=1.5, label="used")
    if trace.pressure is not None:
        lost = "clock lost" if state.resource == "heat" else "work held up"
        panel.stairs(100.0 * trace.pressure, at_s, fill=True, color=COLOURS[1], alpha=0.55,
                     label=lost)  # fmt: skip
    panel.set_ylim(0, 104)
    panel.set_ylabel("%")
    name = " ".join(filter(None, (state.resource, state.name)))
    title(panel, f"{plain_label(name)}: {state.level}")
    legend(panel)


def _draw_users(panel: Axes, series: Series, diagnosis: Diagnosis, resource: Resource) -> None:
    """Draw what the culprits had of it, stacked, below what all had."""
    amounts, whole, unit = _amounts(series, resource)
    at_s = series.machine.at_s
    numbers = [one.application for one in diagnosis.culprits[:CULPRITS_SHOWN]]
    if not numbers:
        numbers = [int(number) for number in np.argsort(-amounts.sum(axis=0))[:CULPRITS_SHOWN]]
    below = np.zeros(len(amounts))
    for number, (colour, _, hatch) in zip(numbers, styles(), strict=False):
        top = below + amounts[:, number]
        name = plain_label(distinct_name(series, number))
        panel.stairs(top, at_s, baseline=below, fill=True, facecolor=colour, hatch=hatch,
                     edgecolor="white", linewidth=0.4, label=name)  # fmt: skip
        below = top
    panel.stairs(np.maximum(whole, below), at_s, baseline=below, fill=True, color=FAINT, alpha=0.3,
                 label="all others")  # fmt: skip
    panel.set_ylim(bottom=0)
    panel.set_ylabel(unit)
    title(panel, "Who has it")
    legend(panel)


def _amounts(series: Series, resource: Resource) -> tuple[Floats, Floats, str]:
    """Return what each application had in each interval, what all had, and the unit."""
    processes, machine = series.processes, series.machine
    if resource in ("memory", "swap"):
        held = processes.private_bytes[1:] / MIB
        return held, held.sum(axis=1), "MiB of its own"
    if resource == "disk":
        moved = (processes.read_bytes_per_s + processes.write_bytes_per_s) / MIB
        disks = [one.bytes_per_s for one in series.devices.disks if one.is_physical]
        return moved, np.nansum(disks, axis=0) / MIB if disks else moved.sum(axis=1), "MiB/s"
    if resource == "link":
        moved = (series.sent_bytes_per_s + series.received_bytes_per_s) / MIB
        return moved, moved.sum(axis=1), "MiB/s over TCP"
    return processes.all_cores, machine.busy_cores, "cores used"
