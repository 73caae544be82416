"""Pictures made of characters: tiny curves, strips of shade, bars that add up.

They are legible without colour. Where block characters cannot be shown, plain ones stand in.
"""

import math
import sys
from collections.abc import Sequence

CURVE, CURVE_PLAIN = "▁▂▃▄▅▆▇█", "_.-~=+*#"
SHADE, SHADE_PLAIN = "·░▒▓█", ".:+x#"
LEVELS, LEVELS_PLAIN = "·─▒█", ".-x#"
PARTS = "█▓▒░#=+:~-%o."
GAP = " "

Values = Sequence[float | None]


def can_draw() -> bool:
    """Whether standard output takes block characters."""
    # a library of the screen puts something else in its stead, which goes to the same terminal
    encoding = getattr(sys.stdout, "encoding", None) or getattr(sys.__stdout__, "encoding", None)
    try:
        (CURVE + SHADE + LEVELS).encode(encoding or "ascii")
    except UnicodeEncodeError:
        return False
    return True


def curve_text(values: Values, top: float | None = None) -> str:
    """Return a tiny curve from zero to ``top``, or to its own greatest value."""
    known = [value for value in values if value is not None and not math.isnan(value)]
    most = top or max(known, default=0.0)
    return "".join(_mark(value, most, CURVE if can_draw() else CURVE_PLAIN) for value in values)


def shade_text(shares: Values) -> str:
    """Return one mark a value, the darker the nearer it is to one."""
    return "".join(_mark(value, 1.0, SHADE if can_draw() else SHADE_PLAIN) for value in shares)


def level_text(levels: Sequence[int]) -> str:
    """Return one mark for each level, by its index among the words."""
    marks = LEVELS if can_draw() else LEVELS_PLAIN
    return "".join(marks[level] for level in levels)


def bar_cells(amounts: Sequence[float], width: int) -> list[int]:
    """Return the cells of a bar for each amount; they add up to the width.

    Cells are dealt by the largest remainder, and whatever is not nothing keeps one where there is
    room, so that no part vanishes.
    """
    total = sum(amounts)
    if total <= 0 or width <= 0:
        return [0] * len(amounts)
    exact = [amount / total * width for amount in amounts]
    cells = [max(int(height), 1 if height > 0.05 else 0) for height in exact]
    while sum(cells) > width:
        cells[max(range(len(cells)), key=lambda index: cells[index] - exact[index])] -= 1
    while sum(cells) < width:
        cells[max(range(len(cells)), key=lambda index: exact[index] - cells[index])] += 1
    return cells


def _mark(value: float | None, most: float, marks: str) -> str:
    if value is None or math.isnan(value):
        return GAP
    if most <= 0:
        return marks[0]
    index = math.ceil(value / most * len(marks)) - 1
    return marks[min(max(index, 0), len(marks) - 1)]
