"""The sections of a report that the tables give: machine, cores, memory, heat, ports, appendix."""

import pandas as pd

from dunmist.advice import about_lines, about_process, paging_sentence, size_text, span_text
from dunmist.diagnosis import Diagnosis
from dunmist.reports.columns import SHOWN, cell_text, heading_text
from dunmist.reports.document import Block, Figure, Items, Paragraph, Section, Table
from dunmist.reports.frames import topic_frames
from dunmist.series import Series
from dunmist.series.naming import main_identity

ROWS_MOST = 60
# topics whose tables stand in the appendix
APPENDIX = ("processes", "disks", "links", "services", "autostart", "sessions", "machine")
# tables of the appendix that the report has elsewhere, or that have too many rows to read
LEFT_OUT = ("busy threads", "modules", "transport", "control groups")


def machine_section(series: Series) -> Section:
    """Return machine and complaint in two lines."""
    about = series.header.machine
    cores = {(one.package, one.core) for one in about.processors if one.core is not None}
    firmware = series.header.inventory.firmware
    parts = [
        " ".join(filter(None, (firmware.maker, firmware.model))) if firmware else None,
        about.model,
        f"{len(cores) or len(about.processors)} cores, {len(about.processors)} logical processors",
        f"{size_text(about.memory_bytes)} of memory",
        f"{about.distribution or 'Linux'} ({about.kernel})",
        f"running for {span_text(series.machine.uptime_s)}",
    ]
    note = series.header.note
    return Section(
        "Machine and complaint",
        [
            Paragraph(f"{about.host or 'unnamed'}: {', '.join(filter(None, parts))}."),
            Paragraph(f"Complaint: {note}." if note else "No complaint was noted."),
        ],
    )


def culprit_section(series: Series, diagnosis: Diagnosis) -> Section:
    """Return what each culprit is, as far as it is known."""
    blocks: list[Block] = []
    for one in diagnosis.culprits:
        identity = main_identity(series, one.application)
        if identity is not None:
            lines = about_lines(about_process(series, identity))
            blocks.append(Paragraph(one.name))
            blocks.append(Items([(f"{label}: {text}", "") for label, text in lines]))
    return Section("What the culprits are", blocks)


def core_section(series: Series, diagnosis: Diagnosis, figure: Figure) -> Section:
    """Return each logical processor."""
    frames = topic_frames("cores", series, diagnosis)
    table = frame_table("Logical processors", frames["logical processors"], "logical processors")
    return Section("Each logical processor", [figure, table])


def memory_section(series: Series, diagnosis: Diagnosis, figure: Figure) -> Section:
    """Return where the memory is, who holds it, and whether paging matters."""
    frames = topic_frames("memory", series, diagnosis)
    return Section(
        "Memory",
        [
            figure,
            Paragraph(f"Paging: {paging_sentence(diagnosis)}"),
            frame_table("Installed memory", frames["installed memory"], "installed memory"),
            frame_table("Who holds it", frames["holders"].head(10), "holders"),
            *_tables({"Modules": frames["modules"]}),
        ],
    )


def heat_section(series: Series, diagnosis: Diagnosis, figure: Figure) -> Section:
    """Return temperatures, fans and power with their limits."""
    frames = topic_frames("heat", series, diagnosis)
    if frames["sensors"].empty:
        return Section("Temperatures", [Paragraph(figure.alternative)])
    return Section(
        "Temperatures",
        [
            figure,
            frame_table("Sensors", frames["sensors"], "sensors"),
            *_tables({"Left out as implausible": frames["implausible sensors"]}, "sensors"),
        ],
    )


def port_section(series: Series, diagnosis: Diagnosis) -> Section:
    """Return who has which port, sockets within the computer left out."""
    frame = topic_frames("ports", series, diagnosis)["sockets"]
    if len(frame):
        frame = frame[frame["protocol"] != "unix"]
    if frame.empty:
        return Section("Ports", [Paragraph("No port was in use that could be seen.")])
    return Section("Ports", [frame_table("Ports and who owns them", frame, "sockets")])


def appendix(series: Series, diagnosis: Diagnosis) -> Section:
    """Return all other figures as tables that a page folds away."""
    blocks: list[Block] = []
    for topic in APPENDIX:
        for name, frame in topic_frames(topic, series, diagnosis).items():
            if name not in LEFT_OUT and len(frame):
                blocks.append(frame_table(name.capitalize(), frame, name, folded=True))
    return Section("Appendix: all figures", blocks)


def cost_text(series: Series) -> str:
    """Return what sampling cost and how even it was."""
    own_s = float(series.machine.own_cpu_s[-1] - series.machine.own_cpu_s[0])
    parts = [f" {series.late} ticks were late, {series.missed} missed."]
    if series.header.live:
        share = 100.0 * own_s / series.duration_s
        rss = size_text(float(series.machine.own_rss_bytes[-1]))
        parts.append(f" Sampling took {share:.2g} % of one processor and {rss} of memory.")
    return "".join(parts)


def frame_table(caption: str, frame: pd.DataFrame, name: str, *, folded: bool = False) -> Table:
    """Return a frame as a table of texts, with the columns that people compare."""
    columns = [
        column
        for column in SHOWN.get(name, tuple(frame.columns))
        if column in frame and not column.endswith(("curve", "curve_bytes"))
    ]
    columns = [column for column in columns if frame[column].notna().any()]
    if "fact" in frame:
        frame = frame[frame["value"].notna()]
    rows = frame.head(ROWS_MOST).to_dict(orient="records")
    more = f" (first {ROWS_MOST} of {len(frame)})" if len(frame) > ROWS_MOST else ""
    numeric = {
        place
        for place, column in enumerate(columns)
        if pd.api.types.is_numeric_dtype(frame[column])
        and not pd.api.types.is_bool_dtype(frame[column])
    }
    return Table(
        f"{caption}{more}",
        [heading_text(column) for column in columns],
        # in a table of facts the unit is that of the fact
        [
            [
                cell_text(str(row["fact"]) if column == "value" and "fact" in row else column,
                          row[column])
                for column in columns
            ]
            for row in rows
        ],
        frozenset(numeric),
        folded,
    )  # fmt: skip


def _tables(frames: dict[str, pd.DataFrame], name: str = "") -> list[Block]:
    return [frame_table(caption, one, name) for caption, one in frames.items() if len(one)]
