"""The sections of a report that the tables give: machine, cores, memory, heat, ports, appendix."""

from collections.abc import Iterator
from typing import Any

from dunmist.advice import Judged, about_lines, paging_sentence, size_text, span_text
from dunmist.reports.document import Block, Figure, Items, Paragraph, Section, TextTable
from dunmist.series import Series
from dunmist.tables import (
    CODE,
    CORES,
    CURVES,
    DOUBTED,
    GROUPS,
    HOLDERS,
    INSTALLED_MEMORY,
    MODULES,
    PROCESSES,
    SENSORS,
    SOCKETS,
    THREADS,
    TRANSPORT,
    Column,
    Filled,
    cell_text,
    fill,
    is_unknown,
    topic_tables,
)

# rows of a table on paper, and holders that a cell names
ROWS_MOST, HOLDERS_MOST = 60, 10
# topics whose tables stand in the appendix
APPENDIX = (
    "processes",
    "disks",
    "links",
    "services",
    "autostart",
    "sessions",
    "machine",
    "boot",
    "messages",
)
# keys of filters by numbers that have a row of their own
REFERRED = {"pid": "process", "port": "port"}
# tables of the appendix that the report has elsewhere, or that have too many rows to read
LEFT_OUT = (THREADS, MODULES, TRANSPORT, GROUPS)


def machine_section(series: Series) -> Section:
    """Return machine and complaint in two lines."""
    about = series.header.machine
    cores = {
        (processor.package, processor.core)
        for processor in about.processors
        if processor.core is not None
    }
    firmware, uptime_s = series.header.inventory.firmware, series.machine.uptime_s
    parts = [
        " ".join(filter(None, (firmware.maker, firmware.model))) if firmware else None,
        about.model,
        f"{len(cores) or len(about.processors)} cores, {len(about.processors)} logical CPUs",
        f"{size_text(about.memory_bytes)} of usable memory",
        f"{about.distribution or 'Linux'} ({about.kernel})",
        None if uptime_s is None else f"running for {span_text(uptime_s)}",
    ]
    note = series.header.note
    return Section(
        "Machine and complaint",
        [
            Paragraph(f"{about.host or 'unnamed'}: {', '.join(filter(None, parts))}."),
            Paragraph(f"Complaint: {note}." if note else "No complaint was noted."),
        ],
    )


def culprit_section(judged: Judged) -> Section:
    """Return the known facts of each culprit."""
    blocks: list[Block] = []
    for rank, culprit in enumerate(judged.diagnosis.culprits):
        case = judged.cases.of_culprit(culprit)
        if case is not None:
            blocks.append(Paragraph(culprit.name, is_detail=rank > 0))
            lines = [(f"{label}: {text}", "") for label, text in about_lines(case.about)]
            blocks.append(Items(lines, is_detail=rank > 0))
    return Section("What the culprits are", blocks)


def work_section(judged: Judged, figure: Figure | None) -> list[Section]:
    """Return where the CPU time of the culprits went; nothing where no code was sampled."""
    if figure is None:
        return []
    table = text_table("Functions", fill(CODE, judged), is_detail=True)
    return [Section("What they are doing", [figure, table])]


def core_section(judged: Judged, figure: Figure) -> Section:
    """Return each logical CPU."""
    table = text_table("Logical CPUs", fill(CORES, judged), is_detail=True)
    return Section("Each logical CPU", [figure, table], is_detail=True)


def memory_section(judged: Judged, figure: Figure) -> Section:
    """Return where the memory is, who holds it, and whether paging matters."""
    holders = fill(HOLDERS, judged)
    modules = fill(MODULES, judged)
    return Section(
        "Memory",
        [
            figure,
            Paragraph(f"Paging: {paging_sentence(judged.diagnosis)}"),
            text_table("Installed memory", fill(INSTALLED_MEMORY, judged), is_detail=True),
            text_table("Who holds it", holders.with_rows(holders.rows[:HOLDERS_MOST])),
            *([text_table("Modules", modules)] if modules.rows else []),
        ],
        is_detail=True,
    )


def heat_section(judged: Judged, figure: Figure) -> Section:
    """Return temperatures, fans and power with their limits."""
    sensors, doubted = fill(SENSORS, judged), fill(DOUBTED, judged)
    if not sensors.rows:
        return Section("Temperatures", [Paragraph(figure.alternative)], is_detail=True)
    blocks: list[Block] = [figure, text_table("Sensors", sensors, is_detail=True)]
    if doubted.rows:
        # with the columns of those that are believed
        blocks.append(
            text_table("Left out as implausible", Filled(SENSORS, doubted.rows), is_detail=True)
        )
    return Section("Temperatures", blocks, is_detail=True)


def port_section(judged: Judged) -> Section:
    """Return the owners of ports, without sockets within the computer."""
    sockets = fill(SOCKETS, judged)
    rows = [row for row in sockets.rows if row["protocol"] != "unix"]
    if not rows:
        return Section("Ports", [Paragraph("No port was in use that could be seen.")])
    return Section(
        "Ports", [text_table("Ports and who owns them", sockets.with_rows(rows), lists="port")]
    )


def appendix(judged: Judged) -> Section:
    """Return all other figures as tables that a page folds away."""
    blocks: list[Block] = []
    for topic in APPENDIX:
        for table in topic_tables(topic, judged):
            if table.table not in LEFT_OUT and table.rows:
                blocks.append(text_table(table.table.name.capitalize(), table, folded=True))
        if topic == "processes":
            each = fill(PROCESSES, judged)
            blocks.append(text_table("Each process", each, folded=True, lists="process"))
    return Section("Appendix: all figures", blocks)


def cost_text(series: Series) -> str:
    """Return the cost of sampling and the evenness of its ticks."""
    parts = [f" {series.late} ticks were late, {series.missed} missed."]
    if series.header.live:
        parts += _taken(series)
    return "".join(parts)


def _taken(series: Series) -> Iterator[str]:
    """Yield the observer effect, including the work of other programs that were asked."""
    taken = [f"{100.0 * series.own_cores:.2g} % of one CPU"]
    rss, own = series.machine.own_rss_bytes, series.sampler
    if rss is not None:
        taken.append(f"{size_text(rss)} of memory")
    moved = own.application.disk_bytes_per_s.mean() if own else 0.0
    if moved >= 1:
        taken.append(f"{size_text(moved)} a second of disk")
    *most, last = taken
    yield f" Sampling took {', '.join(most) + ' and ' if most else ''}{last}."
    asked_s = sum(survey.asked_cpu_s for survey in series.surveyed.surveys)
    if asked_s > 0:
        yield (
            f" To answer its questions, the service manager and others took {asked_s:.2g} s, "
            f"which is counted as its own."
        )
    if series.footer and series.footer.own_cpu_s is not None:
        yield f" With start and end it took {series.footer.own_cpu_s:.2g} s of CPU time."


def text_table(
    caption: str,
    filled: Filled,
    *,
    folded: bool = False,
    lists: str | None = None,
    is_detail: bool = False,
) -> TextTable:
    """Return a table as texts, with the columns that people compare."""
    table, rows = filled.table, filled.rows
    columns = [
        column
        for column in table.shown_columns()
        if column.unit not in CURVES and filled.has_figures(column.name)
    ]
    if table.units is not None:
        rows = [row for row in rows if not is_unknown(row["value"])]
    more = f" (first {ROWS_MOST} of {len(rows)})" if len(rows) > ROWS_MOST else ""
    return TextTable(
        f"{caption}{more}",
        [column.heading for column in columns],
        [
            [
                cell_text(table.unit_of(column, row), row[column.name], filled.zone)
                for column in columns
            ]
            for row in rows[:ROWS_MOST]
        ],
        frozenset(index for index, column in enumerate(columns) if column.is_numeric),
        folded,
        {index: of for index, column in enumerate(columns) if (of := _refers(column))},
        lists,
        is_detail,
    )


def _refers(column: Column[Any]) -> str | None:
    """Return the subject of the numbers in a column, if another table has a row for each."""
    return next((REFERRED[name] for name in column.answers if name in REFERRED), None)
