"""Capture a remote computer, live or from what its collector left."""

from pathlib import Path

import click

from dunmist.cli.progress import progress_for
from dunmist.cli.remote_options import FLAGS_TEXT, RemoteTarget
from dunmist.harmless import harmless
from dunmist.jobs import CaptureOptions
from dunmist.jobs.remote_capture import RemoteCapture, capture_from, capture_on


def capture_remote(remote: RemoteTarget, options: CaptureOptions) -> Path:
    """Sample a remote computer and return the capture; raises UsageError."""
    transport = remote.transport()
    assert transport is not None  # an option that leads to one was given
    if str(options.root) != "/":
        raise click.UsageError(f"--root is of this computer; leave it out with {FLAGS_TEXT}")
    return _report_capture(capture_on(transport, options, progress_for))


def read_collected(file: Path, options: CaptureOptions) -> Path:
    """Make a capture of a collector's file and return it."""
    return _report_capture(capture_from(file, options))


def _report_capture(remote_capture: RemoteCapture) -> Path:
    click.echo(f"sampled by {remote_capture.by}", err=True)
    if remote_capture.remark:
        click.echo(f"dunmist: {harmless(remote_capture.remark)}", err=True)
    return remote_capture.path
