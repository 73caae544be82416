"""Lets a paused suspect go on, whatever becomes of the program that paused it.

Run as a process of its own, in a session of its own, with one end of a socket (``SEQPACKET``) as
its standard input. It is handed, one by one, descriptors of what may be paused (``p`` a process,
``f`` a file of the freezer), and a word at least every ``SILENT_S``. When the words stop, because
the other end is gone, stopped or stuck, it lets all of them go on and ends. It imports nothing of
the package.
"""

import contextlib
import os
import select
import signal
import socket
import sys

READY, PROCESSES, FREEZER, ALIVE = b"r", b"p", b"f", b"."
SILENT_S = 3.0
IGNORED = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT, signal.SIGTSTP)


def keep(channel: socket.socket) -> None:
    """Hold what is handed over until the words stop, then let it go on."""
    processes: list[int] = []
    freezers: list[int] = []
    channel.send(READY)
    while select.select([channel], [], [], SILENT_S)[0]:
        word, descriptors, _, _ = socket.recv_fds(channel, 16, 1)
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


if __name__ == "__main__":
    for number in IGNORED:
        signal.signal(number, signal.SIG_IGN)
    with socket.socket(fileno=os.dup(sys.stdin.fileno())) as other_end:
        keep(other_end)
