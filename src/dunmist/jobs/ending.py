"""Ends a capture within a second of a signal, whatever it reads at that moment.

First it is asked to end by itself; a read that goes on is then broken off, and what a signal does
not reach (a file system whose server does not answer waits for the end of the process only, see
fuse(4)) ends with the process. What was written up to then is whole and stays.

A thread of its own takes the signals: the kernel would hand them to the main thread, which does not
see them before its read returns (signal(7)).
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
BREAK_OFF_AFTER_S = 0.5
EXIT_AFTER_S = 0.85
LOOK_EVERY_S = 0.05
BREAK_OFF = signal.SIGALRM


class BrokenOff(BaseException):
    """What was being read is given up; as KeyboardInterrupt, no reader may take it for its own."""


class Ending:
    """What is to happen when a signal comes.

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

    def wait_for_signal(self) -> None:
        """Wait for the first signal and see to it that the capture ends; runs in its thread."""
        signal.sigwait(END_SIGNALS)
        if self._done.is_set():
            return
        began_s = time.monotonic()
        if self._stop:
            self._stop()
            self._done.wait(BREAK_OFF_AFTER_S)
        signal.pthread_kill(threading.main_thread().ident or 0, BREAK_OFF)
        while not self._done.wait(LOOK_EVERY_S):
            # what is being written may take longer
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

    def finish(self, thread: threading.Thread) -> None:
        """Take no more signals."""
        self._done.set()
        if thread.is_alive():
            signal.pthread_kill(thread.ident or 0, END_SIGNALS[0])
        thread.join()

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
    before = signal.signal(BREAK_OFF, ending.break_off)
    mask = signal.pthread_sigmask(signal.SIG_BLOCK, END_SIGNALS)
    thread = threading.Thread(target=ending.wait_for_signal, daemon=True)
    thread.start()
    try:
        yield ending
    finally:
        ending.finish(thread)
        signal.pthread_sigmask(signal.SIG_SETMASK, mask)
        signal.signal(BREAK_OFF, before)
