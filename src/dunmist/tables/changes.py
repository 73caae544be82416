"""Topic ``changes``: recent installations, updates and settings, with the programs concerned."""

from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged, change_text, recent_changes, related_finding
from dunmist.series import Series
from dunmist.tables.declared import Column, Table, Width

CLOCKS, STARTS, KERNEL_LOG = "clock_gettime(2)", "record of starts", "/dev/kmsg"
# a device found this soon after the start was plugged in before
START_LASTS_S = 120.0
DEVICES = {"device-came": "came", "device-went": "went"}
# why a change that concerns a program cannot be what is wrong with it
EXCLUDED = {"older": " (came later)", "still-old": " (runs the old one)"}


class Changed(NamedTuple):
    """One change; ``ago_s`` is from it to the end of the capture."""

    at_s: float
    ago_s: float
    kind: str
    what: str
    text: str
    source: str
    old: str | None = None
    new: str | None = None
    by: str | None = None
    left_by: str | None = None
    concerns: str | None = None


def _changes(judged: Judged) -> list[Changed]:
    series = judged.series
    changes = [*_recorded(judged), *_starts(series), *_clock_steps(series), *_devices(series)]
    return sorted(changes, key=lambda change: change.ago_s)


def _recorded(judged: Judged) -> Iterator[Changed]:
    """Yield changes from package managers and file times, with the programs that they concern."""
    series, surveyed = judged.series, judged.series.surveyed
    concerned: dict[int, str] = {}
    for culprit in judged.diagnosis.culprits:
        limits = judged.diagnosis.limits
        for item in recent_changes(culprit.application, series, culprit.onset, limits):
            remark = EXCLUDED[item.excluded] if item.excluded else ""
            concerned.setdefault(id(item.change), f"{culprit.name}{remark}")
    for change in surveyed.changes:
        yield Changed(
            change.at_s,
            _ago_s(series, change.at_s),
            kind=change.kind.replace("-", " "),
            what=change.what,
            old=change.old,
            new=change.new,
            by=change.by,
            left_by=change.left_by,
            concerns=concerned.get(id(change)) or related_finding(change, judged.diagnosis),
            text=change_text(change),
            source=change.log or "time of the file",
        )


def _starts(series: Series) -> Iterator[Changed]:
    """Yield the starts on record, each with how the run before it ended."""
    ends = {True: ", after an orderly end", False: ", after a run that was cut off", None: ""}
    kernel = None
    for start in series.header.inventory.starts:
        what = f"the computer{ends[start.after_order]}"
        changed = start.kernel if start.kernel != kernel and kernel else None
        with_kernel = f", with kernel {changed} instead of {kernel}" if changed else ""
        yield Changed(
            start.at_s,
            _ago_s(series, start.at_s),
            kind="start",
            what=what,
            old=kernel if changed else None,
            new=changed,
            text=f"start of {what}{with_kernel}",
            source=STARTS,
        )
        kernel = start.kernel or kernel


def _clock_steps(series: Series) -> Iterator[Changed]:
    """Yield where the clock was set while it was sampled."""
    began_s = series.surveyed.ended_s - series.duration_s
    for row, event in series.events:
        if event.what == "clock-set" and event.seconds is not None:
            at_s = began_s + float(series.line.at_s[min(row, series.line.intervals)])
            what = f"the clock, by {event.seconds:+.1f} s"
            ago_s = _ago_s(series, at_s)
            yield Changed(at_s, ago_s, "clock", what, f"setting of {what}", CLOCKS)


def _devices(series: Series) -> Iterator[Changed]:
    """Yield the newest arrival or removal of a device, each port once."""
    began_s = series.surveyed.ended_s - series.duration_s
    up_s = series.header.machine.boot_time_s
    for message in series.complaints:
        at_s = began_s + message.last_s
        if message.kind in DEVICES and (up_s is None or at_s > up_s + START_LASTS_S):
            what = f"USB device at port {message.about}"
            text = f"the {what} {DEVICES[message.kind]} (times: {message.times})"
            yield Changed(at_s, _ago_s(series, at_s), "device", what, text, KERNEL_LOG)


def _ago_s(series: Series, at_s: float) -> float:
    return round(max(0.0, series.surveyed.ended_s - at_s), 3)


CHANGES: Table[Changed] = Table(
    "changes",
    "of packages, of files that say what runs and how, starts and the clock; the newest first",
    (
        Column("at_s", "moment", "when", title="when"),
        Column("ago_s", "s", "how long before the end of the capture", answers=("days",)),
        Column("kind", "text", "what kind of change", answers=("state",)),
        Column("what", "text", "package, or path of a file", width=Width(20, 60),
            answers=("name",)),
        Column("old", "text", "version before", width=Width(8, 24)),
        Column("new", "text", "version since", width=Width(8, 24)),
        Column("by", "text", "user or program that ran the package manager", width=Width(),
            answers=("owner",)),
        Column("left_by", "text",
            "of a file: package, hand (a changed file of a package), or nobody's",
            title="left by"),
        Column("concerns", "text", "the culprit, victim or finding it concerns",
            width=Width(14, 40)),
        Column("text", "text", "the same in a sentence", width=Width(30, 90)),
        Column("source", "text", "where it comes from", width=Width()),
    ),
    _changes,
    shown=("at_s", "ago_s", "kind", "what", "old", "new", "by", "concerns"),
)
