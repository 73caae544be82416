"""Summarize past acts: the effect of each, and the freed amount against the expected one."""

from collections.abc import Iterable

from dunmist.advice import Frees, freed_amount, percent
from dunmist.fixing.journal import JournalLine

HELPED = {
    "better": "it helped",
    "worse": "it got worse",
    "no clear change": "nothing clear changed",
}


def describe_done(line: JournalLine) -> str:
    """Return an act with its time, its target, and its effect."""
    names = sorted({target.name for target in line.act.targets})
    subject = line.act.unit or line.act.file or ", ".join(names)
    text = f"{line.at}: {line.act.verb} {subject}: {line.outcome}"
    more = brought(line)
    return f"{text}; {more}" if more else text


def brought(line: JournalLine) -> str:
    """Return whether an act helped and what it freed; nothing where that was not measured."""
    parts = []
    effect = line.effect
    if effect is not None:
        held = effect.pressure or effect.used
        what = "tasks waited" if effect.pressure else "used"
        parts.append(
            f"{HELPED[effect.verdict]} ({effect.resource}: {what} {percent(held[1])} instead of "
            f"{percent(held[0])})"
        )
    if line.expected is not None and line.freed is not None:
        parts.append(settled(line.expected, line.freed))
    return "; ".join(parts)


def settled(expected: Frees, freed: float) -> str:
    """Return the expected and the measured effect of a step."""
    said = (freed_amount(value, expected.unit) for value in (expected.value, freed))
    return "expected {}, freed {}".format(*said)


def score(lines: Iterable[JournalLine]) -> str:
    """Return the number of measured acts that helped; empty if none was measured."""
    measured = [line for line in lines if line.effect is not None]
    if not measured:
        return ""
    helped = sum(line.effect is not None and line.effect.verdict == "better" for line in measured)
    return f"{helped} of {len(measured)} acts that were measured helped"
