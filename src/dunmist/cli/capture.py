"""``dunmist capture``: sample a computer into a file."""

from pathlib import Path

import click

from dunmist.cli.parameters import sampling_options


@click.command()
@click.option("--until-sure", is_flag=True,
              help="End as soon as more of it would hardly change the verdict, at most after "
              "--for.")  # fmt: skip
@sampling_options
def capture(
    until_sure: bool,
    output: Path | None,
    duration_s: float,
    every_s: float,
    root: Path,
    complaints: tuple[str, ...],
    note: str | None,
    force: bool,
) -> None:
    """Sample this computer into FILE.

    Ctrl-C ends it early and keeps what it has. Without -o the file is named for the computer and
    the time. Nothing on the computer is changed.
    """
    from dunmist.cli.progress import progress_for
    from dunmist.jobs import Wishes, run_capture

    wishes = Wishes(output, duration_s, every_s, root, note, force, complaints=complaints,
                    until_sure=until_sure)  # fmt: skip
    path = run_capture(wishes, follow=progress_for)
    if str(path) != "-":
        click.echo(f"kept {path}; next: dunmist triage {path}", err=True)
