"""Ends a capture within a second of a signal, whatever it reads then.

First the capture is asked to end by itself. A read that goes on is then broken off. A read that no
signal reaches ends with the process: a file system whose server does not answer (fuse(4)). What was
written up to then is whole and stays.

The main thread sees no signal before its read returns (signal(7)). So other threads take signals,
and a pipe tells one of them (signal.set_wakeup_fd), whichever thread took it.
"""

import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from types import FrameType

END_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
# a tick that is under way may finish
BREAK_OFF_AFTER_S = 0.5
# the promise is one second, and the interpreter needs some of it
EXIT_AFTER_S = 0.85
LOOK_EVERY_S = 0.05
BREAK_OFF = signal.SIGALRM


class BrokenOff(BaseException):
    """Reading was given up; like KeyboardInterrupt, no reader may catch it."""


class Ending:
    """Action on a signal.

    ``stop`` asks the capture to end; without it the whole job is given up. ``kept`` is the file
    that has the ticks so far, None before the first.
    """

    def __init__(self, stop: Callable[[], None] | None) -> None:
        self.kept: str | None = None
        self._stop = stop
        self._is_reading = False
        self._done = threading.Event()

    @contextmanager
    def reading(self) -> Iterator[None]:
        """Run what may be broken off; only here BrokenOff is raised."""
        self._is_reading = True
        try:
            yield
        finally:
            self._is_reading = False

    def wait_for_signal(self, read_end: int) -> None:
        """Wait for the first signal and see to it that the capture ends; runs in its thread.

        ``read_end`` is the end of a pipe that gives the number of each signal as a byte.
        """
        signal.pthread_sigmask(signal.SIG_UNBLOCK, END_SIGNALS)
        while (number := os.read(read_end, 1)) and number[0] not in END_SIGNALS:
            pass
        if not number:
            return
        began_s = time.monotonic()
        if self._stop:
            self._stop()
            self._done.wait(BREAK_OFF_AFTER_S)
        signal.pthread_kill(threading.main_thread().ident or 0, BREAK_OFF)
        while not self._done.wait(LOOK_EVERY_S):
            # a write in progress may take longer
            if self._is_reading and time.monotonic() - began_s > EXIT_AFTER_S:
                self._say_and_exit()
            if self._stop:
                signal.pthread_kill(threading.main_thread().ident or 0, BREAK_OFF)

    def break_off(self, number: int, frame: FrameType | None) -> None:
        """Leave what is being read; what is being written comes to its end."""
        del number, frame
        if not self._stop:
            raise KeyboardInterrupt
        if self._is_reading:
            raise BrokenOff

    def finish(self) -> None:
        """Say that the capture has ended."""
        self._done.set()

    def _say_and_exit(self) -> None:
        kept = f"what was sampled is kept in {self.kept}" if self.kept else "nothing was kept"
        line = f"dunmist: what was read last does not answer; stopped, and {kept}\n"
        with suppress(OSError):
            os.write(sys.stderr.fileno(), line.encode(errors="replace"))
        os._exit(1)


@contextmanager
def ended_by_signals(stop: Callable[[], None] | None) -> Iterator[Ending]:
    """Call ``stop`` at Ctrl-C, a hang-up or a polite request to end, and see to it that it ends.

    Raises KeyboardInterrupt at a signal where there is no ``stop``.
    """
    ending = Ending(stop)
    read_end, write_end = os.pipe()
    os.set_blocking(write_end, False)
    before = {number: signal.signal(number, _leave_to_thread) for number in END_SIGNALS}
    before[BREAK_OFF] = signal.signal(BREAK_OFF, ending.break_off)
    waker = signal.set_wakeup_fd(write_end, warn_on_full_buffer=False)
    mask = signal.pthread_sigmask(signal.SIG_BLOCK, END_SIGNALS)
    thread = threading.Thread(target=ending.wait_for_signal, args=(read_end,), daemon=True)
    thread.start()
    try:
        yield ending
    finally:
        ending.finish()
        signal.set_wakeup_fd(waker)
        os.close(write_end)
        thread.join()
        os.close(read_end)
        signal.pthread_sigmask(signal.SIG_SETMASK, mask)
        for number, handler in before.items():
            signal.signal(number, handler)


def _leave_to_thread(number: int, frame: FrameType | None) -> None:
    """Do nothing: the thread was notified already."""
    del number, frame
