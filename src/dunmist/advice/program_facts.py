"""Collect the facts of one application from the capture and the catalogue.

Unknown is said to be unknown, with what to search for. Figures and keys become sentences in
``about_lines``; nothing here judges.
"""

from datetime import datetime, tzinfo
from typing import NamedTuple

from dunmist.advice.amounts import span_text
from dunmist.advice.origin import Origin, find_origin
from dunmist.advice.protection import Protections
from dunmist.advice.recognition import GUESSES, Recognised, recognise
from dunmist.advice.wording import wording
from dunmist.computer import DELETED, Package, ProcessFacts
from dunmist.diagnosis import Thresholds, is_unusual_path
from dunmist.series import Application, Process, Series
from dunmist.timestamps import timestamp_text

# a line of the report holds about six
PORTS_SHOWN = 6


class Listener(NamedTuple):
    """A port that is listened on, and whether only this computer reaches it."""

    protocol: str
    port: int
    local: bool


class About(NamedTuple):
    """Facts of one process and its application; None is 'not known'."""

    process: Process
    file_state: str  # present, odd-place, missing or replaced
    package: Package | None
    owner_kind: str  # here, person, administrator, service or unknown
    unit_about: str | None  # the service's own description
    listens: tuple[Listener, ...]
    remotes: tuple[str, ...]  # addresses at the other end of its connections
    started_s: float | None  # since 1970
    running_s: float | None  # at the end of the capture
    origin: Origin
    zone: tzinfo  # of the patient
    recognised: Recognised | None
    protection: str | None  # why it must not be touched, None if it may be

    @property
    def name(self) -> str:
        """Name of its program."""
        return self.process.name

    @property
    def executable(self) -> str:
        """The file of its program, without the kernel's remark that it is gone."""
        return (self.process.facts.executable or "").removesuffix(DELETED)

    @property
    def owner(self) -> str | None:
        """The user that it belongs to."""
        return self.process.facts.user


def about_process(
    series: Series, process: Process, protections: Protections, limits: Thresholds
) -> About:
    """Return the facts of one process and of the application that it belongs to."""
    facts, application = process.facts, process.application
    origin = find_origin(series, application, limits)
    started_s = series.started_s(facts.start_clk)
    now_s = datetime.fromisoformat(series.header.started).timestamp() + series.duration_s
    unit = series.surveyed.unit(process.unit)
    listens, remotes = _ports(series, application)
    return About(
        process=process,
        file_state=_file_state(series, facts),
        package=series.surveyed.package(facts),
        owner_kind=series.surveyed.owner_kind(facts),
        unit_about=unit.about if unit else None,
        listens=listens,
        remotes=remotes,
        started_s=started_s,
        running_s=None if started_s is None else max(0.0, now_s - started_s),
        origin=origin,
        zone=series.zone,
        recognised=recognise(application, origin, limits),
        protection=protections.of(application),
    )


def about_lines(about: About) -> list[tuple[str, str]]:
    """Return the known facts as pairs of label and sentence, the most important first."""
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
        lines.append(("file", text.format(path=about.executable)))
    lines.append(("package", _package_text(about)))
    if about.process.unit:
        more = f": {about.unit_about}" if about.unit_about else ""
        lines.append(("unit", f"{about.process.unit}{more}"))
    lines.append(("started", _started_text(about)))
    parents = [f"{parent.name} ({parent.pid})" for parent in about.process.ancestors]
    if parents:
        lines.append(("parents", " < ".join(parents)))
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
    """Return the words to search for: name, package and path."""
    package = f" {about.package.name}" if about.package else ""
    return f'"{about.name}"{package} linux {about.executable}'.strip()


def _file_state(series: Series, facts: ProcessFacts) -> str:
    path = facts.executable
    if path is None:
        return "unknown"
    if path.endswith(DELETED):
        gone = path.removesuffix(DELETED)
        return "replaced" if gone in series.surveyed.replaced else "missing"
    return "odd-place" if is_unusual_path(path) else "present"


def _ports(
    series: Series, application: Application
) -> tuple[tuple[Listener, ...], tuple[str, ...]]:
    own = {process.identity for process in application.members}
    listens, remotes = set(), set()
    for socket in series.sockets:
        if own.isdisjoint(socket.owners):
            continue
        facts = socket.facts
        if socket.listens and facts.local_port:
            listens.add(Listener(facts.protocol, facts.local_port, socket.is_loopback))
        elif facts.remote and not socket.is_loopback:
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
    started = timestamp_text(about.started_s, about.zone)
    return f"{text}, {span_text(about.running_s)} ago ({started})"


def _ports_text(listens: tuple[Listener, ...]) -> str:
    scopes = {True: "this computer only", False: "open to the network"}
    return _some([f"{port.protocol} {port.port} ({scopes[port.local]})" for port in listens])


def _some(texts: list[str]) -> str:
    more = len(texts) - PORTS_SHOWN
    return ", ".join(texts[:PORTS_SHOWN]) + (f" and {more} more" if more > 0 else "")
