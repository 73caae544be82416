"""Long output on a terminal goes through the pager that the person has chosen."""

import os
import shutil
import sys
from collections.abc import Iterable

import click
from rich.console import Console, RenderableType

# piped output is read by a program or in a wide window
PIPED_WIDTH = 160
# no table is as wide, so nothing is cut
WIDE = 10_000
# stay on the screen, quit when it fits, keep colours
PAGER_HABITS = "FRX"


def console_for(*, wide: bool) -> Console:
    """Return a console as wide as the terminal, or as wide as needed."""
    width = shutil.get_terminal_size((PIPED_WIDTH, 24)).columns
    if not sys.stdout.isatty() and "COLUMNS" not in os.environ:
        width = PIPED_WIDTH
    return Console(width=WIDE if wide else width, highlight=False, soft_wrap=wide)


def show(console: Console, parts: Iterable[RenderableType], *, pager: bool = True) -> None:
    """Print the parts, through a pager where they are longer than the terminal."""
    with console.capture() as captured:
        for part in parts:
            console.print(part)
    text = captured.get()
    height = shutil.get_terminal_size((PIPED_WIDTH, 24)).lines
    if pager and sys.stdout.isatty() and text.count("\n") > height - 1:
        os.environ.setdefault("LESS", PAGER_HABITS)
        click.echo_via_pager(text, color=True)
    else:
        click.echo(text, nl=False, color=True)
