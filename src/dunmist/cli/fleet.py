"""``dunmist fleet``: triage many captures at once, and say what they have in common."""

import sys
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dunmist.cli.parameters import FILE
from dunmist.errors import OutputError
from dunmist.harmless import harmless

if TYPE_CHECKING:
    from dunmist.fleet.engine import Engine


# the packages of the extra of that name
NEEDED = ("dask", "distributed", "pyarrow", "fsspec", "cryptography")


@click.command()
@click.argument("places", nargs=-1, required=True, metavar="PLACE…")
@click.option(
    "-o",
    "--output",
    type=FILE,
    required=True,
    metavar="DIR",
    help="Where the tables and the report go; what was done there is not done again.",
)
@click.option(
    "--workers",
    type=click.IntRange(1, 1024),
    metavar="N",
    help="So many processes of this machine, instead of one a CPU.",
)
@click.option(
    "--scheduler", metavar="URL", help="Use the Dask cluster whose scheduler is at tls://HOST:8786."
)
@click.option(
    "--tls-ca", type=FILE, metavar="FILE", help="Who signed the cluster's certificates (PEM)."
)
@click.option("--tls-cert", type=FILE, metavar="FILE", help="The certificate of this computer.")
@click.option("--tls-key", type=FILE, metavar="FILE", help="The key of that certificate.")
def fleet(
    places: tuple[str, ...],
    output: Path,
    workers: int | None,
    scheduler: str | None,
    **tls: Path | None,
) -> None:
    """Triage all captures below PLACE and report what they have in common.

    PLACE is a folder, a pattern, or any address that fsspec opens. Each capture is triaged as
    'dunmist triage' does it. Of histories ('history.sqlite3') it says what drifts on many. DIR
    gets Parquet tables and report.html, .md and .json.
    """
    missing = [name for name in NEEDED if find_spec(name) is None]
    if missing:
        raise OutputError(
            f"fleet needs {', '.join(missing)}; install with pip install 'dunmist[fleet]'"
        )
    if output.exists() and not output.is_dir():
        raise click.UsageError(f"{output} is a file; name a directory with -o")
    from dunmist.fleet.engine import engine_of

    certificates = tls["tls_ca"], tls["tls_cert"], tls["tls_key"]
    run_fleet(list(places), output, engine_of(workers, scheduler, certificates))


def run_fleet(places: list[str], output: Path, engine: "Engine") -> None:
    """Triage a fleet and say what became of it."""
    from dunmist.fleet.triage_run import triage_fleet

    finished = triage_fleet(places, output, engine, _progress)
    if sys.stderr.isatty():
        click.echo(err=True)
    summary = finished.summary
    histories = f", histories of {summary.histories}" if summary.histories else ""
    click.echo(
        f"{summary.captures} captures of {summary.computers} computers{histories} "
        f"({finished.done_before} were done before)",
        err=True,
    )
    for line in summary.unread:
        click.echo(f"dunmist: {harmless(line)}", err=True)
    click.echo(f"wrote {', '.join(str(path) for path in finished.files)} and the tables", err=True)


def _progress(done: int, of: int) -> None:
    if sys.stderr.isatty():
        click.echo(f"\r{done} of {of} captures", nl=False, err=True)
