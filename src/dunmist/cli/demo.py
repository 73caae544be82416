"""``dunmist demo``: a full example on a model computer."""

from pathlib import Path

import click

from dunmist.cli.parameters import FILE

FORMS = ("html", "pdf", "md", "json", "txt")


@click.command()
@click.argument("scenario", required=False)
@click.option("-o", "--output", type=FILE, default=Path("dunmist-demo"), show_default=True,
              metavar="DIR", help="Where to put the capture and the reports.")  # fmt: skip
@click.option("--force", is_flag=True, help="Overwrite an earlier demo in DIR.")
@click.option("--list", "only_list", is_flag=True, help="List all patients and do nothing else.")
def demo(scenario: str | None, output: Path, force: bool, only_list: bool) -> None:
    """Capture, triage and report a model computer: SCENARIO, or the default one.

    The model publishes the same files as a real computer, in virtual time, and the same code
    samples it. Without SCENARIO the other patients are listed at the end.
    """
    from dunmist.errors import OutputError
    from dunmist.output import check_output
    from dunmist.simulation import DEFAULT_SCENARIO, load_scenario

    if only_list:
        click.echo("\n".join(_listed()))
        return
    patient = load_scenario(scenario or DEFAULT_SCENARIO)
    if output.exists() and not output.is_dir():
        raise OutputError(f"{output}: is a file; name a directory with -o")
    targets = [output / f"report.{form}" for form in FORMS]
    capture = output / "capture.jsonl.gz"
    output.mkdir(parents=True, exist_ok=True)
    for target in (capture, *targets):
        check_output(target, force=force)
    from dunmist.jobs.judge import judge
    from dunmist.jobs.patient import capture_patient
    from dunmist.reports import document_text, triage_document, write_report

    click.echo(f"The patient: {patient.machine.host}. {patient.story}\n")
    capture_patient(patient, capture, force=force)
    judged = judge(capture)
    for target in targets:
        write_report(judged, target, force=force)
    click.echo(document_text(triage_document(judged.triage)), nl=False)
    if not scenario:
        click.echo("\nOther patients (dunmist demo NAME -o DIR):")
        click.echo("\n".join(_listed()))
    click.echo(f"wrote {capture} and report.{{{','.join(FORMS)}}} beside it", err=True)


def _listed() -> list[str]:
    from dunmist.simulation import load_scenario, scenario_names

    return [f"  {name:<22} {load_scenario(name).complaint}" for name in scenario_names()]
