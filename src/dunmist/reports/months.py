"""A history laid out: who used what, resources, heat, drifts, hardware, and what happened."""

from datetime import datetime

import msgspec

from dunmist.advice import HistoryReport, ReportedDrift, ReportedProgram, percent, size_text
from dunmist.advice import span_text as long_text
from dunmist.harmless import json_harmless
from dunmist.reports.document import (
    Block,
    Document,
    Items,
    Paragraph,
    Section,
    TextTable,
    made_harmless,
)
from dunmist.sparklines import curve_text

PROGRAMS_SHOWN, EVENTS_SHOWN = 12, 8
BY = {
    "cpu": "CPU time",
    "memory": "memory",
    "disk": "disk",
    "network": "network",
    "energy": "energy",
}
# less of the CPU time is not worth a line
UNATTRIBUTED_LEAST = 0.01
S_PER_HOUR, J_PER_WH = 3600.0, 3600.0


def history_json(report: HistoryReport) -> str:
    """Return a history as indented JSON with a final line break."""
    text = msgspec.json.format(msgspec.json.encode(report), indent=2).decode()
    return json_harmless(text) + "\n"


def history_document(report: HistoryReport) -> Document:
    """Return a history as a document."""
    recorded = f"{report.recorded_s / S_PER_HOUR:.0f} of {report.span_s / S_PER_HOUR:.0f} hours"
    lead = f"{_date(report.since)} to {_date(report.until)}, recorded {recorded}."
    if report.hours_with_clock_set:
        lead += f" In {report.hours_with_clock_set} of them the clock was set."
    sections = [
        Section("Recorded", [Paragraph(lead, lead=True)]),
        Section(f"Who used most, by {BY[report.by]}", _programs(report)),
        Section("What drifts", _drifts(report)),
        Section("Resources", _resources(report)),
        Section("Hardware", [Items([(each.text, "") for each in report.hardware])]),
        Section("What happened", _events(report)),
    ]
    kept = [
        section
        for section in sections
        if any(not isinstance(block, Items) or block.items for block in section.blocks)
    ]
    host = report.host or "an unnamed computer"
    return made_harmless(Document(f"History of {host}", "calm", kept))


def _programs(report: HistoryReport) -> list[Block]:
    is_level = report.by == "memory"
    rows = [
        [
            each.name,
            _amount(report, each.amount),
            "" if each.share is None else percent(each.share),
            _busiest(report, each, is_level=is_level),
            curve_text(each.rates),
        ]
        for each in report.programs[:PROGRAMS_SHOWN]
    ]
    columns = ["Program", "Mean" if is_level else "Total", "Share", "Most", "Over time"]
    blocks: list[Block] = [TextTable("", columns, rows, frozenset((1, 2)))] if rows else []
    if not rows:
        blocks.append(Paragraph("Nothing of this was recorded."))
    rest = len(report.programs) - len(rows)
    if rest > 0:
        blocks.append(Paragraph(f"{rest} programs took less."))
    counted_s = sum(each.amount for each in report.programs) + report.unattributed_cpu_s
    if report.by == "cpu" and report.unattributed_cpu_s >= UNATTRIBUTED_LEAST * counted_s:
        left = long_text(report.unattributed_cpu_s)
        blocks.append(
            Paragraph(f"{left} of CPU time went to programs that lived too short to be seen.")
        )
    return blocks


def _amount(report: HistoryReport, amount: float) -> str:
    if report.unit == "bytes":
        return size_text(amount)
    return long_text(amount) if report.unit == "s" else f"{amount / J_PER_WH:.1f} Wh"


def _busiest(report: HistoryReport, each: ReportedProgram, *, is_level: bool) -> str:
    if is_level:
        return "" if each.peak is None else size_text(each.peak)
    if each.busiest is None or each.busiest_rate is None:
        return ""
    rate = {
        "cores": f"{each.busiest_rate:.2f} cores",
        "bytes/s": f"{size_text(each.busiest_rate)}/s",
        "W": f"{each.busiest_rate:.1f} W",
    }.get(report.rate_unit, "")
    at = datetime.fromisoformat(each.busiest)
    return f"{rate}, {at:%a} {at.day} {at:%b %H:%M}"


def _drifts(report: HistoryReport) -> list[Block]:
    if not report.drifts:
        return [Paragraph("Nothing drifts beyond chance.")]
    said = [
        (f"{drift.text} Since about {drift.since}.", _evidence(drift)) for drift in report.drifts
    ]
    return [Items(said)]


def _evidence(drift: ReportedDrift) -> str:
    return "; ".join(each.text for each in drift.evidence)


def _resources(report: HistoryReport) -> list[Block]:
    rows = [
        [
            each.name,
            _share(each.used_mean),
            _share(each.used_p95),
            _share(each.waited_mean),
            _share(each.waited_p95),
            curve_text(each.used, 1.0),
        ]
        for each in report.resources
    ]
    columns = ["Resource", "Used", "95 %", "Waited", "95 %", "Over time"]
    blocks: list[Block] = [TextTable("", columns, rows, frozenset((1, 2, 3, 4)))] if rows else []
    heat, said = report.heat, []
    if heat.at_load_celsius is not None:
        said.append(f"{heat.at_load_celsius:.0f} °C at load")
    if heat.at_rest_celsius is not None:
        said.append(f"{heat.at_rest_celsius:.0f} °C at rest")
    if heat.kelvin_per_core is not None:
        said.append(f"{heat.kelvin_per_core:.1f} K for each core in use")
    if heat.lost_clock:
        said.append(f"{percent(heat.lost_clock)} of the clock lost")
    if said:
        blocks.append(Paragraph(f"The CPU: {', '.join(said)}."))
    return blocks


def _events(report: HistoryReport) -> list[Block]:
    # a start that was as usual is no news
    events = [event for event in report.events if event.what != "start"][-EVENTS_SHOWN:]
    return [
        Items([(f"{_local_time(event.at)} {event.what}: {event.name}", "") for event in events])
    ]


def _share(share: float | None) -> str:
    return "–" if share is None else percent(share)


def _local_time(text: str) -> str:
    at = datetime.fromisoformat(text)
    return f"{at:%a} {at.day} {at:%b %H:%M}"


def _date(text: str) -> str:
    at = datetime.fromisoformat(text)
    return f"{at.day} {at:%B %Y}"
