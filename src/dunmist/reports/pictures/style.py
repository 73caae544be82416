"""Define colours, sizes and axes of all pictures."""

from itertools import cycle
from typing import Any

from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.harmless import harmless
from dunmist.series import Rate

INK, FAINT = "#1c2430", "#7a828c"
# eight colours that the colour-blind can tell apart (Okabe and Ito, 2008), of differing lightness
COLOURS = ("#0072b2", "#d55e00", "#56b4e9", "#009e73", "#e69f00", "#cc79a7", "#8c6bb1", "#f0e442")
DASHES = ("-", "--", "-.", ":", (0, (5, 1)), (0, (3, 1, 1, 1)), (0, (1, 1)), (0, (7, 3)))
HATCHES = ("", "///", "...", "\\\\\\", "xx", "++", "oo", "--")
SHADES = "cividis_r"
LABEL_MOST = 26
WIDTH_INCHES, ROW_INCHES = 9.6, 0.24
SETTINGS: dict[Any, Any] = {
    "svg.fonttype": "none",
    "svg.hashsalt": "dunmist",
    "font.size": 9.5,
    "text.color": INK,
    "axes.edgecolor": FAINT,
    "axes.labelcolor": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "hatch.linewidth": 0.5,
    "hatch.color": "#ffffff",
}


def canvas(heights: list[float], *, shared: bool = True) -> tuple[Figure, list[Axes]]:
    """Return a figure with panels of the given heights in inches, below one another."""
    with rc_context(SETTINGS):
        figure = Figure(figsize=(WIDTH_INCHES, sum(heights) + 0.7), layout="constrained")
        axes = figure.subplots(
            len(heights), 1, sharex=shared, height_ratios=heights, squeeze=False
        )[:, 0]
    return figure, list(axes)


def styles() -> "cycle[tuple[str, object, str]]":
    """Return colour, dash pattern and hatch for one thing after another."""
    return cycle(zip(COLOURS, DASHES, HATCHES, strict=True))


def step_line(panel: Axes, rate: Rate, **look: Any) -> None:  # noqa: ANN401
    """Draw what held in each interval as a line of steps, without edges at its ends."""
    panel.stairs(rate.values, rate.line.at_s, baseline=None, **look)


def plain_label(name: str) -> str:
    """Return a name as Matplotlib shows it: it takes a dollar for mathematics."""
    name = harmless(name)
    short = name if len(name) <= LABEL_MOST else f"{name[: LABEL_MOST - 1]}…"
    return short.replace("$", r"\$").lstrip("_") or "(no name)"


def title(panel: Axes, text: str) -> None:
    """Put a panel's title at its left edge."""
    panel.set_title(text, loc="left", color=INK, fontsize=10.5)


def legend(panel: Axes) -> None:
    """Put the legend next to a panel, where it hides nothing."""
    if panel.get_legend_handles_labels()[0]:
        panel.legend(
            loc="upper left",
            bbox_to_anchor=(1.0, 1.03),
            fontsize=8.5,
            frameon=False,
            handlelength=2.4,
            labelcolor=INK,
        )


def nothing_to_draw(panel: Axes, text: str) -> None:
    """Say in the middle of a panel why it is empty."""
    panel.text(0.5, 0.5, text, ha="center", va="center", transform=panel.transAxes, color=FAINT)
    panel.set_yticks([])
