"""Sort the sampled code and threads of an application by kind of work.

Unknown code is named by its file. Too few samples give no result.
"""

from collections import defaultdict
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice.amounts import percent
from dunmist.advice.code_kinds import (
    CodeKind,
    file_name,
    is_common,
    kind_of_code,
    kind_of_thread,
    without_number,
)
from dunmist.advice.evidence import rounded
from dunmist.advice.triage import Doing
from dunmist.advice.wording import wording
from dunmist.diagnosis import Thresholds
from dunmist.sampling import GENERATED, KERNEL, UNKNOWN
from dunmist.series import Application, CodeLocation, CodeUse, Series

# a function with this part of a work stands for it
MOSTLY = 0.6
SOURCE = "perf_event_open(2), cpu-clock"


class CodeWork(NamedTuple):
    """One kind of work, or code of which the kind is not known, with its share of the samples."""

    kind: CodeKind | None
    locations: list[CodeLocation]  # the greatest first
    share: float


def code_work(application: Application, use: CodeUse | None, limits: Thresholds) -> list[CodeWork]:
    """Return the work of an application's code, known kinds first; empty for few samples."""
    if use is None or use.samples < limits.code.samples_least:
        return []
    by_kind: defaultdict[str, list[CodeLocation]] = defaultdict(list)
    kinds: dict[str, CodeKind | None] = {}
    for location in use.locations:
        if location.mapping == UNKNOWN:
            continue
        kind = kind_of_code(location.mapping, location.function)
        key = kind.key if kind else location.mapping
        kinds[key] = kind
        by_kind[key].append(location)
    _lay_common_code(by_kind, kinds, _own_files(application))
    works = [
        CodeWork(kinds[key], locations, sum(location.share for location in locations))
        for key, locations in by_kind.items()
    ]
    # a known kind of work says more than a larger unknown share
    return sorted(
        (work for work in works if work.share >= limits.code.share_least),
        key=lambda work: (work.kind is None or work.share < limits.code.main_least, -work.share),
    )


def _lay_common_code(
    by_kind: dict[str, list[CodeLocation]], kinds: dict[str, CodeKind | None], own: set[str]
) -> None:
    """Lay code of common libraries to the kind of work that most code of the program's own is."""
    own_shares = {
        key: sum(location.share for location in locations if file_name(location.mapping) in own)
        for key, locations in by_kind.items()
    }
    key = max(own_shares, key=lambda key: own_shares[key], default="")
    most = own_shares.get(key, 0.0)
    if not most or kinds[key] is None or most < MOSTLY * sum(own_shares.values()):
        return
    common = [other for other in by_kind if kinds[other] is None and is_common(other)]
    for other in common:
        by_kind[key] += by_kind.pop(other)


def work_shares(
    series: Series, application: Application, limits: Thresholds
) -> list[tuple[str, float]]:
    """Return in words what an application's code does, with its share, the greatest first."""
    own = _own_files(application)
    words = wording()["doing"]
    return [
        (
            work.kind.does if work.kind else words["brief-unknown"].format(where=_where(work, own)),
            work.share,
        )
        for work in code_work(application, series.code.get(application.number), limits)
    ]


def main_work(
    application: Application, use: CodeUse | None, limits: Thresholds
) -> dict[str, float]:
    """Return each kind of work that is a good part of an application's, with its share."""
    if use is None or use.samples < limits.code.samples_least:
        return {}
    works = code_work(application, use, limits)
    shares = {work.kind.key: work.share for work in works if work.kind}
    for name, share in _threads(use).items():
        kind = kind_of_thread(name)
        if kind:
            shares[kind.key] = max(share, shares.get(kind.key, 0.0))
    return {key: share for key, share in shares.items() if share >= limits.code.main_least}


def work_circumstances(work: dict[str, float]) -> frozenset[str]:
    """Return ``does-`` with each kind of work."""
    return frozenset(f"does-{key}" for key in work)


def work_filling(work: dict[str, float]) -> dict[str, str]:
    """Return the template values of steps that fit the work: ``share-`` and the kind."""
    return {f"share-{key}": percent(share) for key, share in work.items()}


def doing_of_code(
    application: Application, use: CodeUse | None, limits: Thresholds
) -> Iterator[Doing]:
    """Yield the kinds of work that are the greatest parts of an application's CPU time."""
    words = wording()["doing"]
    own = _own_files(application)
    for work in code_work(application, use, limits)[: int(limits.code.shown_most)]:
        where = _where(work, own)
        if work.kind is None:
            name, text = where, words["code-unknown"]
        else:
            name, text = work.kind.key, words["code" if where else "code-nowhere"]
        yield Doing(
            what="code",
            name=name,
            share=rounded(work.share),
            value=rounded(work.share * application.cores.mean()),
            unit="cores",
            text=text.format(
                share=percent(work.share), does=work.kind.does if work.kind else "", where=where
            ),
            source=f"{SOURCE}, {use.samples if use else 0} samples",
        )


def doing_of_threads(
    application: Application, use: CodeUse | None, limits: Thresholds
) -> Iterator[Doing]:
    """Yield the name of the threads that most of its CPU time goes to, where it tells anything."""
    if use is None or use.samples < limits.code.samples_least:
        return
    words = wording()["doing"]
    shares = _threads(use)
    first = max(shares, key=lambda name: shares[name], default=None)
    names = {process.facts.name for process in application.members}
    if first is None or shares[first] < limits.code.main_least:
        return
    # a thread that has the name of its program tells nothing
    if any(name.startswith(first) or first.startswith(name) for name in names):
        return
    kind = kind_of_thread(first)
    text = words["thread"].format(share=percent(shares[first]), name=first)
    yield Doing(
        what="thread",
        name=first,
        share=rounded(shares[first]),
        value=rounded(shares[first] * application.cores.mean()),
        unit="cores",
        text=f"{text}: {kind.does}" if kind else text,
        source=f"{SOURCE}, {use.samples} samples; /proc/PID/task/TID/comm",
    )


def _own_files(application: Application) -> set[str]:
    return {file_name(process.facts.executable or "") for process in application.members}


def _where(work: CodeWork, own: set[str]) -> str:
    """Return in whose code most of a work is; nothing for code that belongs to no file."""
    words, location = wording()["doing"], work.locations[0]
    if location.mapping == GENERATED:
        return ""
    name = file_name(location.mapping)
    of = words["own"] if name in own else {KERNEL: words["kernel"]}.get(name, name)
    # one of many functions stands for none of the others
    if location.function is None or location.share < MOSTLY * work.share:
        return of
    return words["function"].format(function=location.function, of=of)


def _threads(use: CodeUse) -> dict[str, float]:
    shares: defaultdict[str, float] = defaultdict(float)
    for name, share in use.threads:
        shares[without_number(name)] += share
    return dict(shares)
