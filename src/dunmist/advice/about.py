"""What a program is: everything that the capture and the catalogue know of one application.

Unknown is said to be unknown, with what to search for. Figures and keys become sentences in
``about_lines``; nothing here judges.
"""

from datetime import UTC, datetime
from typing import NamedTuple

from dunmist.advice.amounts import span_text
from dunmist.advice.origin import Origin, find_origin, parents_of, started_s
from dunmist.advice.protection import protection_of
from dunmist.advice.recognition import GUESSES, Recognised, recognise
from dunmist.advice.tables import wording
from dunmist.applications import unit_of
from dunmist.computer import DELETED, Package, ProcessFacts, is_person
from dunmist.diagnosis import is_odd_place
from dunmist.series import Series
from dunmist.series.naming import main_identity

PORTS_SHOWN = 6
INTERPRETED = 3  # a script is among the first words of a command line


class Listener(NamedTuple):
    """A port that is listened on, and whether only this computer reaches it."""

    protocol: str
    port: int
    local: bool


class About(NamedTuple):
    """What is known of one process and the application it belongs to; None is 'not known'.

    ``file_state`` is present, odd-place, missing or replaced; ``owner_kind`` is here, person,
    administrator, service or unknown. ``parents`` are process numbers and names, the nearest first.
    """

    identity: int
    application: int
    pid: int
    name: str
    command_line: tuple[str, ...]
    executable: str | None
    file_state: str
    package: Package | None
    owner: str | None
    owner_kind: str
    unit: str | None
    unit_about: str | None
    parents: tuple[tuple[int, str], ...]
    listens: tuple[Listener, ...]
    remotes: tuple[str, ...]
    started_s: float | None
    running_s: float | None
    origin: Origin
    recognised: Recognised | None
    protection: str | None


def about_application(series: Series, application: int) -> About | None:
    """Return what is known of an application by its main process, None when it has none."""
    identity = main_identity(series, application)
    return None if identity is None else about_process(series, identity)


def about_process(series: Series, identity: int) -> About:
    """Return what is known of one process and of the application that it belongs to."""
    grouping = series.processes.grouping
    facts = grouping.facts(identity)
    application = grouping.application_of[identity]
    origin = find_origin(series, application)
    moment_s = started_s(series, facts.start_clk)
    now_s = datetime.fromisoformat(series.header.started).timestamp() + series.duration_s
    unit = unit_of(facts.cgroup)
    listens, remotes = _ports(series, application)
    return About(
        identity=identity,
        application=application,
        pid=facts.pid,
        name=grouping.program(identity).name,
        command_line=tuple(facts.command_line),
        executable=facts.executable,
        file_state=_file_state(series, facts),
        package=_package(series, facts),
        owner=facts.user,
        owner_kind=owner_kind(series, facts),
        unit=unit,
        unit_about=_unit_about(series, unit),
        parents=tuple(
            (grouping.facts(one).pid, grouping.program(one).name)
            for one in parents_of(series, identity)
        ),
        listens=listens,
        remotes=remotes,
        started_s=moment_s,
        running_s=None if moment_s is None else max(0.0, now_s - moment_s),
        origin=origin,
        recognised=recognise(series, application, origin),
        protection=protection_of(series, application),
    )


def owner_kind(series: Series, facts: ProcessFacts) -> str:
    """Return whether a process belongs to who is logged in, a person, the administrator, a service.

    Without a list of logins a person cannot be told from one who is logged in.
    """
    if facts.uid is None:
        return "unknown"
    if facts.uid == 0:
        return "administrator"
    if not is_person(facts.uid):
        return "service"
    survey = series.last_survey
    users = {one.user for one in survey.sessions} if survey else set()
    return "here" if facts.user in users else "person"


def about_lines(about: About) -> list[tuple[str, str]]:
    """Return what is known as pairs of a label and a sentence, the most telling first."""
    words = wording()["about"]
    lines = [("what it is", what_it_is(about))]
    if about.recognised:
        kind = about.recognised.kind
        lines += [
            ("what is normal", kind.normal),
            ("what goes wrong", kind.trouble),
            ("what is safe", kind.safe),
        ]
    elif about.package or about.unit_about:
        lines.append(("what to search for", search_words(about)))
    if about.protection:
        lines.append(("do not touch", wording()["protected"][about.protection]))
    lines.append(("owner", words[f"owner-{about.owner_kind}"].format(user=about.owner)))
    if about.executable or about.file_state == "unknown":
        text = words[f"file-{about.file_state}"]
        lines.append(("file", text.format(path=(about.executable or "").removesuffix(DELETED))))
    lines.append(("package", _package_text(about)))
    if about.unit:
        more = f": {about.unit_about}" if about.unit_about else ""
        lines.append(("unit", f"{about.unit}{more}"))
    lines.append(("started", _started_text(about)))
    if about.parents:
        lines.append(("parents", " < ".join(f"{name} ({pid})" for pid, name in about.parents)))
    if about.listens:
        lines.append(("listens on", _ports_text(about.listens)))
    if about.remotes:
        lines.append(("talks to", _some(list(about.remotes))))
    return lines


def what_it_is(about: About) -> str:
    """Return in one sentence what a program is, or that it is not known."""
    words = wording()["about"]
    if about.recognised:
        key = "guess" if about.recognised.by in GUESSES else "known"
        return words[f"kind-{key}"].format(
            what=about.recognised.kind.what, by=words[f"by-{about.recognised.by}"]
        )
    if about.package and about.package.about:
        return words["kind-package"].format(about=about.package.about, name=about.package.name)
    if about.unit_about:
        return words["kind-unit"].format(about=about.unit_about)
    return words["kind-unknown"].format(words=search_words(about))


def search_words(about: About) -> str:
    """Return what to look up elsewhere: name, package and place."""
    package = f" {about.package.name}" if about.package else ""
    place = (about.executable or "").removesuffix(DELETED)
    return f'"{about.name}"{package} linux {place}'.strip()


def _file_state(series: Series, facts: ProcessFacts) -> str:
    path = facts.executable
    if path is None:
        return "unknown"
    if path.endswith(DELETED):
        replaced = {one for survey in series.surveys for one in survey.replaced}
        return "replaced" if path.removesuffix(DELETED) in replaced else "missing"
    return "odd-place" if is_odd_place(path) else "present"


def _package(series: Series, facts: ProcessFacts) -> Package | None:
    by_file = {one.executable: one for survey in series.surveys for one in survey.packages}
    # what an interpreter runs tells more than the interpreter
    files = [*facts.command_line[1:INTERPRETED], (facts.executable or "").removesuffix(DELETED)]
    return next((by_file[file] for file in files if file in by_file), None)


def _unit_about(series: Series, unit: str | None) -> str | None:
    survey = series.last_survey
    return next((one.about for one in (survey.units if survey else []) if one.name == unit), None)


def _ports(series: Series, application: int) -> tuple[tuple[Listener, ...], tuple[str, ...]]:
    grouping = series.processes.grouping
    listens, remotes = set(), set()
    for one in series.sockets:
        if application not in {grouping.application_of.get(owner) for owner in one.owners}:
            continue
        facts = one.facts
        if one.listens and facts.local_port:
            listens.add(Listener(facts.protocol, facts.local_port, one.is_loopback))
        elif facts.remote and not one.is_loopback:
            remotes.add(f"{facts.remote} port {facts.remote_port}")
    return tuple(sorted(listens)), tuple(sorted(remotes))


def _package_text(about: About) -> str:
    words = wording()["about"]
    if about.package is None:
        return words["package-none"]
    more = f": {about.package.about}" if about.package.about else ""
    return f"{about.package.name} {about.package.version or ''}".rstrip() + more


def _started_text(about: About) -> str:
    words = wording()["about"]
    text = words[f"origin-{about.origin.by}"].format(name=about.origin.name or "")
    if about.started_s is None or about.running_s is None:
        return text
    moment = datetime.fromtimestamp(about.started_s, UTC).strftime("%Y-%m-%d %H:%MZ")
    return f"{text}, {span_text(about.running_s)} ago ({moment})"


def _ports_text(listens: tuple[Listener, ...]) -> str:
    scopes = {True: "this computer only", False: "open to the network"}
    return _some([f"{one.protocol} {one.port} ({scopes[one.local]})" for one in listens])


def _some(texts: list[str]) -> str:
    more = len(texts) - PORTS_SHOWN
    return ", ".join(texts[:PORTS_SHOWN]) + (f" and {more} more" if more > 0 else "")
