"""The time axis that all panels share, with what happened as marks above the first of them.

The key of the marks stands below the axis. Of ends of programs only those of culprits are marked:
on most computers something small ends all the time.
"""

from collections.abc import Iterator
from typing import NamedTuple

from matplotlib.axes import Axes

from dunmist.advice import Judged
from dunmist.compare import Examined
from dunmist.reports.pictures.style import COLOURS, INK
from dunmist.tables import events_of


class Mark(NamedTuple):
    """Mark of a kind of event: its name and sign in the legend, and in the picture."""

    meaning: str
    sign: str
    marker: str
    colour: str


# by the word of the table of events; "end" is that of a culprit
MARKS: dict[str, Mark] = {
    "throttle": Mark("heat cut the clock", "■", "s", COLOURS[1]),
    "kill": Mark("killed for lack of memory", "✖", "X", COLOURS[7]),
    "gap": Mark("ticks missed", "◆", "D", COLOURS[5]),
    "asleep": Mark("asleep", "●", "o", COLOURS[4]),
    "end": Mark("a culprit's process ended", "▼", "v", INK),
}
EDGE = 1.0


class Marker(NamedTuple):
    """One event: the word of its mark, when it began, and when it ended."""

    word: str
    from_s: float
    to_s: float


def finish(axes: list[Axes], shown: Judged | Examined) -> None:
    """Give the panels of a capture their common time axis, and mark what happened in it."""
    at_s = shown.series.line.at_s
    for panel in axes:
        panel.set_xlim(float(at_s[0]), float(at_s[-1]))
        panel.spines[["top", "right"]].set_visible(False)
    key = _mark(axes[0], list(dict.fromkeys(markers_of(shown))))
    axes[-1].set_xlabel("seconds since the first tick" + (f"\n{key}" if key else ""))


def markers_of(shown: Judged | Examined) -> Iterator[Marker]:
    """Yield the marked events, in the order of the marks."""
    events = events_of(shown.series)
    for word in MARKS:
        for event in events:
            if event.what == word:
                from_s, lasted_s = event.at_s, event.seconds or 0.0
                # the seconds of a sleep are not on the time line
                yield Marker(word, from_s, from_s if word == "asleep" else from_s + lasted_s)
    at_s = shown.series.line.at_s
    for culprit in shown.diagnosis.culprits:
        for process in culprit.application.members:
            if process.ended_row is not None:
                end_s = float(at_s[min(process.ended_row, len(at_s) - 1)])
                yield Marker("end", end_s, end_s)


def _mark(panel: Axes, markers: list[Marker]) -> str:
    """Draw the marks at a panel's upper edge and return their key; empty where there is none."""
    for marker in markers:
        mark = MARKS[marker.word]
        upper = panel.get_xaxis_transform()
        panel.plot(
            [marker.from_s, marker.to_s],
            [EDGE, EDGE],
            transform=upper,
            clip_on=False,
            color=mark.colour,
            marker=mark.marker,
            markersize=4.5,
            linewidth=2.5,
            zorder=5,
            solid_capstyle="butt",
            markeredgewidth=0.0,
        )
    words = dict.fromkeys(marker.word for marker in markers)
    return "   ".join(f"{MARKS[word].sign} {MARKS[word].meaning}" for word in words)
