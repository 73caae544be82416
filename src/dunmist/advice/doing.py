"""Describe what an application is doing: code, threads, files, waits, peers."""

from collections import Counter
from collections.abc import Iterator

from dunmist.advice.amounts import listed, percent, plain_number, size_text
from dunmist.advice.code_kinds import code_kinds
from dunmist.advice.code_work import doing_of_code, doing_of_threads
from dunmist.advice.evidence import rounded
from dunmist.advice.guilty_part import GuiltyPart
from dunmist.advice.moved_files import doing_of_files
from dunmist.advice.origin import Origin
from dunmist.advice.parts import doing_of_parts
from dunmist.advice.peers import doing_of_peers
from dunmist.advice.triage import Doing
from dunmist.advice.waits import meaning_of_wait
from dunmist.advice.wording import wording
from dunmist.diagnosis import ResourceWord, Thresholds, main_started_programs
from dunmist.sampling import Survey
from dunmist.series import Application, Series

KIB, MIB = 1 << 10, 1 << 20
# of the line below a culprit
SHOWN_MOST = 3
CALLS_SHOWN = 2
WRITES = ("write", "pwrite", "writev", "fsync", "fdatasync", "sync_file_range", "msync")
# smallest share of a program's memory that is worth a mention
KIND_LEAST = 0.05


def doing_of(
    application: Application,
    series: Series,
    limits: Thresholds,
    part: GuiltyPart | None,
    origin: Origin,
) -> list[Doing]:
    """Return the work of an application, the most important first."""
    use = series.code.get(application.number)
    return [
        *_of_started(application, limits),
        *doing_of_code(application, use, limits),
        *doing_of_threads(application, use, limits),
        *_of_parts(application, part),
        *doing_of_parts(application, limits),
        *doing_of_files(series.files.get(application.number), limits),
        *_of_waiting(application, series, limits),
        *_of_calls(application, series, limits),
        *_of_memory(application, series, limits),
        *doing_of_peers(application, series, limits),
        *_of_origin(origin),
    ]


def brief_of(item: Doing) -> str:
    """Return one entry in few words, without its share."""
    words = wording()["doing"]
    if item.what == "code":
        does = {kind.key: kind.does for kind in code_kinds()}
        return does.get(item.name) or words["brief-unknown"].format(where=item.name)
    if item.what == "thread":
        return words["brief-thread"].format(name=item.name)
    return item.text


def doing_text(doing: list[Doing], limiting: ResourceWord | None = None) -> str | None:
    """Return in few words what it does, first what loads the limiting resource.

    None if nothing is known of started programs, code, threads and files.
    """
    brief = wording()["doing"]["brief"]
    work = {
        what: [
            brief.format(share=percent(item.share or 0.0), does=brief_of(item))
            for item in doing
            if item.what == what
        ]
        for what in ("code", "thread")
    }
    started = [item.text for item in doing if item.what == "started"]
    code = [*started, *work["code"][:SHOWN_MOST], *work["thread"]]
    files = [item.text for item in doing if item.what == "file"]
    of_disk = limiting in ("disk", "storage")
    return ", ".join([*files, *code] if of_disk else [*code, *files]) or None


def _of_started(application: Application, limits: Thresholds) -> Iterator[Doing]:
    """Yield the programs that it starts again and again, where they do most of its work."""
    started = main_started_programs(application, limits)
    if started is None:
        return
    yield Doing(
        what="started",
        name=started.names[0],
        share=rounded(started.share),
        value=float(started.starts),
        unit="programs",
        text=wording()["doing"]["started"].format(
            share=percent(started.share), names=listed(started.names)
        ),
        source="/proc/PID/stat",
    )


def _of_parts(application: Application, part: GuiltyPart | None) -> Iterator[Doing]:
    if part is None or application.kernel:
        return
    yield Doing(
        what="part",
        name=part.process.name,
        share=rounded(part.share),
        value=float(part.process.pid),
        unit="process number",
        text=wording()["doing"]["part"].format(
            share=percent(part.share), pid=part.process.pid, count=len(application.living)
        ),
        source="/proc/PID/stat",
    )


def _of_waiting(application: Application, series: Series, limits: Thresholds) -> Iterator[Doing]:
    """Yield the uninterruptible waits of its tasks, the longest first."""
    words = wording()["doing"]
    # pages are waited for alike when they are read and when they are written
    writes = any(use.call in WRITES for use in series.calls.get(application.number, ()))
    waits = {kind: counts.mean() for kind, counts in application.blocked.items()}
    functions = {
        process.last.waits_in
        for process in application.members
        if process.last and process.last.waits_in
    }
    where = _in_function(sorted(functions)[0]) if len(functions) == 1 else ""
    for kind in sorted(waits, key=lambda kind: -waits[kind]):
        if waits[kind] < limits.code.waits_least:
            return
        shown = "storage" if writes and kind == "pages" else kind
        yield Doing(
            what="wait",
            name=kind,
            share=rounded(min(1.0, waits[kind])),
            value=rounded(waits[kind]),
            unit="tasks",
            text=words[f"wait-{shown}"].format(tasks=plain_number(waits[kind])) + where,
            source="/proc/PID/stat, /proc/PID/wchan",
        )


def _in_function(function: str | None) -> str:
    """Return where it waits and what that means, as it goes behind a sentence."""
    words, means = wording()["doing"], meaning_of_wait(function)
    if means is not None:
        return words["wait-means"].format(means=means, function=function)
    return words["wait-in"].format(function=function) if function else ""


def _of_calls(application: Application, series: Series, limits: Thresholds) -> Iterator[Doing]:
    """Yield the system calls that it waited in most often, and their files."""
    words = wording()["doing"]
    if sum(counts.mean() for counts in application.blocked.values()) < limits.code.waits_least:
        return
    for use in series.calls.get(application.number, ())[:CALLS_SHOWN]:
        share = percent(use.share)
        key = "call-of" if use.path else "call"
        yield Doing(
            what="wait",
            name=use.call,
            share=rounded(use.share),
            value=None,
            unit=None,
            text=words[key].format(share=share, call=use.call, path=use.path)
            + _in_function(use.function),
            source="/proc/PID/syscall, /proc/PID/stack",
        )


def _of_memory(application: Application, series: Series, limits: Thresholds) -> Iterator[Doing]:
    """Yield its own memory and its swap, where that is a good part."""
    surveys = series.surveyed.surveys
    members = {process.identity for process in application.members}
    own = [
        sum(rollup.private_kib for rollup in survey.rollups if rollup.process in members) * KIB
        for survey in surveys
    ]
    usable = series.header.machine.memory_bytes
    if not own or own[-1] < limits.code.memory_share_least * usable:
        return
    swapped = KIB * sum(
        rollup.swap_pss_kib or 0 for rollup in surveys[-1].rollups if rollup.process in members
    )
    words = wording()["doing"]
    text = words["memory"].format(own=size_text(float(own[-1])))
    kinds = _kinds_of_memory(surveys[-1], members)
    if len(kinds) > 1:
        parts = (words[f"memory-of-{kind}"].format(held=size_text(kinds[kind])) for kind in kinds)
        text += words["memory-kinds"].format(kinds=", ".join(parts))
    if swapped >= MIB:
        text += words["memory-swapped"].format(swapped=size_text(float(swapped)))
    grown = own[-1] - own[0]
    if len(own) > 1 and own[0] and grown >= limits.code.memory_grown_least * own[0]:
        text += words["memory-grown"].format(grown=size_text(float(grown)))
        before = _kinds_of_memory(surveys[0], members)
        if before and kinds:
            grows = max(kinds, key=lambda kind: kinds[kind] - before.get(kind, 0.0))
            text += words[f"memory-grows-{grows}"]
    yield Doing(
        what="memory",
        name=application.name,
        share=rounded(own[-1] / usable),
        value=float(own[-1]),
        unit="bytes",
        text=text,
        source="/proc/PID/smaps_rollup",
    )


def _kinds_of_memory(survey: Survey, members: set[int]) -> dict[str, float]:
    """Return the bytes of each kind of memory that makes up a good part, the most first."""
    held: Counter[str] = Counter()
    for rollup in survey.rollups:
        if rollup.process in members:
            held["data"] += (rollup.data_kib or 0) * KIB
            held["files"] += (rollup.files_kib or 0) * KIB
            held["shared"] += (rollup.shared_kib or 0) * KIB
    least = KIND_LEAST * held.total()
    return {kind: float(size) for kind, size in held.most_common() if size > least}


def _of_origin(origin: Origin) -> Iterator[Doing]:
    """Yield the timer, job or login entry that started it, where it was one."""
    words = wording()["about"]
    if origin.by not in ("timer", "job", "login"):
        return
    name = origin.name or ""
    text = words[f"origin-{origin.by}"].format(name=name)
    yield Doing(
        what="origin",
        name=name,
        share=None,
        value=None,
        unit=None,
        text=wording()["doing"]["origin"].format(by=text),
        source="systemd, /proc/PID/stat, start-up entries",
    )
