"""Disks and links over time."""

from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import (
    canvas,
    legend,
    nothing_to_draw,
    plain_label,
    step_line,
    styles,
    title,
)
from dunmist.reports.pictures.time_axis import finish
from dunmist.series import Process

MIB = float(1 << 20)


def draw_disks(judged: Judged, process: Process | None = None) -> Figure:
    """Draw the use, the traffic and the request time of each physical disk."""
    del process
    series = judged.series
    disks = series.devices.physical_disks
    figure, axes = canvas([1.6, 1.4, 1.4])
    titles = (("Busy", "%"), ("Moved", "MiB/s"), ("A request takes", "ms"))
    for panel, (text, unit) in zip(axes, titles, strict=True):
        panel.set_ylabel(unit)
        title(panel, text)
    for disk, (colour, dash, _) in zip(disks, styles(), strict=False):
        rows = (disk.busy * 100.0, disk.bytes_per_s / MIB, disk.latency_s * 1e3)
        for panel, values in zip(axes, rows, strict=True):
            step_line(
                panel,
                values,
                color=colour,
                linestyle=dash,
                linewidth=1.4,
                label=plain_label(disk.name),
            )
    for panel in axes:
        panel.set_ylim(bottom=0)
    axes[0].set_ylim(0, 104)
    if not disks:
        nothing_to_draw(axes[0], "no physical disk is published")
    legend(axes[0])
    finish(axes, judged)
    return figure


def draw_links(judged: Judged, process: Process | None = None) -> Figure:
    """Draw the traffic of each link in both directions."""
    del process
    series = judged.series
    links = series.devices.outward_links
    figure, axes = canvas([1.8, 1.8])
    for panel, text in zip(axes, ("Received", "Sent"), strict=True):
        panel.set_ylabel("MiB/s")
        title(panel, text)
    for link, (colour, dash, _) in zip(links, styles(), strict=False):
        rows = (link.received_bytes_per_s, link.sent_bytes_per_s)
        for panel, values in zip(axes, rows, strict=True):
            step_line(
                panel,
                values / MIB,
                color=colour,
                linestyle=dash,
                linewidth=1.4,
                label=plain_label(link.name),
            )
            panel.set_ylim(bottom=0)
    if not links:
        nothing_to_draw(axes[0], "no link to other computers is published")
    legend(axes[0])
    finish(axes, judged)
    return figure
