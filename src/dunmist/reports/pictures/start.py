"""The start of the computer: its phases one after another, and the units that others waited for."""

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import (
    COLOURS,
    HATCHES,
    INK,
    canvas,
    nothing_to_draw,
    plain_label,
    title,
)
from dunmist.series import Process
from dunmist.tables import BOOT, BOOT_UNITS, boot_of, fill

BAR_HIGH, ROW_INCHES = 0.7, 0.28


def draw_start(judged: Judged, process: Process | None = None) -> Figure:
    """Return bars of the phases, and below them of units, over the time since the power came on."""
    del process
    phases, units = fill(BOOT, judged).rows, fill(BOOT_UNITS, judged).rows
    rows = len(phases) + len(units)
    figure, axes = canvas([max(1.4, ROW_INCHES * rows + 0.6)])
    panel, boot = axes[0], boot_of(judged)
    panel.spines[["top", "right"]].set_visible(False)
    if boot is None or not rows:
        nothing_to_draw(panel, "nothing is recorded of the start")
        return figure
    kernel_s = (boot.firmware_s or 0.0) + (boot.loader_s or 0.0)
    at_s, bars = 0.0, []
    for phase in phases:
        bars.append((phase["phase"], at_s, phase["took_s"], COLOURS[0], ""))
        at_s += phase["took_s"]
    for unit in units:
        is_waited_for = bool(unit["waited_for"])
        bars.append(
            (
                unit["unit"],
                kernel_s + unit["began_s"],
                unit["took_s"],
                COLOURS[1] if is_waited_for else COLOURS[2],
                HATCHES[1] if is_waited_for else "",
            )
        )
    _draw(panel, bars)
    title(panel, "The start; hatched: all that came later waited for it")
    panel.set_xlabel("seconds since the power came on" if kernel_s else "seconds since the kernel")
    return figure


def _draw(panel: Axes, bars: list[tuple[str, float, float, str, str]]) -> None:
    for row, (_, from_s, took_s, colour, hatch) in enumerate(bars):
        panel.barh(
            row,
            took_s,
            left=from_s,
            height=BAR_HIGH,
            color=colour,
            hatch=hatch,
            edgecolor="white",
            linewidth=0.3,
        )
        panel.text(from_s + took_s, row, f" {took_s:.1f} s", va="center", fontsize=8.0, color=INK)
    panel.set_yticks(range(len(bars)), [plain_label(bar[0]) for bar in bars])
    panel.invert_yaxis()
    panel.set_xlim(left=0.0, right=1.1 * max(bar[1] + bar[2] for bar in bars))
