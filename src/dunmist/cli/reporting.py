"""What ``dunmist report`` does once its options are read; heavy, so imported only then."""

import tempfile
from pathlib import Path
from typing import NamedTuple

import click

from dunmist.advice import Judged
from dunmist.captures.sharing import share_capture
from dunmist.harmless import harmless
from dunmist.jobs.acts import told_of
from dunmist.jobs.judge import PointInTime, judge, part_of
from dunmist.jobs.report_extras import sections_beside
from dunmist.output import check_output, write_whole
from dunmist.reports import (
    Document,
    brief_text,
    check_ending,
    document_text,
    owner_document,
    triage_document,
    write_report,
)

COPY = ".jsonl.gz"


class ReportWish(NamedTuple):
    """Where to write, and for whom; ``output`` may be ``-``."""

    output: Path
    brief: bool
    for_owner: bool
    force: bool
    complaints: tuple[str, ...] = ()
    since: PointInTime | None = None
    until: PointInTime | None = None
    normal: tuple[Path, ...] = ()
    full: bool = False
    history: Path | None = None

    @property
    def is_standard(self) -> bool:
        """Whether the report goes to standard output."""
        return str(self.output) == "-"


def write(file: Path, wanted: ReportWish) -> None:
    """Write a report of a capture; raises CaptureError and OutputError."""
    if not wanted.is_standard and not wanted.brief:
        check_ending(wanted.output)
    check_output(wanted.output, force=wanted.force)
    part = part_of(file, wanted.since, wanted.until)
    _put(judge(file, wanted.complaints, part, history=wanted.history), wanted)
    if not wanted.is_standard:
        click.echo(f"wrote {wanted.output}", err=True)


def write_shared(file: Path, wanted: ReportWish, *, arguments: bool = False) -> None:
    """Write a report that may be given away, and beside it the capture it was made from."""
    if wanted.is_standard:
        with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
            copy = Path(folder) / f"shared{COPY}"
            share_capture(file, copy, arguments=arguments)
            write(copy, wanted)
        return
    copy = wanted.output.with_name(wanted.output.stem + COPY)
    if not wanted.brief:
        check_ending(wanted.output)
    for target in (wanted.output, copy):
        check_output(target, force=wanted.force)
    share_capture(file, copy, force=wanted.force, arguments=arguments)
    write(copy, wanted)
    click.echo(f"wrote {copy}, the capture with the same stand-ins", err=True)


def _put(judged: Judged, wanted: ReportWish) -> None:
    if wanted.brief:
        _put_text(brief_text(judged), wanted)
        return
    document: Document | None = None
    if wanted.for_owner:
        document = owner_document(judged, told_of(judged.series.header))
    more = sections_beside(judged, wanted.normal) if document is None else []
    if wanted.is_standard:
        _put_text(document_text(document or triage_document(judged.triage, more)), wanted)
    else:
        write_report(
            judged, wanted.output, document, more=more, full=wanted.full, force=wanted.force
        )


def _put_text(text: str, wanted: ReportWish) -> None:
    safe = "\n".join(map(harmless, text.split("\n")))
    if wanted.is_standard:
        click.echo(safe, nl=False)
    else:
        write_whole(wanted.output, safe.encode(), force=wanted.force)
