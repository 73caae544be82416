"""``dunmist capture``: sample a computer into a file."""

import os
from pathlib import Path

import click

from dunmist.cli.parameters import FILE, refuse_given, sampling_options
from dunmist.cli.remote_options import FLAGS_TEXT, REMOTE_PARAMETERS, RemoteTarget, remote_options


@click.command()
@click.option(
    "--until-sure",
    is_flag=True,
    help="End as soon as more of it would hardly change the verdict, at most after --for.",
)
@click.option(
    "--from",
    "collected",
    type=FILE,
    metavar="COLLECTED",
    help="Make the capture of a file that 'dunmist collector' left.",
)
@remote_options
@sampling_options
@click.pass_context
def capture(
    context: click.Context,
    /,
    until_sure: bool,
    collected: Path | None,
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
    """Sample this computer into FILE, or another one with --on HOST or --via COMMAND.

    Ctrl-C ends it early and keeps what it has. Without -o the file is named for the computer and
    the time. Nothing on the computer is changed.
    """
    from dunmist.jobs import CaptureOptions, run_capture
    from dunmist.jobs.last_capture import remember
    from dunmist.jobs.settings import history_path

    options = CaptureOptions(
        output,
        duration_s,
        every_s,
        root,
        note,
        force,
        complaints=complaints,
        until_sure=until_sure,
        with_code=with_code,
    )
    if collected is not None:
        ignored = "what was collected has its own time and place; leave out {}"
        chosen = (*REMOTE_PARAMETERS, "root", "duration_s", "every_s", "until_sure")
        refuse_given(context, chosen, ignored)
        from dunmist.cli.remote import read_collected

        path = read_collected(collected, options)
    elif remote:
        ignored = f"{{}} is for this computer; leave it out with {FLAGS_TEXT}"
        refuse_given(context, ("until_sure",), ignored)
        from dunmist.cli.remote import capture_remote

        path = capture_remote(remote, options)
    else:
        from dunmist.cli.progress import progress_for

        path = run_capture(options, follow=progress_for)
        if str(path) != "-" and os.path.lexists(history_path()):
            from dunmist.jobs.keep_history import add_capture

            add_capture(path)
    if str(path) != "-":
        remember(path)
        click.echo(f"kept {path}; next: dunmist triage {path}", err=True)
