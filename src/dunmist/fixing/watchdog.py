"""Lets paused processes go on, whatever becomes of the program that paused them.

Run as a process of its own with one end of a socket (``SEQPACKET``) as its standard input. It is
handed, one by one, descriptors of what may be paused (``p`` a process, ``f`` a file of the
freezer), and a word at least every ``SILENT_S``. When the words stop, or after the seconds that its
argument says, it lets all of them go on and ends. ``d`` says that all go on already. With a second
argument it detaches itself: no child of its starter, in a session of its own, under that
name. It imports nothing of the package.
"""

import contextlib
import os
import select
import signal
import socket
import sys
import time

READY, PROCESSES, FREEZER, ALIVE, DONE = b"r", b"p", b"f", b".", b"d"
# without a word for so long the program counts as stuck
SILENT_S = 3.0
IGNORED = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT, signal.SIGTSTP)


def keep(channel: socket.socket, longest_s: float) -> None:
    """Hold what is handed over until the words stop or the time is over, then let it go on."""
    processes: list[int] = []
    freezers: list[int] = []
    until_s = time.monotonic() + longest_s
    channel.send(READY)
    while (left_s := until_s - time.monotonic()) > 0:
        if not select.select([channel], [], [], min(SILENT_S, left_s))[0]:
            break
        word, descriptors, _, _ = socket.recv_fds(channel, 16, 1)
        if word == DONE:
            return
        if not word:
            break
        (freezers if word == FREEZER else processes).extend(descriptors)
    let_go(processes, freezers)


def let_go(processes: list[int], freezers: list[int]) -> None:
    """Let processes and control groups go on; what has ended needs nothing."""
    for descriptor in freezers:
        with contextlib.suppress(OSError):
            os.write(descriptor, b"0")
    for descriptor in processes:
        with contextlib.suppress(OSError):
            signal.pidfd_send_signal(descriptor, signal.SIGCONT)


def detach(name: str) -> None:
    """Go on as a process of nobody, in a session of its own, under a name of its own."""
    for _ in range(2):
        if os.fork():
            os._exit(0)
        os.setsid()
    with contextlib.suppress(OSError), open("/proc/self/comm", "w", encoding="ascii") as comm:  # noqa: PTH123 - light
        comm.write(name)


if __name__ == "__main__":
    for number in IGNORED:
        signal.signal(number, signal.SIG_IGN)
    if sys.argv[2:]:
        detach(sys.argv[2])
    with socket.socket(fileno=os.dup(sys.stdin.fileno())) as other_end:
        keep(other_end, float(sys.argv[1]))
