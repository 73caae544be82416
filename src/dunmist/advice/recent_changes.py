"""Find recent changes that concern a program: its package, its file, its service, its start."""

import re
from collections.abc import Mapping, Sequence
from typing import Literal, NamedTuple

from dunmist.advice.amounts import span_text
from dunmist.advice.wording import wording
from dunmist.computer import DELETED, Change, ChangeKind
from dunmist.diagnosis import Diagnosis, EvidenceFigure, Kind, Onset, figure
from dunmist.series import Application, Series, Surveyed
from dunmist.thresholds import Thresholds

DAY_S = 86_400.0
DPKG_LOG = "/var/log/dpkg.log"
# findings that a change of the system itself can cause; such a finding names the change
RELATED: Mapping[ChangeKind, tuple[Kind, ...]] = {
    "kernel": (
        "kernel-hung",
        "graphics-reset",
        "device-reconnects",
        "drive-resets",
        "link-flapping",
        "interrupt-storm",
        "low-clock",
    ),
    "firmware": (
        "throttled",
        "fan-stopped",
        "overheating",
        "low-clock",
        "memory-below-rating",
        "hardware-fault",
    ),
    "kernel-setting": (
        "paging-storm",
        "oom-kill",
        "memory-short",
        "memory-reserved",
        "limit-near",
        "link-errors",
    ),
    "module-setting": ("graphics-reset", "link-flapping", "interrupt-storm", "fan-stopped"),
    "device-rule": ("device-reconnects", "disk-slow"),
    "mounts": (
        "memory-in-files",
        "storage-full",
        "storage-filling",
        "inodes-full",
        "file-system-unanswered",
    ),
    "clock": ("clock-unsynchronised",),
}
# deb-control(5), deb-version(7)
_PACKAGE = re.compile(r"[a-z0-9][a-z0-9+.-]{1,200}\Z")
_VERSION = re.compile(r"[0-9][A-Za-z0-9.+:~-]{0,200}\Z")


class Recent(NamedTuple):
    """One change that concerns a program, and how long before the end of the capture it was."""

    change: Change
    ago_s: float
    # why it cannot be the cause: what is wrong is older, or the program is; None if it can
    excluded: Literal["older", "still-old"] | None


def recent_changes(
    application: Application, series: Series, onset: Onset | None, limits: Thresholds
) -> list[Recent]:
    """Return the changes of the last days that concern a program, the newest first.

    A date alone says nothing of a cause. What came after the trouble is none, and a program that
    was started before its update still runs the old version.
    """
    surveyed = series.surveyed
    packages, files, starts = _names_of(application, surveyed)
    found = []
    for change in surveyed.changes:
        ago_s = surveyed.ended_s - change.at_s
        if ago_s > limits.advice.changed_days * DAY_S:
            break
        is_of_program = change.what in packages | files
        if is_of_program or change.what in starts or _is_unit(change.what, application.unit):
            excluded: Literal["older", "still-old"] | None = None
            if onset is not None and onset.at_least_s > ago_s:
                excluded = "older"
            elif is_of_program and _runs_s(application, series) > ago_s:
                excluded = "still-old"
            found.append(Recent(change, ago_s, excluded))
    return found


def related_finding(change: Change, diagnosis: Diagnosis) -> str | None:
    """Return the first finding that a change of the system can have brought about, None without."""
    for finding in diagnosis.findings:
        if finding.kind in RELATED.get(change.kind, ()):
            words = finding.kind.replace("-", " ")
            return f"{words} of {finding.subject}" if finding.subject else words
    return None


def _names_of(application: Application, surveyed: Surveyed) -> tuple[set[str], set[str], set[str]]:
    """Return the packages of a program, its files, and the entries and jobs that start it."""
    packages, files = set[str](), set[str]()
    for process in application.members:
        package = surveyed.package(process.facts)
        if package:
            packages |= {package.name, package.source or package.name}
        files.add((process.facts.executable or "").removesuffix(DELETED))
        if process.program.script:
            files.add(process.program.script)
    names = files | {application.name}
    starts = {
        entry.file for entry in surveyed.autostart if names.intersection(entry.command.split()[:1])
    }
    return packages, files - {""}, starts


def _is_unit(path: str, unit: str | None) -> bool:
    return unit is not None and "/systemd/" in path and path.rpartition("/")[2] == unit


def _runs_s(application: Application, series: Series) -> float:
    """Return the age of the oldest process of a program in seconds; 0 if unknown."""
    main = application.main
    started_s = series.started_s(main.facts.start_clk) if main else None
    return 0.0 if started_s is None else series.surveyed.ended_s - started_s


def change_text(change: Change) -> str:
    """Return a change as half a sentence."""
    words = wording()["change"]
    key: str = change.kind if change.kind in words else "file"
    if key == "upgraded" and change.old is None:
        key = "updated"
    if change.kind == "accounts" and (change.old or change.new):
        key = f"accounts-{'came' if change.new else 'went'}"
    if change.kind == "clock" and change.back_s is not None:
        return words["clock"].format(back=span_text(change.back_s), what=change.what)
    text = words[key].format(what=change.what, old=change.old, new=change.new)
    if change.by:
        text += words["by"].format(by=change.by)
    if change.left_by == "hand":
        text += words["by-hand"]
    return text


def change_brief(recent: Sequence[Recent]) -> str:
    """Return the newest change that may be why in few words; nothing without one."""
    first = next((item for item in recent if item.excluded is None), None)
    if first is None:
        return ""
    words, change = wording()["change"], first.change
    key = f"brief-{change.kind}" if f"brief-{change.kind}" in words else "brief-file"
    if change.kind == "upgraded" and change.old is None:
        key = "brief-installed"
    return words[key].format(ago=span_text(first.ago_s), old=change.old, new=change.new)


def change_evidence(recent: Sequence[Recent]) -> list[EvidenceFigure]:
    """Return the newest change as evidence."""
    words = wording()["change"]
    return [
        figure(
            "changed-lately",
            first.ago_s,
            what=change_text(first.change),
            after=words[first.excluded] if first.excluded else "",
            where=first.change.log or "stat(2)",
        )
        for first in recent[:1]
    ]


def change_filling(recent: Sequence[Recent]) -> dict[str, str]:
    """Return by the word of the ladder what steps against a bad update are filled with."""
    update = next(
        (
            item.change
            for item in recent
            if item.change.kind == "upgraded" and item.change.old and item.excluded is None
        ),
        None,
    )
    if update is None or update.old is None or update.new is None:
        return {}
    # they go into a command, and a log may hold anything
    if not _PACKAGE.match(update.what) or not all(map(_VERSION.match, (update.old, update.new))):
        return {}
    filling = {"upgraded": update.what, "version-before": update.old, "version-now": update.new}
    if update.log == DPKG_LOG:
        filling["upgraded-by-dpkg"] = update.what
    return filling
