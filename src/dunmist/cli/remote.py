"""Implement ``--on`` and ``--from``: capture a remote computer."""

from pathlib import Path

import click

from dunmist.cli.progress import progress_for
from dunmist.harmless import harmless
from dunmist.jobs import CaptureOptions
from dunmist.jobs.remote_capture import RemoteCapture, capture_from, capture_on
from dunmist.remote.ssh_transport import RemoteTarget, parse_host


def capture_remote(host: str, options: CaptureOptions, *, sudo: bool) -> Path:
    """Sample a computer over SSH and return the capture."""
    if str(options.root) != "/":
        raise click.UsageError("--root is of this computer; leave it out with --on")
    return _told(capture_on(RemoteTarget(parse_host(host), sudo), options, progress_for))


def read_collected(file: Path, options: CaptureOptions) -> Path:
    """Make a capture of a collector's file and return it."""
    return _told(capture_from(file, options))


def _told(remote_capture: RemoteCapture) -> Path:
    click.echo(f"sampled by {remote_capture.by}", err=True)
    if remote_capture.remark:
        click.echo(f"dunmist: {harmless(remote_capture.remark)}", err=True)
    return remote_capture.path
