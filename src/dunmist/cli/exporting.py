"""What ``dunmist export`` does once its options are read; heavy, so imported only then."""

import tempfile
from pathlib import Path
from typing import NamedTuple

import click

from dunmist.captures.sharing import share_capture
from dunmist.exports import export_capture, send_capture
from dunmist.exports.otlp_http import parse_receiver
from dunmist.exports.writing import ending_of
from dunmist.jobs.judge import PointInTime, judge, part_of


class ExportWish(NamedTuple):
    """Where the figures go, of which part, and whether with stand-ins for names."""

    output: Path | None
    address: str | None
    since: PointInTime | None
    until: PointInTime | None
    share: bool
    force: bool


def export_file(file: Path, wanted: ExportWish) -> None:
    """Export a capture; raises CaptureError, OutputError and WrongUsage."""
    if wanted.address is not None:
        parse_receiver(wanted.address)
    if wanted.output is not None and not wanted.output.is_dir():
        ending_of(wanted.output)
    if not wanted.share:
        _export(file, wanted)
        return
    with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
        copy = Path(folder) / "shared.jsonl.gz"
        share_capture(file, copy)
        _export(copy, wanted)


def _export(file: Path, wanted: ExportWish) -> None:
    part = part_of(file, wanted.since, wanted.until)
    judged = judge(file, part=part, looks_for_bad_window=False)
    if wanted.output is not None:
        for path in export_capture(judged, wanted.output, force=wanted.force):
            click.echo(f"wrote {path}", err=True)
    if wanted.address is not None:
        send_capture(judged, wanted.address)
        click.echo(f"sent to {parse_receiver(wanted.address).label}", err=True)
