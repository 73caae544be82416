"""One look for each word of a vocabulary, the same in terminals, pictures and pages.

A look is never all that tells: its word stands beside it. The colours are told apart by the
colour-blind too (Okabe and Ito 2008), and by their lightness where there are none.
"""

from typing import NamedTuple

from dunmist.diagnosis import LevelWord, Role


class Look(NamedTuple):
    """A colour of a terminal (None is its own), whether it is bold, and one for pages."""

    terminal: str | None
    bold: bool
    page: str


LEVEL_LOOKS: dict[LevelWord, Look] = {
    "calm": Look(None, bold=False, page="#4d6a55"),
    "busy": Look("blue", bold=False, page="#0072b2"),
    "strained": Look("yellow", bold=True, page="#b35900"),
    "choked": Look("red", bold=True, page="#a6192e"),
}
ROLE_LOOKS: dict[Role, Look] = {
    "cause": Look("red", bold=True, page="#a6192e"),
    "symptom": Look("cyan", bold=False, page="#0072b2"),
    "victim": Look("green", bold=False, page="#4d6a55"),
    "observer": Look(None, bold=False, page="#7a828c"),
}
RISK_LOOKS: dict[str, Look] = {
    "none": Look("green", bold=False, page="#4d6a55"),
    "reversible": Look("blue", bold=False, page="#0072b2"),
    "disruptive": Look("red", bold=True, page="#a6192e"),
}
