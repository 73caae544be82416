"""The programs next to the verdict: process, owner, the figure that counts, command."""

from collections.abc import Callable
from typing import NamedTuple

from dunmist.advice import Judged, size_text
from dunmist.diagnosis import ResourceWord, Role
from dunmist.series import Application

# programs that are shown if none is ranked, and the least usage to be shown
BUSIEST_SHOWN, LEAST_CORES, LEAST_BYTES = 5, 0.005, 10_000.0


class ProgramRow(NamedTuple):
    """One program on the first screen."""

    rank: int | None  # None if it is not ranked
    role: Role | None
    application: Application
    name: str
    pid: int | str  # of the main process
    more: int  # number of its other processes
    owner: str
    figure: str  # of the limiting resource, in its own unit
    command: str


class _Figure(NamedTuple):
    """Unit of a resource: the heading, the amount of a program, and its text."""

    heading: str
    amount: Callable[[Application], float]
    text: Callable[[float], str]
    least: float


_CORES = _Figure(
    "cores", lambda application: application.cores.mean(), lambda n: f"{n:.2f}", LEAST_CORES
)
_FIGURES: dict[ResourceWord, _Figure] = {
    "memory": _Figure(
        "memory",
        lambda application: application.private_bytes.median() or 0.0,
        size_text,
        LEAST_BYTES,
    ),
    "disk": _Figure(
        "disk",
        lambda application: application.disk_bytes_per_s.mean(),
        lambda n: f"{size_text(n)}/s",
        LEAST_BYTES,
    ),
    "link": _Figure(
        "network",
        lambda application: application.network_bytes_per_s.mean(),
        lambda n: f"{size_text(n)}/s",
        LEAST_BYTES,
    ),
}
_FIGURES["swap"] = _FIGURES["memory"]


def heading_of(judged: Judged) -> str:
    """Return the heading of a row's figure."""
    return _figure(judged).heading


def culprit_rows(judged: Judged) -> list[ProgramRow]:
    """Return the ranked programs."""
    return [
        _row(judged, culprit.application, rank, culprit.role)
        for rank, culprit in enumerate(judged.diagnosis.culprits, start=1)
    ]


def busiest_rows(judged: Judged) -> list[ProgramRow]:
    """Return the programs that used most of what counts, the greatest first."""
    figure = _figure(judged)
    others = [
        application
        for application in judged.series.applications
        if not (application.observer or application.kernel)
        and figure.amount(application) >= figure.least
    ]
    others.sort(key=lambda application: -figure.amount(application))
    return [_row(judged, application, None, None) for application in others[:BUSIEST_SHOWN]]


def _figure(judged: Judged) -> _Figure:
    limiting = judged.diagnosis.limiting
    return _FIGURES.get(limiting, _CORES) if limiting else _CORES


def _row(
    judged: Judged, application: Application, rank: int | None, role: Role | None
) -> ProgramRow:
    figure, main = _figure(judged), application.main
    running = len(application.living) or len(application.members)
    words = list(main.facts.command_line or ()) if main else []
    # views show the directory of the program; here its arguments have to fit
    command = " ".join([words[0].rpartition("/")[2] or words[0], *words[1:]]) if words else ""
    return ProgramRow(
        rank=rank,
        role=role,
        application=application,
        name=application.name,
        pid=main.pid if main else "ended",
        more=max(0, running - 1),
        owner=(main.facts.user if main else None) or "unknown",
        figure=figure.text(figure.amount(application)),
        command=command or (main.name if main else "its processes have ended"),
    )
