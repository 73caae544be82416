"""The options that lead to a remote computer, each declared once, and what was given of them.

Help and completion import this, so a transport is imported only when its option was given.
"""

import functools
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

import click

if TYPE_CHECKING:
    from dunmist.remote.transport import Transport


class TransportOption(NamedTuple):
    """One way to a remote computer, as it is typed."""

    name: str  # of the option, without its hyphens
    metavar: str
    help: str
    parse: Callable[[str, bool], "Transport"]  # of its value and of --sudo; raises WrongUsage
    takes_sudo: bool = False

    @property
    def flag(self) -> str:
        """The option as it is typed."""
        return f"--{self.name}"


def _ssh(value: str, sudo: bool) -> "Transport":
    from dunmist.remote.ssh_transport import SshTransport, parse_host

    return SshTransport(parse_host(value), sudo)


def _command(value: str, sudo: bool) -> "Transport":
    from dunmist.remote.command_transport import parse_command

    del sudo
    return parse_command(value)


TRANSPORT_OPTIONS = (
    TransportOption(
        "on",
        "HOST",
        "Sample another computer over SSH: user@host or ssh://user@host:2222.",
        _ssh,
        takes_sudo=True,
    ),
    TransportOption(
        "via",
        "COMMAND",
        "Sample where COMMAND gives a shell: 'podman exec -i box sh', 'chroot DIR sh'.",
        _command,
    ),
)
FLAGS_TEXT = " and ".join(option.flag for option in TRANSPORT_OPTIONS)
# parameter names of ``remote_options`` in click
REMOTE_PARAMETERS = (*(option.name for option in TRANSPORT_OPTIONS), "sudo")


class RemoteTarget(NamedTuple):
    """The remote computer that was asked for; it is false for this computer."""

    given: tuple[tuple[TransportOption, str], ...] = ()  # each with its value
    sudo: bool = False

    def __bool__(self) -> bool:
        return bool(self.given or self.sudo)

    def words(self) -> tuple[str, ...]:
        """Return the options as a child of this program is given them."""
        words = [word for option, value in self.given for word in (option.flag, value)]
        return (*words, *(["--sudo"] if self.sudo else []))

    def transport(self) -> "Transport | None":
        """Return the way to it, None for this computer; raises UsageError and WrongUsage."""
        if len(self.given) > 1:
            flags = " and ".join(option.flag for option, _ in self.given)
            raise click.UsageError(f"{flags} are different ways; give one of them")
        if self.sudo and not any(option.takes_sudo for option, _ in self.given):
            takers = " or ".join(option.flag for option in TRANSPORT_OPTIONS if option.takes_sudo)
            raise click.UsageError(f"--sudo goes with {takers}")
        for option, value in self.given:
            return option.parse(value, self.sudo)
        return None


def remote_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that sample a remote computer; the command gets them as ``remote``."""

    @functools.wraps(command)
    def with_target(*arguments: object, sudo: bool, **options: object) -> object:
        values = [(option, options.pop(option.name)) for option in TRANSPORT_OPTIONS]
        given = tuple((option, str(value)) for option, value in values if value is not None)
        return command(*arguments, remote=RemoteTarget(given, sudo), **options)

    result: Callable[..., Any] = click.option(
        "--sudo",
        is_flag=True,
        help="With --on: read as its administrator, by 'sudo -n', which asks for no password.",
    )(with_target)
    for option in reversed(TRANSPORT_OPTIONS):
        result = click.option(option.flag, metavar=option.metavar, help=option.help)(result)
    return result
