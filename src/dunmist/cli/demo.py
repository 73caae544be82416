"""``dunmist demo``: a full example on a model computer."""

import shutil
import sys
from pathlib import Path

import click

from dunmist.cli.completion import complete_patient
from dunmist.cli.parameters import FILE, wants_colours

# short captures, so that the fleet of the demo is made in seconds
FLEET_S = 10.0
# of the chapter of weeks
WEEKS_DAYS = 56.0
# the two that take long come first
FORMS = ("html", "pdf", "md", "json", "txt")


@click.command()
@click.argument("scenario", required=False, shell_complete=complete_patient)
@click.option(
    "-o",
    "--output",
    type=FILE,
    default=Path("dunmist-demo"),
    show_default=True,
    metavar="DIR",
    help="Where to put the capture and the reports.",
)
@click.option("--force", is_flag=True, help="Overwrite an earlier demo in DIR.")
@click.option(
    "--chapter",
    metavar="NAME",
    help="A chapter instead: before-and-after, normal-and-now, or eight-weeks.",
)
@click.option(
    "--fleet",
    "whole",
    is_flag=True,
    help="All sixty computers of the observatory, and what they have in common.",
)
@click.option("--list", "only_list", is_flag=True, help="List all patients and do nothing else.")
def demo(
    scenario: str | None,
    output: Path,
    force: bool,
    chapter: str | None,
    whole: bool,
    only_list: bool,
) -> None:
    """Capture, triage and report a model computer: SCENARIO, or the default one.

    The model publishes the same files as a real computer, in virtual time, and the same code
    samples it.
    """
    from dunmist.errors import OutputError
    from dunmist.output import check_output
    from dunmist.simulation import DEFAULT_SCENARIO, load_scenario

    if only_list:
        click.echo("\n".join(_listed()))
        return
    if chapter is not None:
        if scenario:
            raise click.UsageError("a chapter has its own patients; leave out SCENARIO")
        from dunmist.jobs.eight_weeks import CHAPTER

        if chapter == CHAPTER:
            _show_eight_weeks(output, force=force)
            return
        _show_chapter(chapter, output, force=force)
        return
    if whole:
        if scenario:
            raise click.UsageError("a fleet has its own patients; leave out SCENARIO")
        _show_fleet(output, force=force)
        return
    patient = load_scenario(scenario or DEFAULT_SCENARIO)
    if output.exists() and not output.is_dir():
        raise OutputError(f"{output}: is a file; name a directory with -o")
    targets = [output / f"report.{form}" for form in FORMS]
    capture = output / "capture.jsonl.gz"
    output.mkdir(parents=True, exist_ok=True)
    for target in (capture, *targets):
        check_output(target, force=force)
    from dunmist.cli.first_screen import LEAST_LINES, first_screen
    from dunmist.jobs.judge import judge
    from dunmist.jobs.last_capture import remember
    from dunmist.jobs.patient import capture_patient
    from dunmist.reports import write_reports

    capture_patient(patient, capture, force=force)
    remember(capture)
    judged = judge(capture)
    write_reports(judged, targets, force=force)
    columns = shutil.get_terminal_size((100, LEAST_LINES)).columns
    colours = sys.stdout.isatty() and wants_colours()
    click.echo(first_screen(judged, columns, LEAST_LINES, colours=colours), nl=False)
    click.echo(f"more patients: dunmist demo --list; this one: {capture.parent}/report.html")
    click.echo(f"wrote {capture} and report.{{{','.join(FORMS)}}} next to it", err=True)


def _show_chapter(name: str, output: Path, *, force: bool) -> None:
    """Make the captures of a chapter, compare them, and report that of now."""
    from dunmist.jobs.comparison import answer, question_of
    from dunmist.jobs.judge import judge
    from dunmist.jobs.patient import capture_patient
    from dunmist.jobs.report_extras import extra_sections
    from dunmist.output import check_output
    from dunmist.reports import comparison_document, document_text, write_report
    from dunmist.simulation import load_chapter

    chapter = load_chapter(name)
    earlier = [output / f"before-{number}.jsonl.gz" for number, _ in enumerate(chapter.before, 1)]
    now, report = output / "now.jsonl.gz", output / "report.html"
    output.mkdir(parents=True, exist_ok=True)
    for path in (*earlier, now, report):
        check_output(path, force=force)
    click.echo(f"{chapter.story}\n")
    for visit, path in zip((*chapter.before, chapter.now), (*earlier, now), strict=True):
        capture_patient(visit.scenario, path, force=force, seed=visit.seed)
    compared = answer(question_of([*earlier, now], []))
    click.echo(document_text(comparison_document(compared)), nl=False)
    judged = judge(now)
    normal = earlier if compared.question == "normal-and-now" else []
    write_report(judged, report, more=extra_sections(judged, normal), force=force)
    click.echo(f"wrote {', '.join(map(str, (*earlier, now, report)))}", err=True)


def _show_eight_weeks(output: Path, *, force: bool) -> None:
    """Make the history of a computer, show it, and triage a capture against it."""
    from dunmist.advice import HistoryQuestion
    from dunmist.jobs.eight_weeks import STORY, make_eight_weeks
    from dunmist.jobs.judge import judge
    from dunmist.jobs.view_history import history_of
    from dunmist.output import check_output
    from dunmist.reports import document_text, history_document, write_report
    from dunmist.reports.write_history import write_history

    output.mkdir(parents=True, exist_ok=True)
    picture, report = output / "history.png", output / "report.html"
    for path in (output / "history.sqlite3", output / "now.jsonl.gz", picture, report):
        check_output(path, force=force)
    click.echo(f"{STORY}\n")
    history, capture = make_eight_weeks(output, force=force)
    found, periods = history_of(history, HistoryQuestion(days=WEEKS_DAYS))
    click.echo(document_text(history_document(found)), nl=False)
    write_history(found, periods, picture, force=force)
    write_report(judge(capture, history=history), report, force=force)
    click.echo(f"the computer now, with that history: dunmist triage {capture} --history {history}")
    click.echo(f"wrote {', '.join(map(str, (history, capture, picture, report)))}", err=True)


def _show_fleet(output: Path, *, force: bool) -> None:
    """Make a capture of each computer of the observatory, and report on all of them."""
    from dunmist.cli.fleet import run_fleet
    from dunmist.fleet.engine import Engine
    from dunmist.jobs.patient import capture_patient
    from dunmist.output import check_output
    from dunmist.simulation.observatory import desks

    captures = list(desks())
    for number, desk in enumerate(captures, start=1):
        folder = output / "captures" / desk.site
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"{desk.scenario.machine.host}.jsonl.gz"
        check_output(path, force=force)
        capture_patient(desk.scenario, path, FLEET_S, force=force, seed=desk.seed)
        click.echo(f"\r{number} of {len(captures)} computers sampled", nl=False, err=True)
    click.echo(err=True)
    run_fleet([str(output / "captures")], output / "fleet", Engine())
    click.echo((output / "fleet" / "report.md").read_text(encoding="utf-8"), nl=False)


def _listed() -> list[str]:
    from dunmist.simulation import load_scenario, scenario_names

    return [f"  {name:<22} {load_scenario(name).complaint}" for name in scenario_names()]
