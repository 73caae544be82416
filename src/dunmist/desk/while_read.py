"""Run a command of this program for as long as somebody holds the other end of its input.

``python -m dunmist.desk.while_read capture …``. However the desk ends, the kernel closes that end,
and the command takes it as a Ctrl-C. The signal of prctl(2) for this is no use: the kernel forgets
it when a process reads a home with its owner's rights.
"""

import os
import runpy
import signal
import threading

STANDARD_INPUT = 0


def end_with_input() -> None:
    """Wait for the end of standard input, and end the command."""
    while os.read(STANDARD_INPUT, 1):
        pass
    os.kill(os.getpid(), signal.SIGINT)


if __name__ == "__main__":
    threading.Thread(target=end_with_input, daemon=True).start()
    runpy.run_module("dunmist", run_name="__main__", alter_sys=True)
