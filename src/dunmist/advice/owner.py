"""What to tell the person whose computer it is: no terms of the trade, no commands."""

import tomllib
from functools import cache
from importlib.resources import files
from typing import NamedTuple

from dunmist.advice.about import about_application
from dunmist.advice.acts import Act
from dunmist.advice.recognition import GUESSES
from dunmist.advice.rungs import culprit_rungs
from dunmist.diagnosis import Diagnosis
from dunmist.series import Series

SURE_ENOUGH = 0.6
STEPS_TOLD = 2


class Told(NamedTuple):
    """Plain sentences: what was found, what happens next, what was done, what to watch."""

    found: list[str]
    next: list[str]
    done: list[str]
    watch: list[str]


@cache
def _words() -> dict[str, dict[str, str]]:
    text = (files("dunmist.advice") / "owner.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def tell_owner(series: Series, diagnosis: Diagnosis, acts: list[Act]) -> Told:
    """Return what to tell; ``acts`` are those that were carried out on the computer."""
    words = _words()
    limiting = diagnosis.limiting
    key = limiting or ("calm" if diagnosis.level == "calm" else "busy")
    found = [words["found"].get(key, words["found"]["busy"]), *_cause(series, diagnosis)]
    kinds = {one.kind for one in diagnosis.findings}
    told = {one.kind: one.subject for one in diagnosis.findings if one.kind in words["finding"]}
    found += [words["finding"][kind].format(subject=subject) for kind, subject in told.items()
              if not (limiting == "heat" and kind == "overheating")]  # fmt: skip
    watch = [words["watch"][limiting]] if limiting in words["watch"] else []
    if "storage-full" in kinds and limiting != "storage":
        watch.append(words["watch"]["storage"])
    return Told(
        found,
        _next(series, diagnosis),
        [_done(act) for act in acts] or [words["done"]["nothing"]],
        watch or [words["watch"]["nothing"]],
    )


def _cause(series: Series, diagnosis: Diagnosis) -> list[str]:
    words = _words()["cause"]
    if diagnosis.limiting is None:
        return []
    if diagnosis.outside or not diagnosis.culprits or diagnosis.culprits[0].role != "cause":
        return [words["outside" if diagnosis.outside else "nobody"]]
    first = diagnosis.culprits[0]
    about = about_application(series, first.application)
    recognised = about.recognised if about else None
    what = recognised.kind.what.partition(":")[0] if recognised else ""
    if recognised and recognised.by in GUESSES:
        what = f"probably {what}"
    text = words["known" if what else "unknown"].format(name=first.name, what=what)
    return [text] if first.confidence >= SURE_ENOUGH else [text, words["unsure"]]


def _next(series: Series, diagnosis: Diagnosis) -> list[str]:
    words = _words()["next"]
    if diagnosis.limiting is None:
        return []
    if not diagnosis.culprits or diagnosis.culprits[0].role != "cause":
        return [words["help-technician"]]
    first = diagnosis.culprits[0]
    actions = [rung.step.action for rung in culprit_rungs(series, first, diagnosis)]
    told = [words[action].format(name=first.name) for action in actions if action in words]
    return told[:STEPS_TOLD] or [words["help-technician"]]


def _done(act: Act) -> str:
    name = act.targets[0].name if act.targets else (act.unit or act.file or "")
    return _words()["done"][act.verb].format(name=name)
