"""Start two guards that resume a paused suspect, before anything is paused.

The watchdog is a child of this program. The second guard is not: it is a transient unit of the
service manager, or else a process that detaches itself. It has a name and a command line of its
own, so that no single signal by name hits this program, the watchdog and the guard at once.
"""

import os
import secrets
import socket
import sys
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from functools import cache
from pathlib import Path

from dunmist.children import ISOLATED_FLAGS, python_command, start_child
from dunmist.computer import MANAGER, Unanswered, call, connected, system_bus
from dunmist.errors import Refused
from dunmist.fixing import watchdog

# a guard that is not there by then is not coming
READY_S = 10.0
# beyond the planned end of the experiment, which a slow computer begins late
SPARE_S = 60.0
GUARD = "resume-timer"


class SafetyNet:
    """The channels to both guards; what is said on them is said to both."""

    def __init__(self, channels: Sequence[socket.socket]) -> None:
        self._channels = channels

    def hand_over(self, word: bytes, descriptor: int) -> None:
        """Give both a descriptor of what may be paused; raises OSError where one is gone."""
        for channel in self._channels:
            socket.send_fds(channel, [word], [descriptor])

    def say_alive(self) -> None:
        """Say that all is well; raises OSError where one is gone."""
        for channel in self._channels:
            channel.send(watchdog.ALIVE)

    def say_done(self) -> None:
        """Say that all go on: there is nothing left to do."""
        for channel in self._channels:
            with suppress(OSError):
                channel.send(watchdog.DONE)


@contextmanager
def safety_net(span_s: float) -> Iterator[SafetyNet]:
    """Give both guards, ready, for an experiment of so many seconds; raises Refused."""
    longest_s = f"{span_s + SPARE_S:.0f}"
    with ExitStack() as stack:
        channels = [_watchdog(stack, longest_s), _guard(stack, longest_s)]
        for channel in channels:
            channel.settimeout(READY_S)
            try:
                is_ready = channel.recv(1) == watchdog.READY
            except OSError:
                is_ready = False
            if not is_ready:
                raise Refused(
                    "what would let it go on in an emergency does not start; nothing was done"
                )
        yield SafetyNet(channels)


def _watchdog(stack: ExitStack, longest_s: str) -> socket.socket:
    own, other = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    command = python_command(watchdog.__file__, longest_s, isolated=True)
    with other:
        process = start_child(command, stdin=other.fileno(), own_session=True)
    # last: the channel is closed before, so it ends
    stack.callback(process.wait, READY_S)
    stack.callback(own.close)
    return own


def _guard(stack: ExitStack, longest_s: str) -> socket.socket:
    own, other = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    stack.callback(own.close)
    with other:
        if not _started_by_manager(other, longest_s):
            process = start_child(
                _guard_arguments(longest_s, GUARD),
                executable=_interpreter(),
                stdin=other.fileno(),
                own_session=True,
            )
            # it detaches itself, and this ends at once
            stack.callback(process.wait)
    return own


def _started_by_manager(other: socket.socket, longest_s: str) -> bool:
    """Have the service manager start the guard; False where there is none, or it refuses."""
    address = _manager_bus()
    if address is None:
        return False
    unit = f"{GUARD}-{secrets.token_hex(4)}.service"
    properties = [
        ("Description", ("s", "Lets paused processes go on when the time is over")),
        ("CollectMode", ("s", "inactive-or-failed")),
        ("ExecStart", ("a(sasb)", [(_interpreter(), _guard_arguments(longest_s), False)])),
        ("StandardInputFileDescriptor", ("h", other)),
        ("StandardOutput", ("s", "null")),
        ("StandardError", ("s", "null")),
    ]
    try:
        with connected(address, with_descriptors=True) as bus:
            call(
                bus,
                MANAGER,
                "StartTransientUnit",
                "ssa(sv)a(sa(sv))",
                (unit, "fail", properties, []),
                timeout_s=READY_S,
            )
    except (Unanswered, OSError):
        return False
    return True


def _manager_bus() -> str | None:
    """Return the bus of the manager that runs units for the current user, None without one."""
    if not Path("/run/systemd/system").is_dir():
        return None
    if os.geteuid() == 0:
        return system_bus()
    bus = Path(f"/run/user/{os.geteuid()}/bus")
    return f"unix:path={bus}" if bus.is_socket() else None


def _guard_arguments(longest_s: str, *name: str) -> list[str]:
    """Return its command line, which begins with its own name and names no file of this program."""
    # Python looks for its library next to the path that it is called by
    called = os.path.join(os.path.dirname(_interpreter()), GUARD)  # noqa: PTH118, PTH120 - text
    return [called, *ISOLATED_FLAGS, "-c", _source(), longest_s, *name]


@cache
def _source() -> str:
    return Path(watchdog.__file__).read_text(encoding="utf-8")


def _interpreter() -> str:
    # it needs the standard library alone, so no environment of packages
    return os.path.realpath(sys.executable)
