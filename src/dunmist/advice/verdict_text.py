"""The sentences about a whole computer: the verdict, what to do first, whether paging matters."""

from dunmist.advice.amounts import amount_text, listed, percent
from dunmist.advice.case import Cases
from dunmist.advice.resource_words import resource_name, resource_words
from dunmist.advice.template_values import finding_text
from dunmist.advice.triage import Worst
from dunmist.advice.wording import wording
from dunmist.diagnosis import (
    LEVELS,
    Culprit,
    Diagnosis,
    Finding,
    Kind,
    LevelWord,
    ResourceWord,
    Severity,
    is_strained,
    main_started_programs,
)
from dunmist.series import Application

# programs named in the headline
PARTNERS_SHOWN = 4
# how grave a level is among findings
SEVERITY_OF: dict[LevelWord, Severity] = {"strained": "concern", "choked": "urgent"}
GRAVITY: dict[Severity | None, int] = {None: 0, "note": 1, "concern": 2, "urgent": 3}
# these say of a resource that limits what its level says, so they do not go before it
SAME_AS_LEVEL: frozenset[Kind] = frozenset(
    (
        "overheating",
        "throttled",
        "memory-short",
        "paging-storm",
        "oom-kill",
        "disk-saturated",
        "disk-slow",
        "link-saturated",
        "core-bound",
        "cpu-hog",
        "memory-hog",
        "blocked-on-disk",
        "storage-full",
        "inodes-full",
        "low-clock",
    )
)


def worst_of(diagnosis: Diagnosis) -> Worst:
    """Return the worst of load and findings; of two that are as bad, the load."""
    level = SEVERITY_OF.get(diagnosis.level) if diagnosis.limiting else None
    leading = leading_finding(diagnosis)
    if leading is not None:
        return Worst("finding", leading.kind, leading.severity)
    if level is not None:
        return Worst("resource", diagnosis.limiting, level)
    return Worst("nothing", None, None)


def leading_finding(diagnosis: Diagnosis) -> Finding | None:
    """Return the finding that is worse than the load, None if the load leads."""
    level = SEVERITY_OF.get(diagnosis.level) if diagnosis.limiting else None
    for finding in diagnosis.findings:
        is_own = diagnosis.limiting is not None and finding.kind in SAME_AS_LEVEL
        is_worse = GRAVITY[finding.severity] > max(GRAVITY[level], GRAVITY["note"])
        if is_worse and not is_own and finding is not diagnosis.external_cause:
            return finding
    return None


def headline(diagnosis: Diagnosis, cases: Cases, said: str = "") -> str:
    """Return the verdict in a sentence, and in a second one what is strained besides.

    A finding that is worse than the load comes first. What was ``said`` already, in answer to a
    complaint, is not said again.
    """
    leading = leading_finding(diagnosis)
    if leading is None:
        # of several that share the strain each has its own
        named = [] if diagnosis.partners else diagnosis.culprits[:1]
        sentences = [_verdict(diagnosis, cases, said)]
        sentences += [_done_by(culprit.application, diagnosis) for culprit in named]
    else:
        text = finding_text(leading)
        # a name keeps its letters, a sentence begins with a capital
        first = _capital(text) if text.startswith("the ") else text
        sentences = [
            "" if text in said else first,
            _done_by(leading.application, diagnosis),
            _verdict(diagnosis, cases, f"{said} {text}"),
        ]
    return _few_ticks(diagnosis) + " ".join(filter(None, sentences)) + _also(diagnosis)


def _few_ticks(diagnosis: Diagnosis) -> str:
    """Return that a capture is short of ticks, with a blank behind it, or nothing."""
    if diagnosis.taken_share >= diagnosis.limits.confidence.taken_least:
        return ""
    return wording()["headline"]["few-ticks"].format(share=percent(diagnosis.taken_share))


def _also(diagnosis: Diagnosis) -> str:
    if diagnosis.also is None:
        return ""
    state, driver = diagnosis.also.state, diagnosis.also.driver
    # the same program that hangs on one processor while it fills the others was named already
    if state.resource == "core" and driver and driver.name in _named(diagnosis):
        return ""
    words = wording()["headline"]
    about = {"resource": _capital(resource_name(state.resource)), "level": state.level}
    if driver is None:
        return " " + words["also"].format(**about)
    drives = _drives(state.resource, driver.score)
    return " " + words["also-driven"].format(name=driver.name, drives=drives, **about)


def _done_by(application: Application | None, diagnosis: Diagnosis) -> str:
    """Return the programs that do the work of one that only starts them, if any."""
    started = main_started_programs(application, diagnosis.limits) if application else None
    if started is None:
        return ""
    text: str = wording()["headline"]["started"].format(names=listed(started.names))
    return text


def _named(diagnosis: Diagnosis) -> list[str]:
    return [culprit.name for culprit in diagnosis.culprits[:1]]


def _capital(text: str) -> str:
    return text[0].upper() + text[1:]


def _verdict(diagnosis: Diagnosis, cases: Cases, said: str) -> str:
    words = wording()["headline"]
    if diagnosis.limiting is None:
        # a single full CPU is no news if all are full
        fullest = max(
            diagnosis.resources, key=lambda state: (LEVELS.index(state.level), state.used)
        )
        cpu = next((state for state in diagnosis.resources if state.resource == "cpu"), None)
        if cpu is not None and fullest.resource == "core" and cpu.level == fullest.level:
            fullest = cpu
        if diagnosis.level == "calm":
            return words["calm"].format(found=_noted(diagnosis, said))
        if fullest.resource == "heat":
            return words["busy-heat"].format(found=_found(diagnosis, said))
        waits = (fullest.pressure or 0.0) >= diagnosis.limits.advice.waits_least
        return words["busy-waiting" if waits else "busy"].format(
            resource=resource_name(fullest.resource),
            used=percent(fullest.used),
            held=percent(fullest.pressure or 0.0),
            found=_found(diagnosis, said),
        )
    resource = resource_name(diagnosis.limiting)
    about = {"resource": _capital(resource), "level": diagnosis.level}
    if diagnosis.external_cause:
        text, first = finding_text(diagnosis.external_cause), first_action(diagnosis, cases) or ""
        # a brief goes after that word, a whole step is a sentence
        order = f"First {first}." if first and not first.endswith(".") else first
        if diagnosis.cause is not None:
            driver = _brings_about(diagnosis.external_cause, diagnosis.cause)
            more = " ".join(filter(None, ("" if text in said else text, driver, order)))
            return words["outside-driven"].format(more=more, **about).rstrip()
        more = " ".join(filter(None, ("" if text in said else text, order)))
        key = "own-limit" if diagnosis.external_cause.kind == "memory-limited" else "outside"
        return words[key].format(more=more, **about).rstrip()
    if not diagnosis.culprits:
        covered = diagnosis.coverage.get(diagnosis.limiting)
        if covered is not None and covered < diagnosis.limits.culprit.attributed_least:
            return words["unseen"].format(**about)
        return words["nobody"].format(found=_found(diagnosis, said), **about)
    culprit = diagnosis.culprits[0]
    if culprit.role != "cause":
        return words["symptom"].format(name=culprit.name, **about)
    about |= {"sure": _sure(diagnosis), "first": first_action(diagnosis, cases) or ""}
    if diagnosis.partners:
        whole = sum(partner.score for partner in diagnosis.partners)
        drive = _drives(diagnosis.limiting, whole, together=True)
        names = names_of_partners(diagnosis)
        return words["cause-together"].format(names=names, drive=drive, **about)
    drives = _drives(diagnosis.limiting, culprit.score)
    return words["cause"].format(name=culprit.name, drives=drives, **about)


def _drives(resource: ResourceWord, share: float, *, together: bool = False) -> str:
    """Return what a program, or several together, do with the resource that they share."""
    words = resource_words()[resource]
    text = words.together if together else words.drives
    return (text or "").format(amount=percent(share))


def _brings_about(cause: Finding, driver: Culprit) -> str:
    """Return the application whose load drives a cause outside all programs."""
    moved = amount_text(driver.application.disk_bytes_per_s.mean(), "bytes/s", None)
    text: str = wording()["brings_about"][cause.kind]
    return text.format(name=driver.name, moved=moved)


def names_of_partners(diagnosis: Diagnosis) -> str:
    """Return the names of those that drive the strain together, as a list in a sentence."""
    names = [partner.name for partner in diagnosis.partners]
    if len(names) > PARTNERS_SHOWN:
        shown = ", ".join(names[:PARTNERS_SHOWN])
        count = len(names) - PARTNERS_SHOWN
        return wording()["headline"]["partners-more"].format(names=shown, count=count)
    return listed(names)


def first_action(diagnosis: Diagnosis, cases: Cases) -> str | None:
    """Return the first act in the form that follows "first"; None if nothing limits."""
    if diagnosis.limiting is None:
        return None
    if diagnosis.external_cause:
        filled_steps = cases.of_finding(diagnosis.external_cause)
        if not filled_steps:
            return None
        return filled_steps[0].brief or filled_steps[0].step.text
    case = cases.of_culprit(diagnosis.culprits[0]) if diagnosis.culprits else None
    if case is None:
        return None
    return case.filled_steps[0].brief or case.filled_steps[0].step.text


def _found(diagnosis: Diagnosis, said: str) -> str:
    """Return the foremost finding that is more than a note, with a blank before it, or nothing."""
    foremost = next((finding for finding in diagnosis.findings if finding.severity != "note"), None)
    if foremost is None or finding_text(foremost) in said:
        return ""
    return " " + wording()["headline"]["found"].format(finding=finding_text(foremost))


def _noted(diagnosis: Diagnosis, said: str) -> str:
    """Return the first note of a calm computer that nothing worse was said of."""
    noted = next(iter(diagnosis.findings), None)
    if noted is None or noted.severity != "note" or finding_text(noted) in said:
        return ""
    return " " + wording()["headline"]["noted"].format(finding=finding_text(noted))


def _sure(diagnosis: Diagnosis) -> str:
    sure, table = diagnosis.culprits[0].confidence, diagnosis.limits.confidence
    if sure >= table.told_below:
        return ""
    word = "very" if sure >= table.very else "likely" if sure >= table.likely else "unsure"
    return wording()["sure"][word].format(amount=percent(sure), why=_doubt(diagnosis))


def _doubt(diagnosis: Diagnosis) -> str:
    """Return the reasons for a low confidence."""
    words, table = wording()["unsure"], diagnosis.limits.confidence
    covered = diagnosis.coverage.get(diagnosis.limiting or "cpu", diagnosis.coverage.get("cpu"))
    if covered is not None and covered < table.well_covered:
        return words["hidden"]
    return words["short" if diagnosis.intervals < table.few_intervals else "other"]


def paging_sentence(diagnosis: Diagnosis) -> str:
    """Return the meaning of the traffic to and from swap."""
    words, table = wording()["paging"], diagnosis.limits.advice
    memory = next(resource for resource in diagnosis.resources if resource.resource == "memory")
    swap = next((resource for resource in diagnosis.resources if resource.resource == "swap"), None)
    pages = next((figure.value for figure in memory.evidence if figure.key == "memory-paging"), 0.0)
    used = swap.used if swap else 0.0
    if is_strained(memory.level):
        key = "short-paging" if pages >= table.quiet_pages_per_s else "short-quiet"
    elif pages >= table.quiet_pages_per_s:
        key = "some"
    elif used >= table.swap_used_least:
        key = "used-quiet"
    else:
        key = "nothing" if swap else "no-swap"
    held = percent(memory.pressure or 0.0)
    return words[key].format(pages=f"{pages:.0f}", used=percent(used), held=held)
