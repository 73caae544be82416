"""Write the texts for the owner of the computer: no terms of the trade, no commands."""

from typing import NamedTuple

from dunmist.advice.case import Cases
from dunmist.advice.recognition import GUESSES
from dunmist.advice.resource_words import resource_words
from dunmist.advice.template_values import subject_of
from dunmist.advice.verdict_text import names_of_partners
from dunmist.advice.wording import owner_wording
from dunmist.diagnosis import Diagnosis, ResourceWord

# more than two things to do are not remembered
STEPS_SHOWN = 2


class OwnerAnswer(NamedTuple):
    """Plain sentences: what was found, what happens next, what was done, what to watch."""

    found: list[str]
    next: list[str]
    done: list[str]
    watch: list[str]


def describe_for_owner(diagnosis: Diagnosis, cases: Cases, done: list[str]) -> OwnerAnswer:
    """Return the answer for the owner; ``done`` lists the acts on the computer."""
    words = owner_wording()
    limiting, outside = diagnosis.limiting, diagnosis.external_cause
    said = resource_words()[limiting] if limiting else None
    key = limiting or ("calm" if diagnosis.level == "calm" else "busy")
    kinds = {finding.kind for finding in diagnosis.findings}
    matters = [key, *kinds] if limiting is None and outside is None else [key, "slowed", *kinds]
    left_out = {kind for cause in matters for kind in words["left_out"].get(cause, [])}
    found = {
        finding.kind: subject_of(finding).removesuffix(".service")
        for finding in diagnosis.findings
        if finding.kind in words["finding"] and finding.kind not in left_out
    }
    findings = {
        kind: words["finding"][kind].format(subject=subject) for kind, subject in found.items()
    }
    is_well = limiting is None and bool(findings)
    # findings come before the all-clear, and a cause before its effects
    if is_well:
        sentences = [*findings.values(), words["found"]["otherwise"]]
    elif outside and outside.kind in findings:
        sentences = [findings.pop(outside.kind), words["found"]["because"], *findings.values()]
    else:
        load = (said and said.owner) or words["found"].get(key, words["found"]["busy"])
        sentences = [load, *_cause(diagnosis, cases), *findings.values()]
    watch = _watch(limiting) if limiting else []
    if is_well:
        watch.append(words["watch"]["again"])
    if "storage-full" in kinds and limiting != "storage":
        watch += _watch("storage")
    return OwnerAnswer(
        sentences,
        _next(diagnosis, cases),
        done or [words["done"]["nothing"]],
        watch or [words["watch"]["nothing"]],
    )


def _watch(resource: ResourceWord) -> list[str]:
    text = resource_words()[resource].owner_watch
    return [text] if text else []


def _cause(diagnosis: Diagnosis, cases: Cases) -> list[str]:
    words = owner_wording()["cause"]
    if diagnosis.limiting is None:
        return []
    first = diagnosis.cause
    if diagnosis.external_cause or first is None:
        return [words["outside" if diagnosis.external_cause else "nobody"]]
    if diagnosis.partners:
        return [words["together"].format(names=names_of_partners(diagnosis))]
    case = cases.of_culprit(first)
    recognised = case.about.recognised if case else None
    what = recognised.kind.what.partition(":")[0] if recognised else ""
    if recognised and recognised.by in GUESSES:
        what = f"probably {what}"
    text = words["known" if what else "unknown"].format(name=first.name, what=what)
    is_sure = first.confidence >= diagnosis.limits.confidence.likely
    return [text] if is_sure else [text, words["unsure"]]


def _next(diagnosis: Diagnosis, cases: Cases) -> list[str]:
    words = owner_wording()["next"]
    if diagnosis.limiting is None:
        is_well = all(finding.severity == "note" for finding in diagnosis.findings)
        return [] if is_well else [words["help-technician"]]
    first = diagnosis.cause
    case = cases.of_culprit(first) if first else None
    if first is None or case is None:
        return [words["help-technician"]]
    actions = [filled.step.action for filled in case.filled_steps]
    found = [words[action].format(name=first.name) for action in actions if action in words]
    return found[:STEPS_SHOWN] or [words["help-technician"]]
