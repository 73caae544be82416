"""What ``dunmist view`` does once its options are read; heavy, so imported only then."""

import json
from pathlib import Path
from typing import NamedTuple

import click
import pandas as pd
from rich.text import Text

from dunmist.captures import check_output
from dunmist.cli.drawn import drawn
from dunmist.cli.judging import Judged, judge
from dunmist.cli.one_process import as_json, as_text, find_identity, know
from dunmist.cli.paging import console_for, show
from dunmist.cli.selecting import select
from dunmist.cli.tables import csv_text, frames_object, json_text, table_parts
from dunmist.reports.columns import plain
from dunmist.reports.frames import topic_frames

__all__ = ["Look", "draw", "judge", "print_frames", "print_process", "select", "topic_frames"]


class Look(NamedTuple):
    """How to show: ``form`` json, csv or None for people; ``columns`` instead of the usual ones."""

    form: str | None
    columns: list[str] | None
    wide: bool
    pager: bool


def print_frames(
    frames: dict[str, pd.DataFrame], look: Look, topic: str | None, judged: Judged
) -> None:
    """Print tables; for people under the picture of their topic, if one is named."""
    if look.columns and look.form:
        frames = {
            name: frame[[column for column in look.columns if column in frame.columns]]
            for name, frame in frames.items()
        }
    if look.form == "json":
        click.echo(json_text(frames), nl=False)
    elif look.form == "csv":
        click.echo(csv_text(next(iter(frames.values()))), nl=False)
    else:
        console = console_for(wide=look.wide)
        picture = list(drawn(topic, judged, console.width)) if topic else []
        # the levels are what the picture of the timeline shows
        shown = {name: one for name, one in frames.items() if name != "levels" or not picture}
        gap = [Text("")] if picture and shown else []
        parts = [*picture, *gap, *table_parts(shown, console.width, look.columns)]
        show(console, parts, pager=look.pager)


def print_process(judged: Judged, what: str, look: Look) -> None:
    """Print everything about one process."""
    if look.form == "csv":
        raise click.UsageError("one process is no table; use --json, or 'view processes --each'")
    known = know(judged, find_identity(judged, what))
    if look.form == "json":
        whole = {**as_json(known), **frames_object(known.frames)}
        click.echo(json.dumps(plain(whole), indent=2, ensure_ascii=False))
        return
    console = console_for(wide=look.wide)
    show(console, as_text(judged, known, console.width), pager=look.pager)


def draw(judged: Judged, topic: str, what: str | None, output: Path, *, force: bool) -> None:
    """Draw a topic's picture into a file; raises OutputError or UsageError."""
    from dunmist.reports.pictures import PICTURES, check_picture, save_picture

    if topic not in PICTURES:
        raise click.UsageError(
            f"there is no picture of {topic}; there is one of {', '.join(PICTURES)}"
        )
    check_picture(output)
    check_output(output, force=force)
    identity = None if what is None else find_identity(judged, what)
    save_picture(PICTURES[topic](judged.series, judged.diagnosis, identity), output)
    click.echo(f"wrote {output}", err=True)
