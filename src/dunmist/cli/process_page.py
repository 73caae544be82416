"""Show the page of one process, for ``view process``: text for people, an object for programs."""

import shlex
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from rich.console import RenderableType
from rich.table import Table as Grid
from rich.text import Text

from dunmist.advice import About, Case, Judged, about_lines, cores_text, size_text, span_text
from dunmist.cli.table_text import table_parts
from dunmist.harmless import harmless
from dunmist.jobs.quick_sample import is_quick_sample
from dunmist.series import Application, Process, Rate
from dunmist.sparklines import curve_text
from dunmist.tables import (
    LOCKS,
    PROCESSES,
    SOCKETS,
    THREADS,
    UNKNOWN,
    Filled,
    Row,
    cell_text,
    filled,
    locks_of,
    processes_of,
    sockets_of,
    threads_of,
    zone_of,
)

# the longest label and two spaces
LABEL_WIDTH = 22
# one point a column of the narrowest window
POINTS_MOST = 80
# the longest name of a step
STEP_WIDTH = 20


class ProcessPage(NamedTuple):
    """All that is known of one process; ``tables`` hold what it has several of."""

    process: Process
    about: About
    case: Case | None
    facts: Row
    tables: list[Filled]
    findings: list[str]


def make_page(judged: Judged, process: Process) -> ProcessPage:
    """Return all that is known of a process."""
    sockets = [socket for socket in judged.series.sockets if process.identity in socket.owners]
    return ProcessPage(
        process=process,
        about=judged.cases.about(process),
        case=judged.cases.of(process.application),
        facts=filled(PROCESSES, processes_of(judged, [process])).rows[0],
        tables=[
            filled(
                PROCESSES._replace(name="children"),
                processes_of(judged, process.children),
                zone_of(judged),
            ),
            filled(SOCKETS, sockets_of(judged, sockets)),
            filled(THREADS._replace(name="threads"), threads_of(judged, [process])),
            filled(LOCKS, locks_of(judged, process.pid)),
        ],
        findings=findings_of(judged, process.application),
    )


def findings_of(judged: Judged, application: Application) -> list[str]:
    """Return the sentences of the findings about an application, with since when."""
    # behind them stands what only the whole capture shows
    both = zip(judged.diagnosis.findings, judged.triage.findings, strict=False)
    return [
        f"{advice.text} ({advice.since.text})" if advice.since else advice.text
        for finding, advice in both
        if finding.application is application
    ]


def as_json(page: ProcessPage) -> dict[str, Any]:
    """Return everything as one object for programs."""
    process = page.process
    return {
        "facts": dict(page.facts),
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
                "action": filled.step.action,
                "text": filled.step.text,
                "command": filled.step.command,
                "risk": filled.step.risk,
                "undo": filled.step.undo,
                "check": filled.step.check,
            }
            for filled in (page.case.filled_steps if page.case else [])
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
        *_measured(judged, facts),
        *about_lines(page.about),
    ]
    if isinstance(facts["waits_in"], str):
        lines.append(("sleeps or waits in", facts["waits_in"]))
    yield label_grid([*lines, *(("finding", text) for text in page.findings)], LABEL_WIDTH)
    yield Text("")
    yield from curve_lines(judged, process, min(POINTS_MOST, width - LABEL_WIDTH - 36))
    for table in page.tables:
        if table.rows:
            yield Text(f"\n{table.table.name}", style="italic")
            yield from table_parts([table], width)
    yield from step_lines(judged, page.case, process.pid)


def _measured(judged: Judged, facts: Row) -> Iterator[tuple[str, str]]:
    """Yield the facts of the process itself, as label and text."""
    names = {
        "state": ("state", "nice", "threads", "bits"),
        "memory": ("private_bytes", "rss_bytes", "virtual_bytes", "swap_bytes"),
        "since it started": ("cpu_total_s", "read_bytes", "write_bytes", "started_s"),
        "disk, network": ("disk_bytes_per_s", "network_bytes_per_s"),
        "open files": ("descriptors", "descriptor_limit"),
    }
    zone = zone_of(judged)
    for label, columns in names.items():
        known = [
            f"{PROCESSES.column(name).heading} {text}"
            for name in columns
            if (text := cell_text(PROCESSES.column(name).unit, facts[name], zone)) != UNKNOWN
        ]
        if known:
            yield label, ", ".join(known)


def step_lines(judged: Judged, case: Case | None, pid: int | None) -> Iterator[RenderableType]:
    """Yield the steps with the command that carries one out, for this capture."""
    if case is None or not case.filled_steps:
        return
    yield Text("\nwhat to do, safest first", "bold")
    steps = [
        (filled.step.action, f"{filled.step.text} [{filled.step.risk}]")
        for filled in case.filled_steps
    ]
    yield label_grid(steps, STEP_WIDTH)
    which = "" if pid is None else f" --pid {pid}"
    path = judged.series.path
    if is_quick_sample(path):
        # a process sampled just now may have exited by the time this is read
        lines = [f"dunmist capture -o now.gz, then dunmist fix do now.gz STEP{which}"]
    else:
        lines = [f"dunmist fix do {shlex.quote(str(path))} STEP{which}"]
    yield from (Text(harmless(line), "dim") for line in lines)


def label_grid(rows: list[tuple[str, str]], label_width: int) -> Grid:
    """Return labels with their texts, however many lines those take."""
    grid = Grid.grid(padding=(0, 1))
    grid.add_column(width=label_width, no_wrap=True)
    grid.add_column()
    for label, text in rows:
        grid.add_row(label, Text(harmless(text)))
    return grid


def curve_lines(judged: Judged, process: Process | Application, points: int) -> Iterator[Text]:
    """Yield the figures of a process or an application over time, one a line."""
    line = judged.series.line
    each_s = line.duration_s / min(points, line.intervals)
    yield Text(f"over {span_text(line.duration_s)}, {span_text(each_s)} a mark", "dim")
    yield _line("cores used", process.cores, points, lambda value: f"{value:.2f}")
    yield _line("waits for a CPU", process.waiting, points, lambda value: f"{value:.2f} tasks")
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
