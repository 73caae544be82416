"""Run ``dunmist report`` after its options are read; heavy, so imported only then."""

import tempfile
from pathlib import Path
from typing import NamedTuple

import click

from dunmist.advice import Judged
from dunmist.captures.sharing import share_capture
from dunmist.harmless import harmless
from dunmist.jobs.acts import acts_done
from dunmist.jobs.judge import PointInTime, judge, part_of
from dunmist.jobs.report_extras import extra_sections
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


class ReportOptions(NamedTuple):
    """Destination and reader of a report; ``output`` may be ``-``."""

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


def write(file: Path, options: ReportOptions) -> None:
    """Write a report of a capture; raises CaptureError and OutputError."""
    if not options.is_standard and not options.brief:
        check_ending(options.output)
    check_output(options.output, force=options.force)
    part = part_of(file, options.since, options.until)
    _put(judge(file, options.complaints, part, history=options.history), options)
    if not options.is_standard:
        click.echo(f"wrote {options.output}", err=True)


def write_shared(file: Path, options: ReportOptions, *, arguments: bool = False) -> None:
    """Write a report that may be shared, and next to it the capture it was made from."""
    if options.is_standard:
        with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
            copy = Path(folder) / f"shared{COPY}"
            share_capture(file, copy, arguments=arguments)
            write(copy, options)
        return
    copy = options.output.with_name(options.output.stem + COPY)
    if not options.brief:
        check_ending(options.output)
    for target in (options.output, copy):
        check_output(target, force=options.force)
    share_capture(file, copy, force=options.force, arguments=arguments)
    write(copy, options)
    click.echo(f"wrote {copy}, the capture with the same stand-ins", err=True)


def _put(judged: Judged, options: ReportOptions) -> None:
    if options.brief:
        _put_text(brief_text(judged), options)
        return
    document: Document | None = None
    if options.for_owner:
        document = owner_document(judged, acts_done(judged.series.header))
    more = extra_sections(judged, options.normal) if document is None else []
    if options.is_standard:
        _put_text(document_text(document or triage_document(judged.triage, more)), options)
    else:
        write_report(
            judged, options.output, document, more=more, full=options.full, force=options.force
        )


def _put_text(text: str, options: ReportOptions) -> None:
    safe = "\n".join(map(harmless, text.split("\n")))
    if options.is_standard:
        click.echo(safe, nl=False)
    else:
        write_whole(options.output, safe.encode(), force=options.force)
