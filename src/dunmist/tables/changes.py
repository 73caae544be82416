"""Topic ``changes``: what was installed, upgraded and set up lately, and whom it concerns."""

from collections.abc import Iterator

from dunmist.advice import Judged, change_text, recent_changes
from dunmist.tables.declared import Column, Row, Table, Width

# why a change that concerns a program cannot be what is wrong with it
EXCLUDED = {"older": " (came later)", "still-old": " (runs the old one)"}


def _changes(judged: Judged) -> Iterator[Row]:
    series, surveyed = judged.series, judged.series.surveyed
    concerned: dict[int, str] = {}
    for culprit in judged.diagnosis.culprits:
        limits = judged.diagnosis.limits
        for item in recent_changes(culprit.application, series, culprit.onset, limits):
            remark = EXCLUDED[item.excluded] if item.excluded else ""
            concerned.setdefault(id(item.change), f"{culprit.name}{remark}")
    for change in surveyed.changes:
        yield {
            "at_s": change.at_s,
            "ago_s": round(max(0.0, surveyed.ended_s - change.at_s), 3),
            "kind": change.kind.replace("-", " "),
            "what": change.what,
            "old": change.old,
            "new": change.new,
            "by": change.by,
            "left_by": change.left_by,
            "concerns": concerned.get(id(change)),
            "text": change_text(change),
            "source": change.log or "time of the file",
        }


CHANGES = Table(
    "changes",
    "of packages and of files that say what runs and how, the newest first",
    (
        Column("at_s", "moment", "when", title="when"),
        Column("ago_s", "s", "how long before the end of the capture", answers=("days",)),
        Column("kind", "text", "what kind of change", answers=("state",)),
        Column("what", "text", "package, or path of a file", Width(20, 60), ("name",)),
        Column("old", "text", "version before", Width(8, 24)),
        Column("new", "text", "version since", Width(8, 24)),
        Column("by", "text", "who had the package manager do it", Width(), ("owner",)),
        Column(
            "left_by",
            "text",
            "of a file of a package: package or hand, whoever left it as it is; else nobody's",
            title="left by",
        ),
        Column("concerns", "text", "the culprit or victim that it concerns", Width(14, 40)),
        Column("text", "text", "the same in a sentence", Width(30, 90)),
        Column("source", "text", "where it comes from", Width()),
    ),
    _changes,
    shown=("at_s", "ago_s", "kind", "what", "old", "new", "by", "concerns"),
)
