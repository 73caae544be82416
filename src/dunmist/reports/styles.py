"""One look for each word of a vocabulary, the same in terminals, pictures and pages.

A colour is never the only sign: its word is next to it. The colours are distinguished by the
colour-blind too (Okabe and Ito 2008), and by their lightness where there are none.
"""

from typing import NamedTuple

from dunmist.diagnosis import LevelWord, Role, Severity


class Look(NamedTuple):
    """A colour of a terminal, whether it is bold, and one for pages.

    ``terminal`` is a colour of the 256, None the terminal's own. Each has a contrast of at least
    3:1 on black and on white. ``dark`` is that of a dark page.
    """

    terminal: int | None
    bold: bool
    page: str
    dark: str

    @property
    def rich(self) -> str:
        """The same as a style of a text by Rich."""
        colour = None if self.terminal is None else f"color({self.terminal})"
        words = ("bold" if self.bold else None, colour)
        return " ".join(filter(None, words)) or "none"


PLAIN = Look(None, bold=False, page="#5c6672", dark="#a9b2bf")
GOOD = Look(28, bold=False, page="#1d6b4f", dark="#7fd1ae")
MILD = Look(33, bold=False, page="#0067a3", dark="#6db8e8")
BAD = Look(166, bold=True, page="#a04f00", dark="#ffb066")
WORST = Look(196, bold=True, page="#a6192e", dark="#ff8fa3")

LEVEL_LOOKS: dict[LevelWord, Look] = {
    "calm": Look(None, bold=False, page=GOOD.page, dark=GOOD.dark),
    "busy": MILD,
    "strained": BAD,
    "choked": WORST,
}
ROLE_LOOKS: dict[Role, Look] = {
    "cause": WORST,
    "symptom": Look(30, bold=False, page=MILD.page, dark=MILD.dark),
    "victim": GOOD,
    "observer": PLAIN,
}
SEVERITY_LOOKS: dict[Severity | None, Look] = {
    None: PLAIN,
    "note": PLAIN,
    "concern": BAD,
    "urgent": WORST,
}
RISK_LOOKS: dict[str, Look] = {"none": GOOD, "reversible": MILD, "disruptive": WORST}

# each word that has a look, for a page that colours it by its name
LOOKS: dict[str, Look] = {
    word: look for looks in (LEVEL_LOOKS, ROLE_LOOKS, RISK_LOOKS) for word, look in looks.items()
}
