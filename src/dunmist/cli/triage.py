"""``dunmist triage``: rank the culprits of a capture and say what to do."""

from pathlib import Path

import click

from dunmist.cli.parameters import FILE, sampling_options


@click.command()
@click.argument("file", type=FILE, required=False)
@click.option("--json", "as_json", is_flag=True, help="Print the triage as JSON.")
@sampling_options
def triage(
    file: Path | None,
    as_json: bool,
    output: Path | None,
    duration_s: float,
    every_s: float,
    root: Path,
    note: str | None,
    force: bool,
) -> None:
    """Rank the culprits of the capture FILE and print verdict, evidence and fixes.

    Without FILE it samples this computer first and keeps the capture; the options below are for
    that.
    """
    if file is None:
        from dunmist.cli.progress import progress_for
        from dunmist.jobs import Wishes, run_capture

        file = run_capture(
            Wishes(output, duration_s, every_s, root, note, force), follow=progress_for
        )
        click.echo(f"kept {file}", err=True)
    # the analysis is loaded after sampling, so that it is no part of the load that is sampled
    from dunmist.jobs.judge import judge
    from dunmist.reports import document_text, triage_document, triage_json

    found = judge(file).triage
    text = triage_json(found) if as_json else document_text(triage_document(found))
    click.echo(text, nl=False)
