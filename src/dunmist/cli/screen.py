"""The screen of the recorder: the computer live, for who stands in front of it.

Drawn by curses, which sends only what changed and gives the terminal back as it was. Things keep
their place: the sentence, the resources with their last minutes, every CPU, the applications.
Keys are read by a thread of their own, so that they answer at once; a lock keeps drawing to one.
"""

import curses
import os
import select
import sys
import threading
from collections.abc import Callable, Iterable
from contextlib import suppress
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from dunmist.captures import Header
from dunmist.cli.incident_lines import Telling, line_of
from dunmist.cli.parameters import wants_colours
from dunmist.harmless import cut_middle, harmless
from dunmist.jobs import watch as job
from dunmist.jobs.settings import thresholds_path
from dunmist.recorder import Gauge, Kept, Known, LiveApplication, Mark, Now, TickTime
from dunmist.remote.transport import Transport
from dunmist.sampling import Record
from dunmist.sparklines import curve_text
from dunmist.thresholds import load_thresholds

if TYPE_CHECKING:
    from curses import window as Window

# the standard size of a terminal
LEAST_LINES, LEAST_COLUMNS = 24, 80
LABEL, WORD = 8, 9
NAME_MOST = 34
MIB = float(1 << 20)
# a key is answered within this, also while nothing is drawn
LOOK_S = 0.5
KEYS = "1 CPU  2 memory  3 disk  4 network  5 heat   space hold   ↑↓ ⏎ open   k mark   q end"
BACK = "esc or ⏎ back   k mark   q end"
# what to sort by: heading, and the figure
ORDERS: dict[str, tuple[str, Callable[[LiveApplication], float]]] = {
    "1": ("CPU", lambda app: app.cores),
    "2": ("memory", lambda app: app.memory_bytes),
    "3": ("disk", lambda app: app.disk_bytes_per_s),
    "4": ("network", lambda app: app.network_bytes_per_s),
    "5": ("heat so far", lambda app: app.cpu_s),
}
# of the 256 colours, those of reports/styles.py, which loads too much for a recorder
COLOURS = {"calm": 0, "busy": 33, "strained": 166, "choked": 196, "unknown": 0}
# for a terminal with eight
FEW_COLOURS = {33: curses.COLOR_CYAN, 166: curses.COLOR_YELLOW, 196: curses.COLOR_RED, 0: 0}
MANY = 256
LIMITS = ("strained", "choked")
# the code that curses gives for the Escape key
ESCAPE = 27


class _View(NamedTuple):
    """What is looked at: the order, the row that is chosen, what is open, whether it stands."""

    order: str = "1"
    chosen: int = 0
    opened: int | None = None
    holds: bool = False


class Screen:
    """Draws at each tick and at each key."""

    def __init__(self, window: "Window", tell: Telling) -> None:
        self._window = window
        self._tell = tell
        self._lock = threading.Lock()
        self._over = threading.Event()
        self._stop: Callable[[], None] = lambda: None
        self._view = _View()
        self._now: Now | None = None
        self._host = ""
        self._watched: job.Watched | None = None
        self._last: Kept | None = None
        self._shown: list[int] = []
        self._colours: dict[str, int] = {}
        self._thread = threading.Thread(target=self._read_keys, daemon=True)
        self._prepare()

    def _prepare(self) -> None:
        with suppress(curses.error):
            curses.curs_set(0)
        self._window.nodelay(True)
        self._window.keypad(True)
        if curses.has_colors() and wants_colours():
            curses.use_default_colors()
            for number, (word, colour) in enumerate(COLOURS.items(), start=1):
                shown = colour if curses.COLORS >= MANY else FEW_COLOURS[colour]
                curses.init_pair(number, shown or -1, -1)
                self._colours[word] = curses.color_pair(number)

    def begin(self, stop: Callable[[], None], header: Header, known: Callable[[], Known]) -> None:
        """Take keys from now on; ``stop`` ends the recording."""
        self._stop, self._host = stop, header.machine.host or "this computer"
        self._now = Now(header, known, load_thresholds(thresholds_path()))
        self._thread.start()

    def end(self) -> None:
        """Take no more keys."""
        self._over.set()
        if self._thread.ident is not None:
            self._thread.join()

    def look(self, record: Record, watched: job.Watched | None) -> None:
        """Take one record, and draw at a tick."""
        with self._lock:
            assert self._now is not None  # it began
            self._now.add(record, watched.interval if watched else None)
            if watched is not None:
                self._watched = watched
                if not self._view.holds:
                    self._draw()

    def told(self, kept: Kept) -> None:
        """Take an incident once it was judged."""
        self._last = kept
        self._tell(kept)

    def _read_keys(self) -> None:
        while not self._over.is_set():
            if not select.select([sys.stdin], [], [], LOOK_S)[0]:
                continue
            with self._lock:
                while (key := self._window.getch()) != -1:
                    self._press(key)
                self._draw()

    def _press(self, key: int) -> None:
        view, rows = self._view, len(self._shown)
        word = chr(key) if 0 < key < 256 else ""
        if word in ORDERS:
            self._view = view._replace(order=word, chosen=0)
        elif word == " ":
            self._view = view._replace(holds=not view.holds)
        elif word == "q":
            self._stop()
        elif word == "k" and self._watched is not None:
            moment = TickTime(self._watched.tick.at_s, datetime.now().astimezone())
            self._watched.incidents.mark(moment, Mark("marked on the screen", os.getuid()))
        elif key == curses.KEY_UP:
            self._view = view._replace(chosen=max(0, view.chosen - 1))
        elif key == curses.KEY_DOWN:
            self._view = view._replace(chosen=min(max(0, rows - 1), view.chosen + 1))
        elif key in (curses.KEY_ENTER, ord("\n"), ord("\r")):
            chosen = self._shown[view.chosen] if view.chosen < rows else None
            self._view = view._replace(opened=None if view.opened is not None else chosen)
        elif key == ESCAPE:
            self._view = view._replace(opened=None)

    def _draw(self) -> None:
        lines, columns = self._window.getmaxyx()
        self._window.erase()
        if lines < LEAST_LINES or columns < LEAST_COLUMNS:
            self._put(0, 0, f"the window is too small: {LEAST_COLUMNS} by {LEAST_LINES}, please")
        elif self._now is None or not self._now.cpus:
            self._put(0, 0, "recording; the first figures come with the second tick")
        else:
            self._draw_all(self._now, lines, columns)
        self._window.refresh()

    def _draw_all(self, now: Now, lines: int, columns: int) -> None:
        self._draw_head(columns)
        row = 3
        for gauge in now.gauges.values():
            self._draw_gauge(row, gauge, now, columns)
            row += 1
        row = self._draw_processors(row + 1, now, columns) + 1
        opened = now.applications.get(self._view.opened) if self._view.opened is not None else None
        if opened is not None:
            self._draw_one(row, opened, lines, columns)
        else:
            self._draw_applications(row, now, lines, columns)
        self._put(lines - 1, 0, BACK if opened is not None else KEYS, curses.A_DIM)

    def _draw_head(self, columns: int) -> None:
        watched = self._watched
        assert watched is not None  # there are figures
        state = "held still; space goes on" if self._view.holds else "recording"
        if watched.trouble:
            state = "not recording: no room or no right to write"
        head = f"{self._host}  {datetime.now():%H:%M:%S}  {state}"
        self._put(0, 0, cut_middle(harmless(head), columns - 1), curses.A_BOLD)
        self._put(1, 0, cut_middle(harmless(self._sentence(watched)), columns - 1))

    def _sentence(self, watched: job.Watched) -> str:
        holding = watched.incidents.holding
        if holding:
            told = ", ".join(holding)
            return f"Just now: {told}. It is being kept."
        if self._last is not None:
            return f"Last incident:{self._last.number}  {line_of(self._last)}"
        return "Nothing has been strained since the recorder began."

    def _draw_gauge(self, row: int, gauge: Gauge, now: Now, columns: int) -> None:
        used = gauge.used[-1] if gauge.used else None
        held = gauge.held[-1] if gauge.held else None
        figure = "unknown" if used is None else f"{100 * used:3.0f} % used"
        if gauge.name == "heat":
            figure = "unknown" if now.celsius is None else f"{now.celsius:3.0f} °C"
            figure += f", {now.clock_hz / 1e9:.2f} GHz" if now.clock_hz else ""
        elif held is not None:
            figure += f", {100 * held:3.0f} % waiting"
        figure += f"  {gauge.text}" if gauge.text else ""
        word = gauge.level or "unknown"
        look = self._colours.get(word, 0)
        self._put(row, 0, f"{gauge.name:<{LABEL}}")
        bold = curses.A_BOLD if word in LIMITS else 0
        self._put(row, LABEL, f"{word:<{WORD}}", look | bold)
        self._put(row, LABEL + WORD, figure[:30])
        room = columns - LABEL - WORD - 31
        self._put(row, LABEL + WORD + 31, _strip(gauge.used, room, 1.0), look)

    def _draw_processors(self, row: int, now: Now, columns: int) -> int:
        self._put(row, 0, f"{'each':<{LABEL}}")
        marks = curve_text(now.cpus, 1.0)
        room = columns - LABEL - 1
        for start in range(0, len(marks), room):
            self._put(row, LABEL, f"{marks[start : start + room]}")
            row += 1
        full = sum(share > 0.95 for share in now.cpus)
        note = f" {len(marks)} CPUs, {full} full"
        if len(marks) + len(note) < room:
            self._put(row - 1, LABEL + len(marks), note, curses.A_DIM)
        return row

    def _draw_applications(self, row: int, now: Now, lines: int, columns: int) -> None:
        heading, figure = ORDERS[self._view.order]
        name = min(NAME_MOST, columns - 66)
        head = f"{'application':<{name}} {'cores':>6} {'memory':>9} {'disk':>11} {'network':>11}"
        self._put(row, 0, f"{head}  by {heading}", curses.A_UNDERLINE)
        ranked = sorted(now.applications.items(), key=lambda pair: -figure(pair[1]))
        ranked = ranked[: lines - row - 2]
        self._shown = [number for number, _ in ranked]
        chosen = min(self._view.chosen, max(0, len(ranked) - 1))
        for place, (_, app) in enumerate(ranked):
            text = (
                f"{cut_middle(harmless(app.name), name):<{name}} {app.cores:6.2f} "
                f"{app.memory_bytes / MIB:5.0f} MiB {app.disk_bytes_per_s / MIB:5.1f} MiB/s "
                f"{app.network_bytes_per_s / MIB:5.1f} MiB/s  "
            )
            room = columns - len(text) - 1
            text += _strip(app.history, room, max(1.0, *app.history) if app.history else 1.0)
            self._put(row + 1 + place, 0, text, curses.A_REVERSE if place == chosen else 0)

    def _draw_one(self, row: int, application: LiveApplication, lines: int, columns: int) -> None:
        """Draw the processes of one application: state, owner, ports, unit, what they wait in."""
        summed = (
            f"{application.name}: {len(application.processes)} processes, "
            f"{application.cores:.2f} cores, {application.memory_bytes / MIB:.0f} MiB"
        )
        self._put(row, 0, cut_middle(harmless(summed), columns - 1), curses.A_BOLD)
        head = f"{'process':>8} {'owner':<12} state {'cores':>6} {'memory':>9}  waits in, ports"
        self._put(row + 1, 0, head, curses.A_UNDERLINE)
        ranked = sorted(application.processes, key=lambda part: -part.cores)[: lines - row - 3]
        for place, part in enumerate(ranked):
            ports = f"port {', '.join(map(str, part.ports))}" if part.ports else ""
            about = "  ".join(filter(None, (part.waits_in, ports, part.unit)))
            text = (
                f"{part.pid:>8} {part.user[:12]:<12} {part.state:<5} {part.cores:6.2f} "
                f"{part.memory_bytes / MIB:5.0f} MiB  {about}"
            )
            self._put(row + 2 + place, 0, cut_middle(harmless(text), columns - 1))

    def _put(self, row: int, column: int, text: str, look: int = 0) -> None:
        # the last place of a window cannot be written, and a window may have become smaller
        with suppress(curses.error):
            self._window.addstr(row, column, text, look)


def _strip(values: Iterable[float | None], room: int, most: float) -> str:
    """Return the last values that fit, the newest at the right."""
    kept = list(values)[-room:] if room > 0 else []
    return curve_text(kept, most).rjust(max(0, room))


def with_screen(
    wanted: job.RecorderOptions, tell: Telling, target: Transport | None = None
) -> None:
    """Record with a screen until told to end, and give the terminal back."""

    def run(window: "Window") -> None:
        screen = Screen(window, tell)
        try:
            job.watch(wanted, screen, target)
        finally:
            screen.end()

    # an escape is answered at once
    curses.set_escdelay(25)
    curses.wrapper(run)
