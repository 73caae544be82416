"""Puts into words what an experiment says, or why none can be made."""

import tomllib
from functools import cache
from importlib.resources import files
from typing import Any

from dunmist.advice.amounts import percent, size_text
from dunmist.advice.resource_words import resource_name
from dunmist.compare import Alternated, Following, Proof
from dunmist.diagnosis import ResourceWord

MIB = 1 << 20
MS_PER_S = 1e3


@cache
def _words() -> dict[str, Any]:
    text = (files("dunmist.advice") / "proving.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def describe_proof(proof: Proof, name: str, next_suspect: tuple[int, str] | None) -> str:
    """Return the answer in a sentence; ``next_suspect`` is to be tried next, with its rank."""
    words, result = _words(), proof.alternated
    sentence = str(words["answer"][proof.answer])
    if result is None or proof.following is None:
        return sentence
    what = proof.following
    chance = percent(result.p_value)
    form = str(words["following"][what])
    then = form.format(value=_amount(what, result.paused))
    now = _amount(what, result.running)
    # the first figure carries its name
    if "{then}" not in sentence:
        now = form.format(value=now)
    after = ""
    if next_suspect is not None:
        rank, other = next_suspect
        after = str(words["next"]["text"]).format(rank=rank, name=other)
    sure = str(words["sure"]["text"]).format(between=_between(result, what), chance=chance)
    return sentence.format(name=name, then=then, now=now, sure=sure, next=after, chance=chance)


def describe_unprovable(why: str, resource: ResourceWord) -> str:
    """Return why no experiment is made."""
    return str(_words()["unprovable"][why]).format(resource=resource_name(resource))


def _between(alternated: Alternated, what: Following) -> str:
    # a difference of shares is in points, and no part of anything
    if what == "waiting":
        return f"between {100 * alternated.low:.0f} and {100 * alternated.high:.0f} points"
    return f"between {_amount(what, alternated.low)} and {_amount(what, alternated.high)}"


def _amount(what: Following, value: float) -> str:
    if what == "waiting":
        return percent(value)
    if what == "queue":
        return f"{value:.1f}"
    if what == "bytes":
        return size_text(value)
    return f"{MS_PER_S * MIB * value:.0f} ms"
