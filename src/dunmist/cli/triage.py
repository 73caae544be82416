"""``dunmist triage``: rank the culprits of a capture and say what to do."""

import shutil
import sys
from datetime import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.parameters import (
    CAPTURE,
    history_option,
    normal_option,
    part_options,
    refuse_given,
    sampling_options,
    wants_colours,
)
from dunmist.cli.remote_options import REMOTE_PARAMETERS, RemoteTarget, remote_options

if TYPE_CHECKING:
    from dunmist.captures import Header

SAMPLING = ("output", "duration_s", "every_s", "root", "note", "force", *REMOTE_PARAMETERS)


@click.command()
@click.argument("file", type=CAPTURE, required=False)
@click.option("--json", "as_json", is_flag=True, help="Print the triage as JSON.")
@click.option("--full", is_flag=True, help="Print all of it, not one screen.")
@normal_option
@history_option
@part_options
@remote_options
@sampling_options
@click.pass_context
def triage(
    context: click.Context,
    /,
    file: Path | None,
    as_json: bool,
    full: bool,
    normal: tuple[Path, ...],
    history: Path | None,
    since: float | time | None,
    until: float | time | None,
    remote: RemoteTarget,
    output: Path | None,
    duration_s: float,
    every_s: float,
    root: Path,
    complaints: tuple[str, ...],
    note: str | None,
    with_code: bool,
    force: bool,
) -> None:
    """Rank the culprits of the capture FILE and print verdict, evidence and fixes.

    A terminal gets one screen of it; --full prints everything, as it does into a file or pipe.

    Without FILE it samples this computer first and keeps the capture. It stops when more would
    hardly change the verdict, or after --for. The options below are for that, except --complaint.
    """
    if as_json and normal:
        raise click.UsageError("what is not as usual is JSON of 'dunmist compare --json'")
    is_sampled_now = file is None and not remote
    if file is None:
        refuse_given(context, ("since", "until"), "{} chooses a part of a FILE; name one")
        from dunmist.jobs import CaptureOptions, run_capture
        from dunmist.jobs.last_capture import remember

        options = CaptureOptions(
            output,
            duration_s,
            every_s,
            root,
            note,
            force,
            complaints=complaints,
            until_sure=not remote,
            with_code=with_code,
        )
        if remote:
            from dunmist.cli.remote import capture_remote

            file = capture_remote(remote, options)
        else:
            from dunmist.cli.progress import progress_for

            file = run_capture(options, follow=progress_for)
        remember(file)
        click.echo(f"kept {file}", err=True)
    else:
        refuse_given(context, SAMPLING, f"{file} is sampled already; leave out {{}}")
    # the analysis is loaded after sampling, so that it is no part of the load that is sampled
    from dunmist.jobs.judge import judge, part_of
    from dunmist.reports import document_text, triage_document, triage_json

    judged = judge(file, complaints, part_of(file, since, until), history=history)
    if is_sampled_now:
        from dunmist.jobs.keep_history import add_capture

        add_capture(file)
    _warn_of_earlier_boot(judged.series.header)
    if as_json:
        click.echo(triage_json(judged.triage), nl=False)
        return
    if not full and not normal and sys.stdout.isatty():
        from dunmist.cli.first_screen import first_screen

        columns, rows = shutil.get_terminal_size((100, 30))
        click.echo(first_screen(judged, columns, rows, colours=wants_colours()), nl=False)
        return
    from dunmist.jobs.report_extras import extra_sections

    more = extra_sections(judged, normal) if normal else []
    click.echo(document_text(triage_document(judged.triage, more)), nl=False)


def _warn_of_earlier_boot(header: "Header") -> None:
    """Say that process numbers are of the start before; the verdict stays as it is."""
    from dunmist.computer import Root
    from dunmist.fixing import is_of_earlier_boot

    if is_of_earlier_boot(header, Root(Path("/"))):
        click.echo(
            "this computer was started again since the capture: process numbers in it are of "
            "the start before; capture again before you act",
            err=True,
        )
