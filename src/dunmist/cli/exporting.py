"""Run ``dunmist export`` after its options are read; heavy, so imported only then."""

import tempfile
from pathlib import Path
from typing import NamedTuple

import click

from dunmist.captures.sharing import share_capture
from dunmist.exports import export_capture, send_capture
from dunmist.exports.otlp_http import parse_receiver
from dunmist.exports.writing import ending_of
from dunmist.jobs.judge import PointInTime, judge, part_of


class ExportOptions(NamedTuple):
    """Destination of the figures, the part of the capture, and whether names are replaced."""

    output: Path | None
    address: str | None
    since: PointInTime | None
    until: PointInTime | None
    share: bool
    force: bool


def export_file(file: Path, options: ExportOptions) -> None:
    """Export a capture; raises CaptureError, OutputError and WrongUsage."""
    if options.address is not None:
        parse_receiver(options.address)
    if options.output is not None and not options.output.is_dir():
        ending_of(options.output)
    if not options.share:
        _export(file, options)
        return
    with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
        copy = Path(folder) / "shared.jsonl.gz"
        share_capture(file, copy)
        _export(copy, options)


def _export(file: Path, options: ExportOptions) -> None:
    part = part_of(file, options.since, options.until)
    judged = judge(file, part=part, looks_for_bad_window=False)
    if options.output is not None:
        for path in export_capture(judged, options.output, force=options.force):
            click.echo(f"wrote {path}", err=True)
    if options.address is not None:
        send_capture(judged, options.address)
        click.echo(f"sent to {parse_receiver(options.address).label}", err=True)
