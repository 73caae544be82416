"""Show the page of one application, for ``view process NAME``."""

from collections.abc import Iterator
from typing import NamedTuple

from rich.console import RenderableType
from rich.text import Text

from dunmist.advice import Case, Judged, about_lines, cores_text, size_text
from dunmist.cli.process_page import (
    LABEL_WIDTH,
    POINTS_MOST,
    curve_lines,
    findings_of,
    label_grid,
    step_lines,
)
from dunmist.cli.table_text import table_parts
from dunmist.harmless import harmless
from dunmist.series import Application
from dunmist.tables import (
    APPLICATIONS,
    PROCESSES,
    SOCKETS,
    Filled,
    Row,
    applications_of,
    filled,
    processes_of,
    sockets_of,
    zone_of,
)

PIDS_SHOWN = 8


class ApplicationPage(NamedTuple):
    """All that is known of one application."""

    application: Application
    case: Case | None
    facts: Row  # its row of the table of applications
    tables: list[Filled]
    findings: list[str]


def make_application_page(judged: Judged, application: Application) -> ApplicationPage:
    """Return all that is known of an application."""
    members = {process.identity for process in application.members}
    sockets = [socket for socket in judged.series.sockets if members.intersection(socket.owners)]
    zone = zone_of(judged)
    return ApplicationPage(
        application=application,
        case=judged.cases.of(application),
        facts=filled(APPLICATIONS, applications_of(judged, [application])).rows[0],
        tables=[
            filled(PROCESSES, processes_of(judged, application.members), zone),
            filled(SOCKETS, sockets_of(judged, sockets), zone),
        ],
        findings=findings_of(judged, application),
    )


def application_text(judged: Judged, page: ApplicationPage, width: int) -> Iterator[RenderableType]:
    """Yield everything for people, as wide as given."""
    application, facts = page.application, page.facts
    role = f", {facts['role']}" if facts["role"] else ""
    count = len(application.members)
    processes = "1 process" if count == 1 else f"{count} processes"
    yield Text(harmless(f"{application.name}: {processes}{role}"), "bold")
    cpus = judged.series.machine.logical_processors
    pids = [str(process.pid) for process in application.living or application.members]
    more = f" and {len(pids) - PIDS_SHOWN} more" if len(pids) > PIDS_SHOWN else ""
    main = application.main
    lines = [
        ("processes", f"{' '.join(pids[:PIDS_SHOWN])}{more}"),
        ("owners", " ".join(application.users) or "unknown"),
        ("command line", " ".join(main.facts.command_line) if main else "–"),
        ("used", f"{cores_text(float(facts['cores_mean']), cpus)} on average"),
        ("memory of its own", size_text(float(facts["private_bytes"]))),
        (
            "disk, network",
            f"{_rate(facts['disk_bytes_per_s'])}, {_rate(facts['network_bytes_per_s'])}",
        ),
        *_since(judged, application),
        *(("doing", item.text) for item in (page.case.doing if page.case else [])),
        *(about_lines(page.case.about) if page.case else []),
        *(("finding", text) for text in page.findings),
    ]
    yield label_grid(lines, LABEL_WIDTH)
    yield Text("")
    yield from curve_lines(judged, application, min(POINTS_MOST, width - LABEL_WIDTH - 36))
    for table in page.tables:
        if table.rows:
            yield Text(f"\n{table.table.name}", style="italic")
            yield from table_parts([table], width)
    yield from step_lines(judged, page.case, main.pid if main else None)


def _since(judged: Judged, application: Application) -> Iterator[tuple[str, str]]:
    """Yield for how long a culprit can have been so, where anything tells."""
    ranked = zip(judged.diagnosis.culprits, judged.triage.culprits, strict=True)
    for culprit, advised in ranked:
        if culprit.application is application and advised.since is not None:
            yield "since when", advised.since.text


def _rate(bytes_per_s: float) -> str:
    return f"{size_text(float(bytes_per_s))}/s" if bytes_per_s else "0"
