"""Disks and links over time."""

from matplotlib.figure import Figure

from dunmist.diagnosis import Diagnosis
from dunmist.reports.pictures.style import (
    canvas,
    finish,
    legend,
    nothing_to_draw,
    plain_label,
    step_line,
    styles,
    title,
)
from dunmist.series import Series

MIB = float(1 << 20)


def draw_disks(series: Series, diagnosis: Diagnosis, identity: int | None = None) -> Figure:
    """Return how busy each physical disk was, what it moved, and how long a request took."""
    del diagnosis, identity
    disks = [one for one in series.devices.disks if one.is_physical]
    figure, axes = canvas([1.6, 1.4, 1.4])
    titles = (("Busy", "%"), ("Moved", "MiB/s"), ("A request takes", "ms"))
    for panel, (text, unit) in zip(axes, titles, strict=True):
        panel.set_ylabel(unit)
        title(panel, text)
    for one, (colour, dash, _) in zip(disks, styles(), strict=False):
        rows = (100.0 * one.busy, one.bytes_per_s / MIB, 1e3 * one.latency_s)
        for panel, values in zip(axes, rows, strict=True):
            step_line(panel, values, series.machine.at_s, color=colour, linestyle=dash,
                      linewidth=1.4, label=plain_label(one.name))  # fmt: skip
    for panel in axes:
        panel.set_ylim(bottom=0)
    axes[0].set_ylim(0, 104)
    if not disks:
        nothing_to_draw(axes[0], "no physical disk is published")
    legend(axes[0])
    finish(axes, series)
    return figure


def draw_links(series: Series, diagnosis: Diagnosis, identity: int | None = None) -> Figure:
    """Return what each link carried in both directions."""
    del diagnosis, identity
    links = [one for one in series.devices.links if not one.is_loopback]
    figure, axes = canvas([1.8, 1.8])
    for panel, text in zip(axes, ("Received", "Sent"), strict=True):
        panel.set_ylabel("MiB/s")
        title(panel, text)
    for one, (colour, dash, _) in zip(links, styles(), strict=False):
        rows = (one.received_bytes_per_s, one.sent_bytes_per_s)
        for panel, values in zip(axes, rows, strict=True):
            step_line(panel, values / MIB, series.machine.at_s, color=colour, linestyle=dash,
                         linewidth=1.4, label=plain_label(one.name))  # fmt: skip
            panel.set_ylim(bottom=0)
    if not links:
        nothing_to_draw(axes[0], "no link to other computers is published")
    legend(axes[0])
    finish(axes, series)
    return figure
