"""Implement ``--on``, ``--via`` and ``--from``: capture a remote computer."""

from pathlib import Path

import click

from dunmist.cli.progress import progress_for
from dunmist.harmless import harmless
from dunmist.jobs import CaptureOptions
from dunmist.jobs.remote_capture import RemoteCapture, capture_from, capture_on
from dunmist.remote.command_transport import parse_command
from dunmist.remote.ssh_transport import SshTransport, parse_host
from dunmist.remote.transport import Transport


def transport_of(host: str | None, via: str | None, *, sudo: bool) -> Transport | None:
    """Return the way to the computer that was asked for, None for this one; raises UsageError."""
    if host is not None and via is not None:
        raise click.UsageError("--on and --via are two ways; give one of them")
    if sudo and host is None:
        raise click.UsageError("--sudo goes with --on")
    if via is not None:
        return parse_command(via)
    return None if host is None else SshTransport(parse_host(host), sudo)


def capture_remote(transport: Transport, options: CaptureOptions) -> Path:
    """Sample a remote computer and return the capture."""
    if str(options.root) != "/":
        raise click.UsageError("--root is of this computer; leave it out with --on and --via")
    return _told(capture_on(transport, options, progress_for))


def read_collected(file: Path, options: CaptureOptions) -> Path:
    """Make a capture of a collector's file and return it."""
    return _told(capture_from(file, options))


def _told(remote_capture: RemoteCapture) -> Path:
    click.echo(f"sampled by {remote_capture.by}", err=True)
    if remote_capture.remark:
        click.echo(f"dunmist: {harmless(remote_capture.remark)}", err=True)
    return remote_capture.path
