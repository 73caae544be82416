"""Everything about one process, for ``view process``: text for people, an object for programs."""

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from rich.console import RenderableType
from rich.table import Table as Grid
from rich.text import Text

from dunmist.advice import (
    About,
    Case,
    Judged,
    about_lines,
    cores_text,
    percent,
    size_text,
    span_text,
)
from dunmist.cli.sparklines import curve_text
from dunmist.cli.table_text import table_parts
from dunmist.harmless import harmless
from dunmist.series import Process, Rate
from dunmist.tables import (
    LOCKS,
    PROCESSES,
    SOCKETS,
    THREADS,
    Filled,
    filled,
    lock_rows,
    process_rows,
    records,
    socket_rows,
    thread_rows,
)

# the longest label and two spaces
LABEL_WIDTH = 22
# one point a column of the narrowest window
POINTS_MOST = 80


class ProcessPage(NamedTuple):
    """All that is known of one process; ``tables`` hold what it has several of."""

    process: Process
    about: About
    case: Case | None
    facts: dict[str, Any]
    tables: list[Filled]
    findings: list[str]


def make_page(judged: Judged, process: Process) -> ProcessPage:
    """Return all that is known of a process."""
    sockets = [socket for socket in judged.series.sockets if process.identity in socket.owners]
    return ProcessPage(
        process=process,
        about=judged.cases.about(process),
        case=judged.cases.of(process.application),
        facts=records(filled(PROCESSES, process_rows(judged, [process])))[0],
        tables=[
            filled(PROCESSES._replace(name="children"), process_rows(judged, process.children)),
            filled(SOCKETS, socket_rows(judged, sockets)),
            filled(THREADS._replace(name="threads"), thread_rows(judged, [process])),
            filled(LOCKS, lock_rows(judged, process.pid)),
        ],
        findings=[
            advice.text
            for finding, advice in zip(
                judged.diagnosis.findings, judged.triage.findings, strict=True
            )
            if finding.application is process.application
        ],
    )


def as_json(page: ProcessPage) -> dict[str, Any]:
    """Return everything as one object for programs."""
    process = page.process
    return {
        "facts": page.facts,
        "about": dict(about_lines(page.about)),
        "over_time": {
            "cores": process.cores.values.tolist(),
            "waiting_tasks": process.waiting.values.tolist(),
            "private_bytes": process.private_bytes.values.tolist(),
            "rss_bytes": process.rss_bytes.values.tolist(),
            "read_bytes_per_s": process.read_bytes_per_s.values.tolist(),
            "write_bytes_per_s": process.write_bytes_per_s.values.tolist(),
            "major_faults_per_s": process.major_faults_per_s.values.tolist(),
            "threads": process.thread_count.values.tolist(),
            "states": process.states,
        },
        "findings": page.findings,
        "steps": [
            {
                "action": rung.step.action,
                "text": rung.step.text,
                "command": rung.step.command,
                "risk": rung.step.risk,
                "undo": rung.step.undo,
                "check": rung.step.check,
            }
            for rung in (page.case.rungs if page.case else [])
        ],
    }


def as_text(judged: Judged, page: ProcessPage, width: int) -> Iterator[RenderableType]:
    """Yield everything for people, as wide as given."""
    process, facts = page.process, page.facts
    role = f", {facts['role']}" if facts["role"] else ""
    yield Text(harmless(f"{process.name} ({process.pid}){role}"), "bold")
    used = cores_text(float(facts["cores_mean"]), judged.series.machine.logical_processors)
    lines = [
        ("command line", " ".join(process.facts.command_line) or "–"),
        ("used", f"{used} on average"),
        *about_lines(page.about),
    ]
    if isinstance(facts["waits_in"], str):
        lines.append(("sleeps or waits in", facts["waits_in"]))
    yield _grid([*lines, *(("finding", text) for text in page.findings)], LABEL_WIDTH)
    yield Text("")
    yield from _curves(judged, process, min(POINTS_MOST, width - LABEL_WIDTH - 36))
    for table in page.tables:
        if len(table.frame):
            yield Text(f"\n{table.table.name}", style="italic")
            yield from table_parts([table], width)
    yield Text("\nwhat to do, safest first", "bold")
    rungs = page.case.rungs if page.case else []
    steps = [
        (f"{number:2}.", f"{rung.step.text} [{rung.step.risk}]")
        for number, rung in enumerate(rungs, start=1)
    ]
    yield _grid(steps, 3)
    if rungs:
        yield Text(f"    dunmist fix do FILE STEP --pid {process.pid} carries one out", "dim")


def _grid(rows: list[tuple[str, str]], label_width: int) -> Grid:
    """Return labels with their texts beside them, however many lines those take."""
    grid = Grid.grid(padding=(0, 1))
    grid.add_column(width=label_width, no_wrap=True)
    grid.add_column()
    for label, text in rows:
        grid.add_row(label, Text(harmless(text)))
    return grid


def _curves(judged: Judged, process: Process, points: int) -> Iterator[Text]:
    line = judged.series.line
    each_s = line.duration_s / min(points, line.intervals)
    yield Text(f"over {span_text(line.duration_s)}, {span_text(each_s)} a mark", "dim")
    yield _line("cores used", process.cores, points, lambda value: f"{value:.2f}")
    yield _line("waits for a CPU", process.waiting, points, percent)
    yield _line("reads from storage", process.read_bytes_per_s, points, _rate)
    yield _line("writes to storage", process.write_bytes_per_s, points, _rate)
    yield _line("major faults", process.major_faults_per_s, points, lambda value: f"{value:.1f}/s")
    held = process.private_bytes
    least, most = held.least(), held.greatest()
    if least is not None and most is not None:
        strip = curve_text(held.curve(points))
        text = f"{size_text(least)} to {size_text(most)}"
        yield Text(f"{'memory of its own':<{LABEL_WIDTH}} {strip} {text}")


def _line(label: str, rate: Rate, points: int, write: Callable[[float], str]) -> Text:
    most, mean = rate.greatest(), rate.known_mean()
    if most is None or mean is None:
        return Text(f"{label:<{LABEL_WIDTH}} not visible")
    strip = curve_text(rate.curve(points))
    return Text(f"{label:<{LABEL_WIDTH}} {strip} mean {write(mean)}, most {write(most)}")


def _rate(value: float) -> str:
    return f"{size_text(value)}/s" if value else "0"
