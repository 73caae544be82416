"""Judges a window of a capture for the desk, and says all of it in one line of JSON.

A process of its own that is gone afterwards, so that nobody has NumPy in memory for the length of a
visit. ``python -m dunmist.jobs.desk_judgement FILE SINCE [UNTIL [NOTE]]``.
"""

import math
import sys
import time
from collections import Counter
from pathlib import Path

import msgspec

from dunmist.advice import FindingAdvice, Judged
from dunmist.advice.complaint_words import understood
from dunmist.desk.judgement import (
    FINDINGS,
    PAGES,
    Judgement,
    PageColumn,
    PageRow,
    PageTable,
    PageTopic,
    ShownFinding,
    ShownStep,
    Suspect,
)
from dunmist.errors import DunmistError
from dunmist.harmless import harmless
from dunmist.jobs.judge import judge
from dunmist.series import Part
from dunmist.tables import Filled, cell_text, plain, topic_tables

# rows of a table that a person may scroll through
ROWS_MOST = 2000
# columns that identify a row of a table, the best first
KEYS = ("pid", "process", "application", "unit", "socket", "name", "disk", "link", "sensor", "what")
NAMES = ("application", "program", "name", "unit")
# tables of what steps are against by name, and the columns that have it, the surest first
# what joins processes to their application, and columns that have another name there
JOINED_BY = "application_number"
OF_A_PROCESS = {"label": "program", "users": "user", "uids": "uid", "groups": "group"}
NAMED = {"services": ("unit",), "what starts by itself": ("file", "name")}
UNITLESS = ("number", "figure", "at", "moment")
# fewer ticks are no certainty
SURE_S, SURE_SHARE = 10.0, 0.8


def desk_judgement(
    path: Path, since_s: float, until_s: float = math.inf, note: str = ""
) -> Judgement:
    """Return all that the desk shows of a window; raises CaptureError.

    ``note`` is what somebody complained of since the capture began.
    """
    complaints = understood(note)
    judged = judge(path, complaints, Part(since_s, until_s), looks_for_bad_window=False)
    triage, series = judged.triage, judged.series
    verdict = triage.verdict
    return Judgement(
        since_s=series.since_s,
        until_s=series.since_s + series.duration_s,
        cpu_s=time.process_time(),
        host=harmless(series.header.machine.host or "this computer"),
        level=verdict.level,
        limiting=verdict.limiting,
        confidence=verdict.confidence,
        headline=harmless(verdict.headline),
        answer=harmless(verdict.answer) if verdict.answer else None,
        complaints=complaints,
        missing=_missing(judged),
        suspects=_suspects(judged),
        worst_finding=next(
            (
                index
                for index, finding in enumerate(triage.findings)
                if verdict.worst.source == "finding" and finding.kind == verdict.worst.what
            ),
            None,
        ),
        findings=_findings(triage.findings),
        pages=_pages(judged),
    )


def _pages(judged: Judged) -> dict[str, list[PageTable]]:
    pages = {page.title: _tables(judged, page) for page in PAGES}
    pages[FINDINGS] = _finding_tables(judged)
    if pages["applications"] and pages["processes"]:
        applications = _with_parts(pages["applications"][0], pages["processes"][0])
        pages["applications"] = [applications, *pages["applications"][1:]]
    return pages


def _with_parts(applications: PageTable, processes: PageTable) -> PageTable:
    """Return the applications, each with its processes in the same columns."""
    index_of = {column.name: index for index, column in enumerate(processes.columns)}
    wanted = [
        index_of.get(OF_A_PROCESS.get(column.name, column.name)) for column in applications.columns
    ]
    by_number: dict[float | str | None, list[PageRow]] = {}
    for row in processes.rows:
        part = msgspec.structs.replace(
            row,
            values=[None if index is None else row.values[index] for index in wanted],
            texts=["" if index is None else row.texts[index] for index in wanted],
        )
        by_number.setdefault(row.values[index_of[JOINED_BY]], []).append(part)
    number = [column.name for column in applications.columns].index(JOINED_BY)
    rows = [
        msgspec.structs.replace(row, parts=by_number.get(row.values[number], []))
        for row in applications.rows
    ]
    return msgspec.structs.replace(applications, rows=rows)


def _missing(judged: Judged) -> str:
    """Return advice that would raise the confidence, empty if it is high."""
    duration_s = judged.series.duration_s
    if duration_s < SURE_S:
        return f"{SURE_S - duration_s:.0f} s more of sampling"
    return "a longer look" if judged.triage.verdict.confidence < SURE_SHARE else ""


def _findings(items: list[FindingAdvice]) -> list[ShownFinding]:
    kinds = Counter(item.kind for item in items)
    return [
        ShownFinding(
            kind=item.kind,
            severity=item.severity,
            text=harmless(item.text),
            evidence=[harmless(text) for text in _facts(item)],
            steps=[ShownStep(step.action, step.risk, harmless(step.text)) for step in item.steps],
            is_only=kinds[item.kind] == 1,
        )
        for item in items
    ]


def _facts(item: FindingAdvice) -> list[str]:
    return [*(doing.text for doing in item.doing), *(fact.text for fact in item.evidence)]


def _finding_tables(judged: Judged) -> list[PageTable]:
    """Return the findings as a table, in the order of the triage."""
    columns = [
        PageColumn(name, name, meaning, is_numeric=False, is_usual=True)
        for name, meaning in (
            ("severity", "how grave it is"),
            ("finding", "its kind"),
            ("text", "what was found"),
        )
    ]
    rows = []
    for number, item in enumerate(judged.triage.findings):
        texts = [item.severity, item.kind.replace("-", " "), harmless(item.text)]
        rows.append(PageRow(str(number), list(texts), texts, name=item.kind, finding=number))
    about = "what else is wrong or notable, the gravest first"
    return [PageTable(FINDINGS, about, columns, rows)] if rows else []


def _suspects(judged: Judged) -> list[Suspect]:
    suspects = []
    for culprit, advised in zip(judged.diagnosis.culprits, judged.triage.culprits, strict=True):
        why = [item.text for item in advised.doing[:1]]
        why += [advised.since.text] if advised.since else []
        main = culprit.application.main
        suspects.append(
            Suspect(
                rank=advised.rank,
                name=harmless(advised.name),
                role=advised.role,
                pid=main.pid if main else None,
                confidence=advised.confidence,
                why=harmless("; ".join(why)),
            )
        )
    return suspects


def _tables(judged: Judged, page: PageTopic) -> list[PageTable]:
    form = page.form if page.form in ("each", "flat", "tree") else None
    return [
        _table(filled)
        for topic in page.topics
        for filled in topic_tables(topic, judged, form)  # type: ignore[arg-type]  # looked at above
        if filled.rows
    ]


def _table(filled: Filled) -> PageTable:
    table = filled.table
    usual = [column.name for column in table.shown_columns()]
    # the usual ones first, in the order in which people compare them
    columns = [
        *(table.column(name) for name in usual),
        *(column for column in table.columns if column.name not in usual),
    ]
    rows: list[PageRow] = []
    seen: set[str] = set()
    for number, record in enumerate(filled.rows[:ROWS_MOST]):
        named = [text for name in KEYS if (text := _text(record.get(name)))]
        key = "/".join(named) or str(number)
        # two rows may differ by nothing but their index
        key = f"{key}#{number}" if key in seen else key
        seen.add(key)
        cells = [record[column.name] for column in columns]
        units = [table.unit_of(column, record) for column in columns]
        texts = [
            harmless(cell_text(unit, cell, filled.zone))
            for unit, cell in zip(units, cells, strict=True)
        ]
        by_name = (_text(record[column]) for column in NAMED.get(table.name, ()))
        shown = (f"{column.heading}: {text}" for column, text in zip(columns, texts, strict=True))
        rows.append(
            PageRow(
                key=harmless(key),
                values=[_value(cell) for cell in cells],
                texts=texts,
                named=next(filter(None, by_name), None),
                lines=list(shown) if table.name in NAMED else [],
                pid=_pid(record.get("pid")),
                name=next((text for name in NAMES if (text := _text(record.get(name)))), None),
            )
        )
    return PageTable(
        name=table.name,
        about=table.about,
        columns=[
            PageColumn(
                name=column.name,
                heading=column.heading,
                meaning=column.meaning,
                is_numeric=column.is_numeric,
                is_usual=column.name in usual,
                unit=column.unit if column.is_numeric and column.unit not in UNITLESS else "",
            )
            for column in columns
        ],
        rows=rows,
    )


def _value(cell: object) -> float | str | None:
    shown = plain(cell)
    if shown is None or isinstance(shown, str):
        return shown
    return float(shown) if isinstance(shown, int | float) else str(shown)


def _text(cell: object) -> str:
    shown = plain(cell)
    return "" if shown is None else str(shown)


def _pid(cell: object) -> int | None:
    shown = plain(cell)
    return int(shown) if isinstance(shown, int | float) and not isinstance(shown, bool) else None


def main(words: list[str]) -> int:
    """Judge as requested and print the answer; 1 where the capture cannot be judged."""
    try:
        since_s, until_s = float(words[1]), float(words[2]) if len(words) > 2 else math.inf
        result = desk_judgement(Path(words[0]), since_s, until_s, " ".join(words[3:]))
    except DunmistError as error:
        sys.stderr.write(f"{harmless(str(error))}\n")
        return 1
    sys.stdout.buffer.write(msgspec.json.encode(result) + b"\n")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
