"""A history laid out: who used what, resources, heat, drifts, hardware, and what happened."""

from datetime import datetime

import msgspec

from dunmist.advice import HistoryTold, ToldDrift, ToldProgram, percent, size_text
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
UNTOLD_LEAST = 0.01
S_PER_HOUR, J_PER_WH = 3600.0, 3600.0


def history_json(told: HistoryTold) -> str:
    """Return a history as indented JSON with a final line break."""
    text = msgspec.json.format(msgspec.json.encode(told), indent=2).decode()
    return json_harmless(text) + "\n"


def history_document(told: HistoryTold) -> Document:
    """Return a history as a document."""
    recorded = f"{told.recorded_s / S_PER_HOUR:.0f} of {told.span_s / S_PER_HOUR:.0f} hours"
    lead = f"{_date(told.since)} to {_date(told.until)}, recorded {recorded}."
    if told.hours_with_clock_set:
        lead += f" In {told.hours_with_clock_set} of them the clock was set."
    sections = [
        Section("Recorded", [Paragraph(lead, lead=True)]),
        Section(f"Who used most, by {BY[told.by]}", _programs(told)),
        Section("What drifts", _drifts(told)),
        Section("Resources", _resources(told)),
        Section("Hardware", [Items([(each.text, "") for each in told.hardware])]),
        Section("What happened", _events(told)),
    ]
    kept = [
        section
        for section in sections
        if any(not isinstance(block, Items) or block.items for block in section.blocks)
    ]
    host = told.host or "an unnamed computer"
    return made_harmless(Document(f"History of {host}", "calm", kept))


def _programs(told: HistoryTold) -> list[Block]:
    is_level = told.by == "memory"
    rows = [
        [
            each.name,
            _amount(told, each.amount),
            "" if each.share is None else percent(each.share),
            _busiest(told, each, is_level=is_level),
            curve_text(each.rates),
        ]
        for each in told.programs[:PROGRAMS_SHOWN]
    ]
    columns = ["Program", "Mean" if is_level else "Total", "Share", "Most", "Over time"]
    blocks: list[Block] = [TextTable("", columns, rows, frozenset((1, 2)))] if rows else []
    if not rows:
        blocks.append(Paragraph("Nothing of this was recorded."))
    rest = len(told.programs) - len(rows)
    if rest > 0:
        blocks.append(Paragraph(f"{rest} programs took less."))
    counted_s = sum(each.amount for each in told.programs) + told.unattributed_cpu_s
    if told.by == "cpu" and told.unattributed_cpu_s >= UNTOLD_LEAST * counted_s:
        left = long_text(told.unattributed_cpu_s)
        blocks.append(
            Paragraph(f"{left} of CPU time went to programs that lived too short to be seen.")
        )
    return blocks


def _amount(told: HistoryTold, amount: float) -> str:
    if told.unit == "bytes":
        return size_text(amount)
    return long_text(amount) if told.unit == "s" else f"{amount / J_PER_WH:.1f} Wh"


def _busiest(told: HistoryTold, each: ToldProgram, *, is_level: bool) -> str:
    if is_level:
        return "" if each.peak is None else size_text(each.peak)
    if each.busiest is None or each.busiest_rate is None:
        return ""
    rate = {
        "cores": f"{each.busiest_rate:.2f} cores",
        "bytes/s": f"{size_text(each.busiest_rate)}/s",
        "W": f"{each.busiest_rate:.1f} W",
    }.get(told.rate_unit, "")
    moment = datetime.fromisoformat(each.busiest)
    return f"{rate}, {moment:%a} {moment.day} {moment:%b %H:%M}"


def _drifts(told: HistoryTold) -> list[Block]:
    if not told.drifts:
        return [Paragraph("Nothing drifts beyond chance.")]
    said = [(f"{drift.text} Since about {drift.since}.", _evidence(drift)) for drift in told.drifts]
    return [Items(said)]


def _evidence(drift: ToldDrift) -> str:
    return "; ".join(each.text for each in drift.evidence)


def _resources(told: HistoryTold) -> list[Block]:
    rows = [
        [
            each.name,
            _share(each.used_mean),
            _share(each.used_p95),
            _share(each.waited_mean),
            _share(each.waited_p95),
            curve_text(each.used, 1.0),
        ]
        for each in told.resources
    ]
    columns = ["Resource", "Used", "95 %", "Waited", "95 %", "Over time"]
    blocks: list[Block] = [TextTable("", columns, rows, frozenset((1, 2, 3, 4)))] if rows else []
    heat, said = told.heat, []
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


def _events(told: HistoryTold) -> list[Block]:
    # a start that was as usual is no news
    events = [event for event in told.events if event.what != "start"][-EVENTS_SHOWN:]
    return [Items([(f"{_moment(event.at)} {event.what}: {event.name}", "") for event in events])]


def _share(share: float | None) -> str:
    return "–" if share is None else percent(share)


def _moment(text: str) -> str:
    moment = datetime.fromisoformat(text)
    return f"{moment:%a} {moment.day} {moment:%b %H:%M}"


def _date(text: str) -> str:
    moment = datetime.fromisoformat(text)
    return f"{moment.day} {moment:%B %Y}"
