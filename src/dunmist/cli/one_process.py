"""Everything about one process, for ``view process``: text for people, an object for programs."""

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

import click
import numpy as np
import pandas as pd
from rich.console import RenderableType
from rich.table import Table
from rich.text import Text

from dunmist.advice import (
    About,
    Rung,
    about_lines,
    about_process,
    application_rungs,
    cores_text,
    culprit_rungs,
    percent,
    size_text,
    span_text,
)
from dunmist.cli.judging import Judged
from dunmist.cli.strips import curve_text, span_curve_text
from dunmist.cli.tables import table_parts
from dunmist.harmless import harmless
from dunmist.reports.columns import SHOWN
from dunmist.reports.frames import roles_of
from dunmist.series import tables
from dunmist.series.curves import curve
from dunmist.series.one_process import OneProcess, load_process
from dunmist.series.rates import Floats

LABEL_WIDTH = 22
POINTS_MOST = 80


class Known(NamedTuple):
    """All that is known of one process; the frames hold what it has several of."""

    about: About
    role: str | None
    facts: dict[str, Any]
    over_time: OneProcess
    frames: dict[str, pd.DataFrame]
    rungs: list[Rung]
    findings: list[str]


def find_identity(judged: Judged, what: str) -> int:
    """Return the process meant by a number or a name; raises UsageError when there is none."""
    grouping, processes = judged.series.processes.grouping, judged.series.processes
    living = [one for one in processes.last if one not in processes.ended_tick]
    if what.isdigit():
        same = [one for one in processes.last if grouping.facts(one).pid == int(what)]
        if not same:
            raise click.UsageError(f"there is no process {what} in this capture")
        return same[-1]
    named = [one for one in living if grouping.program(one).name == what] or [
        one for one in living if what.lower() in grouping.program(one).name.lower()
    ]
    if not named:
        names = {grouping.program(one).name for one in living}
        from difflib import get_close_matches

        near = get_close_matches(what, names, n=1)
        hint = f"; did you mean '{near[0]}'?" if near else ""
        raise click.UsageError(f"no process is called '{what}' in this capture{hint}")
    # of several, the one that did most
    return max(named, key=lambda one: float(processes.process_cpu_s[one]))


def know(judged: Judged, identity: int) -> Known:
    """Return all that is known of a process."""
    series, diagnosis = judged.series, judged.diagnosis
    application = series.processes.grouping.application_of[identity]
    pid = series.processes.grouping.facts(identity).pid
    ranked = [one for one in diagnosis.culprits if one.application == application]
    frame = tables.process_table(series)
    ports = dict(tables.TOPICS["ports"])["sockets"](series)
    own = ports[[str(pid) in str(pids).split() for pids in ports["pids"]]] if len(ports) else ports
    threads = dict(tables.TOPICS["processes"])["busy threads"](series)
    return Known(
        about=about_process(series, identity),
        role=roles_of(series, diagnosis).get(application),
        facts={str(key): one for key, one in frame[frame["pid"] == pid].iloc[0].items()},
        over_time=load_process(series.path, identity),
        frames={
            "children": frame[frame["parent_pid"] == pid],
            "sockets": own,
            "threads": threads[threads["pid"] == pid] if len(threads) else threads,
            "locks": _locks(judged, pid),
        },
        rungs=culprit_rungs(series, ranked[0], diagnosis)
        if ranked
        else application_rungs(series, application, diagnosis),
        findings=[
            text.text
            for one, text in zip(diagnosis.findings, judged.triage.findings, strict=True)
            if one.application == application
        ],
    )


def as_json(known: Known) -> dict[str, Any]:
    """Return everything as one object for programs."""
    over = known.over_time
    return {
        "facts": {**known.facts, "role": known.role},
        "about": dict(about_lines(known.about)),
        "over_time": {
            "cores": over.cores.tolist(),
            "waiting_tasks": over.waiting.tolist(),
            "private_bytes": over.private_bytes.tolist(),
            "rss_bytes": over.rss_bytes.tolist(),
            "read_bytes_per_s": over.read_bytes_per_s.tolist(),
            "write_bytes_per_s": over.write_bytes_per_s.tolist(),
            "major_faults_per_s": over.major_faults_per_s.tolist(),
            "threads": over.threads.tolist(),
            "states": over.states,
        },
        "findings": known.findings,
        "steps": [
            {"action": one.step.action, "text": one.step.text, "command": one.step.command,
             "risk": one.step.risk, "undo": one.step.undo, "check": one.step.check}
            for one in known.rungs
        ],
    }  # fmt: skip


def as_text(judged: Judged, known: Known, width: int) -> Iterator[RenderableType]:
    """Yield everything for people, as wide as given."""
    about, machine = known.about, judged.series.machine
    online = float(np.median(machine.online))
    role = f", {known.role}" if known.role else ""
    yield Text(harmless(f"{about.name} ({about.pid}){role}"), "bold")
    facts = [
        ("command line", " ".join(about.command_line) or "–"),
        ("used", f"{cores_text(float(known.facts['cores_mean']), online)} on average"),
        *about_lines(about),
    ]
    waits = known.facts.get("waits_in")
    if isinstance(waits, str):
        facts.append(("sleeps or waits in", waits))
    yield _grid([*facts, *(("finding", text) for text in known.findings)], LABEL_WIDTH)
    yield Text("")
    yield from _curves(judged, known.over_time, min(POINTS_MOST, width - LABEL_WIDTH - 36))
    frames = {name: _usual(name, frame) for name, frame in known.frames.items() if len(frame)}
    for name, frame in frames.items():
        yield Text(f"\n{name}", style="italic")
        yield from table_parts({name: frame}, width)
    yield Text("\nwhat to do, safest first", "bold")
    steps = [(f"{number:2}.", f"{rung.step.text} [{rung.step.risk}]")
             for number, rung in enumerate(known.rungs, start=1)]  # fmt: skip
    yield _grid(steps, 3)
    if known.rungs:
        yield Text(f"    dunmist fix FILE --pid {about.pid} --step K shows and does one", "dim")


def _grid(rows: list[tuple[str, str]], label_width: int) -> Table:
    """Return labels with their texts beside them, however many lines those take."""
    grid = Table.grid(padding=(0, 1))
    grid.add_column(width=label_width, no_wrap=True)
    grid.add_column()
    for label, text in rows:
        grid.add_row(label, Text(harmless(text)))
    return grid


def _usual(name: str, frame: pd.DataFrame) -> pd.DataFrame:
    columns = SHOWN.get({"children": "processes"}.get(name, name), tuple(frame.columns))
    return frame[[column for column in columns if column in frame.columns]]


def _curves(judged: Judged, over: OneProcess, points: int) -> Iterator[Text]:
    each_s = judged.series.duration_s / min(points, len(judged.series.machine.interval_s))
    yield Text(f"over {span_text(judged.series.duration_s)}, {span_text(each_s)} a mark", "dim")
    yield _line("cores used", over.cores, points, lambda value: f"{value:.2f}")
    yield _line("waits for a processor", over.waiting, points, percent)
    yield _line("reads from storage", over.read_bytes_per_s, points, _rate)
    yield _line("writes to storage", over.write_bytes_per_s, points, _rate)
    yield _line("major faults", over.major_faults_per_s, points, lambda value: f"{value:.1f}/s")
    known = over.private_bytes[~np.isnan(over.private_bytes)]
    if len(known):
        strip = span_curve_text(curve(over.private_bytes, points))
        text = f"{size_text(known.min())} to {size_text(known.max())}"
        yield Text(f"{'memory of its own':<{LABEL_WIDTH}} {strip} {text}")


def _line(label: str, values: Floats, points: int, write: Callable[[float], str]) -> Text:
    if np.isnan(values).all():
        return Text(f"{label:<{LABEL_WIDTH}} not visible")
    most, mean = float(np.nanmax(values)), float(np.nanmean(values))
    strip = curve_text(curve(values, points))
    return Text(f"{label:<{LABEL_WIDTH}} {strip} mean {write(mean)}, most {write(most)}")


def _rate(value: float) -> str:
    return f"{size_text(value)}/s" if value else "0"


def _locks(judged: Judged, pid: int) -> pd.DataFrame:
    """Return the file locks that a process waits for or holds while others wait."""
    survey = judged.series.last_survey
    rows = [
        {"waits": one.waiter, "for_what_holds": one.holder}
        for one in (survey.locks if survey else [])
        if pid in (one.waiter, one.holder)
    ]
    return pd.DataFrame(rows)
