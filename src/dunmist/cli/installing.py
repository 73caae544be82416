"""Run ``dunmist watch --install`` and ``--remove``: show, ask and do."""

import getpass
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

import click

from dunmist.advice import Act
from dunmist.children import python_command
from dunmist.cli.fix_actions import agrees
from dunmist.errors import Refused, Unsuccessful
from dunmist.fixing import Outcome, UnitFile, When, check_program, plan_units, watch_unit
from dunmist.harmless import harmless
from dunmist.jobs.acts import acts_to_undo, install_units, undo_act
from dunmist.jobs.settings import plans_directory

if TYPE_CHECKING:
    from dunmist.cli.watch import WatchOptions

COLLECTED_S = 60.0


class InstalledUnit(NamedTuple):
    """The recorder, or the planned collection of a name; of one's own or of the system."""

    plan: str | None
    at: datetime | None
    every_day: bool
    own: bool

    @property
    def unit(self) -> str:
        """The unit that is switched on."""
        return f"dunmist-plan-{self.plan}.timer" if self.plan else "dunmist-watch.service"

    @property
    def user(self) -> str | None:
        """Owner of it; None is the system."""
        return getpass.getuser() if self.own else None


def install(installed: InstalledUnit, options: "WatchOptions", *, asks: bool) -> None:
    """Show the units, and install them on request; raises Refused and Unsuccessful."""
    check_program()
    parts = _parts(installed, options)
    for part in parts:
        click.echo(f"{part.path}:\n{harmless_lines(part.text)}")
    if asks and not agrees("\nDo it?"):
        click.echo("Nothing was done; give --yes to do it.")
        return
    act = Act("install-unit", unit=installed.unit, user=installed.user, file=str(parts[0].path))
    outcome: Outcome = install_units(act, parts)
    undo = "dunmist watch --remove" + (f" --plan {installed.plan}" if installed.plan else "")
    click.echo(f"act {outcome.number}: {harmless(outcome.text)}; undo: {harmless(undo)}")
    if not outcome.worked:
        raise Unsuccessful(
            f"{installed.unit}: {outcome.text}; see 'journalctl -u {installed.unit}'"
        )


def remove(installed: InstalledUnit, *, asks: bool) -> None:
    """Take a unit of ours away again; raises Refused where the journal knows of none."""
    lines = [
        line
        for line in acts_to_undo()
        if line.act.verb == "install-unit"
        and (line.act.unit, line.act.user) == (installed.unit, installed.user)
    ]
    if not lines:
        raise Refused(f"{installed.unit}: was not installed from here; see 'dunmist fix list'")
    click.echo(
        f"{installed.unit} would be stopped, switched off, and {lines[-1].act.file} removed."
    )
    if asks and not agrees("\nDo it?"):
        click.echo("Nothing was done; give --yes to do it.")
        return
    click.echo(harmless(undo_act(lines[-1].number)))


def _parts(installed: InstalledUnit, options: "WatchOptions") -> list[UnitFile]:
    program = python_command("-m", "dunmist")
    if installed.plan is None or installed.at is None:
        command = [
            *program,
            "watch",
            "--plain",
            "--every",
            f"{options.every_s:g}s",
            "--keep",
            f"{options.keep_s:g}s",
            "--most",
            str(options.most_bytes),
        ]
        return watch_unit([*command, *(["--tell"] if options.tell else [])], installed.user)
    folder = plans_directory()
    command = [
        *program,
        "capture",
        "--for",
        f"{options.duration_s or COLLECTED_S:g}s",
        "--note",
        f"planned: {installed.plan}",
    ]
    return plan_units(
        installed.plan, command, folder, When(installed.at, installed.every_day), installed.user
    )


def harmless_lines(text: str) -> str:
    """Return a text of several lines as it may reach a terminal."""
    return "\n".join(f"  {harmless(line)}" for line in text.splitlines())
