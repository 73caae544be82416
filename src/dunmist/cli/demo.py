"""``dunmist demo``: a full example on a model computer."""

import tempfile
from pathlib import Path

import click

from dunmist.cli.parameters import FILE

FORMS = ("html", "md", "json", "txt")


@click.command()
@click.argument("scenario", required=False)
@click.option("-o", "--output", type=FILE, default=Path("dunmist-demo"), show_default=True,
              metavar="DIR", help="Where to put the capture and the reports.")  # fmt: skip
@click.option("--force", is_flag=True, help="Overwrite an earlier demo in DIR.")
def demo(scenario: str | None, output: Path, force: bool) -> None:
    """Capture, triage and report a model computer: SCENARIO, or the default one.

    The model publishes the same files as a real computer, in virtual time, and the same code
    samples it.
    """
    from dunmist.captures import check_output
    from dunmist.cli.capturing import Wishes, run_capture
    from dunmist.cli.judging import judge
    from dunmist.errors import OutputError
    from dunmist.reports import document_text, triage_document, write_report
    from dunmist.simulation import (
        DEFAULT_SCENARIO,
        ComputerTree,
        ModelComputer,
        VirtualClock,
        load_scenario,
    )

    patient = load_scenario(scenario or DEFAULT_SCENARIO)
    if output.exists() and not output.is_dir():
        raise OutputError(f"{output}: is a file; name a directory with -o")
    targets = [output / f"report.{form}" for form in FORMS]
    capture = output / "capture.jsonl.gz"
    output.mkdir(parents=True, exist_ok=True)
    for target in (capture, *targets):
        check_output(target, force=force)
    with tempfile.TemporaryDirectory(prefix="dunmist-") as directory:
        model = ModelComputer(patient)
        tree = ComputerTree(model, Path(directory))
        try:
            wishes = Wishes(capture, 30.0, 1.0, Path(directory), patient.story, force=force)
            run_capture(wishes, VirtualClock(model, tree))
        finally:
            tree.close()
    judged = judge(capture)
    for target in targets:
        write_report(judged.series, judged.triage, target)
    click.echo(f"The patient: {patient.machine.host}. {patient.story}\n")
    click.echo(document_text(triage_document(judged.triage)), nl=False)
    click.echo(f"wrote {capture} and report.{{{','.join(FORMS)}}} beside it", err=True)
