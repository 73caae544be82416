"""The screen itself: head, pages, and the keys.

Keys are those that several programs share: arrows, Enter, Escape, slash, space, question mark.
Figures come from the capture (``follow``) and from children that judge (``visit``).
"""

import subprocess
import time
from collections.abc import Iterable
from functools import partial
from typing import ClassVar

import msgspec
from rich.text import Text
from textual import on, work
from textual.app import App, ComposeResult, SystemCommand
from textual.binding import Binding, BindingType
from textual.screen import Screen
from textual.widgets import Footer, Static

from dunmist.desk.follow import Follower
from dunmist.desk.head import answer_text, gauges_text, state_text
from dunmist.desk.judgement import PAGES, Judgement, PageTable
from dunmist.desk.open_one import OpenOne, Subject, harmless_lines
from dunmist.desk.page_rows import live_table
from dunmist.desk.pages import LIVE, Pages
from dunmist.desk.short_screens import Ask, Help, Notice
from dunmist.desk.trial import Trial, begin_trial, trial_lines
from dunmist.desk.visit import WINDOW_S, Visit, read_judgement
from dunmist.errors import UnreadableComputer
from dunmist.harmless import harmless
from dunmist.recorder import Now
from dunmist.thresholds import Thresholds

# a key is answered at once; new samples are shown this often
REFRESH_S = 0.25
# judging takes so much of one CPU at most, but for the first verdicts, and comes no more often than
# this
JUDGE_SHARE, JUDGE_SPARED_S, JUDGE_LEAST_S, JUDGE_FIRST_S = 0.03, 3.0, 5.0, 4.5
PACES_S = (0.2, 0.5, 1.0, 2.0, 5.0, 10.0)
# rows that move more often cannot be read, and drawing them is what costs most
ROWS_S = 2.3
# at both sides of the head
PADDING = 2
# pages whose rows are applications
WHOLE = ("now", "applications")
SLOW = "keys are slow while every CPU is full: as administrator they would not be"
# how far a key moves through the time of a file
STEP_S = 30.0


class Answer(Static, can_focus=True):
    """The verdict; Enter or a click opens its first culprit."""

    BINDINGS: ClassVar[list[BindingType]] = [Binding("enter", "app.culprit", "culprit")]

    async def on_click(self) -> None:
        """Open the culprit."""
        await self.run_action("app.culprit")


class DeskApp(App[str]):
    """One visit on one screen; it returns the line for the ticket."""

    CSS_PATH = "desk.tcss"
    TITLE = "dunmist desk"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("space", "hold", "hold", key_display="space", priority=False),
        Binding("w", "ask", show=False),
        Binding("v", "culprit", "culprit"),
        Binding("m", "try", "try it", show=False),
        Binding("k", "mark", "mark for the recorder", show=False),
        Binding("j", "judge", "judge now", show=False),
        Binding("plus", "pace(-1)", "faster", key_display="+", show=False),
        Binding("minus", "pace(1)", "slower", key_display="-", show=False),
        Binding("comma", "move(-1)", show=False),
        Binding("full_stop", "move(1)", show=False),
        Binding("z", "undo", show=False),
        Binding("r", "report", "report"),
        Binding("question_mark", "help", "help", key_display="?"),
        Binding("q", "end", "end"),
        Binding("ctrl+z", "suspend_process", show=False),
    ]

    def __init__(self, visit: Visit, limits: Thresholds) -> None:
        super().__init__()
        self.visit = visit
        self._limits = limits
        self._until_s: float | None = None
        self._judgement: Judgement | None = None
        self._judged_at = 0.0
        self._is_judging = False
        # the first verdict is waited for; later ones come when a CPU is free
        self._is_awaited = True
        self._judge_next_s = 0.0
        self._judged_cpu_s = 0.0
        self._screens = 1
        self._trial: Trial | None = None
        self._texts: dict[str, Text] = {}
        self._holds = False
        self._seen_ticks = -1
        self._rows_next_s = 0.0
        self._trouble = self._unjudged = ""
        self.never_begun: UnreadableComputer | None = None
        self.acts: list[str] = []
        self.pages = Pages(self._tables)
        self._follower = self._follow()

    def _follow(self, before: Now | None = None) -> Follower:
        return Follower(
            self.visit.path, self._limits, lambda: self.visit.is_sampling, self._until_s, before
        )

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Whether a key means something: the keys of the desk do not, over another screen."""
        del parameters
        is_own = f"action_{action}" in vars(type(self))
        return len(self.screen_stack) == 1 or not is_own

    def compose(self) -> ComposeResult:
        """Lay the screen out: the question and its answer on top, then who, then what to do."""
        yield Static(id="state")
        yield Answer(id="answer")
        yield Static(id="gauges")
        yield self.pages
        yield Footer(compact=True, show_command_palette=False)

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Yield the entries of the command palette: every action of a key."""
        del screen
        pages = self.pages
        for title, meaning, act in (
            ("open the culprit", "what the answer is about, with its steps", self.action_culprit),
            ("hold still", "or go on", self.action_hold),
            ("complaint", "say what is complained of", self.action_ask),
            ("filter", "only rows with these words", pages.action_filter),
            ("sort", "by the next column", pages.action_sort),
            ("columns", "choose the columns", pages.action_columns),
            ("unfold", "an application into its processes", pages.action_unfold),
            ("owner", "only what belongs to the owner of the chosen row", pages.action_owner),
            ("units", "exact figures, or as people write them", pages.action_units),
            ("next table", "of the page", pages.action_table),
            ("judge now", "without waiting", self.action_judge),
            ("faster", "sample more often", partial(self.action_pace, -1)),
            ("slower", "sample less often", partial(self.action_pace, 1)),
            ("try it now", "mark this time; again: what rose since", self.action_try),
            ("undo", "the last act", self.action_undo),
            ("report", "write it into the folder of the visit", self.action_report),
            ("help", "all keys", self.action_help),
            ("end", "with a line for the ticket", self.action_end),
        ):
            yield SystemCommand(title, meaning, act)

    def on_mount(self) -> None:
        """Start the refresh of the view."""
        self.theme = "ansi-dark"
        self.set_interval(REFRESH_S, self.refresh_view)
        self.refresh_view()
        if self.visit.asks_first:
            self.action_ask()

    @property
    def desk(self) -> Screen[object]:
        """The screen below all others."""
        return self.screen_stack[0]

    def refresh_view(self) -> None:
        """Show what is new, and have it judged where that is due."""
        if len(self.screen_stack) != self._screens:
            self._screens = len(self.screen_stack)
            self.refresh_bindings()
        now, at_s = self._follower.latest()
        if now is None and self._has_never_begun():
            return
        if self._follower.is_over and self.visit.newest() != self.visit.path:
            # a recorder goes on in its next segment; what was judged stays until that is judged
            self.visit.path, self._seen_ticks, self._judged_at = self.visit.newest(), -1, 0.0
            self._follower = self._follow(now)
        if self.visit.ended_by_full_disk():
            self._follower.stop()
            self.visit.go_on_unkept()
            self._restart_follower()
        self._trouble = self._follower.trouble or self.visit.trouble() or self._unjudged
        if not self._trouble and now is not None and self._is_slow(now):
            self._trouble = SLOW
        self._judge_where_due(at_s)
        if self._holds or isinstance(self.screen, OpenOne):
            return
        host = self._judgement.host if self._judgement else ""
        state = state_text(self.visit, self._follower.header, host, at_s, self._trouble)
        self._show("#state", state)
        width = self.size.width - PADDING
        age_s = max(0.0, at_s - self._judged_at)
        self._show("#answer", answer_text(self._judgement, age_s, width))
        if self._follower.ticks != self._seen_ticks:
            self._seen_ticks = self._follower.ticks
            self._show("#gauges", gauges_text(now, width))
            if self.pages.page == LIVE and time.monotonic() >= self._rows_next_s:
                self._rows_next_s = time.monotonic() + ROWS_S
                self.pages.show()

    def _has_never_begun(self) -> bool:
        """Whether sampling ended before it had begun; the screen gives way to the reason."""
        if self.never_begun is None and self._follower.is_over:
            try:
                self.visit.raise_if_never_begun()
            except UnreadableComputer as error:
                self.never_begun = error
                self.exit()
        return self.never_begun is not None

    def _is_slow(self, now: Now) -> bool:
        """Whether every CPU is full and this process is one of many that want it."""
        return not self.visit.raised_by and now.gauges["cpu"].level == "choked"

    def _show(self, selector: str, text: Text) -> None:
        """Show a text where it is another one: what stands still costs nothing.

        The layout changes only if its height does.
        """
        before = self._texts.get(selector)
        if before != text:
            self._texts[selector] = text
            width = max(1, self.size.width - PADDING)
            is_higher = before is None or _height(before, width) != _height(text, width)
            self.desk.query_one(selector, Static).update(text, layout=is_higher)

    def _judge_where_due(self, at_s: float) -> None:
        is_file_read = not self.visit.options.is_live and self._follower.is_over
        if self._is_judging or (at_s < JUDGE_FIRST_S and not is_file_read):
            return
        if not self.visit.options.is_live and self._judgement is not None:
            return
        if not self.visit.options.is_live and not is_file_read:
            return
        if time.monotonic() >= self._judge_next_s:
            self._is_judging = True
            since_s = max(0.0, at_s - WINDOW_S) if self.visit.options.is_live else 0.0
            if self._until_s is not None:
                since_s = max(0.0, self._until_s - WINDOW_S)
            self.judge(since_s, at_s, is_idle=not self._is_awaited)

    @work(thread=True, exclusive=False)
    def judge(self, since_s: float, at_s: float, *, is_idle: bool) -> None:
        """Have a child judge a window, and wait for it while the screen goes on."""
        child = self.visit.judge(since_s, self._until_s, is_idle=is_idle)
        answer, said = child.communicate()
        self.call_from_thread(self.judged, answer, said, at_s)

    def judged(self, answer: bytes, said: bytes, at_s: float) -> None:
        """Take the answer of a judging child."""
        self._is_judging = False
        try:
            judgement = read_judgement(answer)
        except msgspec.DecodeError:
            lines = said.decode("utf-8", "replace").strip().splitlines()
            self._unjudged = f"not judged: {lines[-1] if lines else 'no answer'}"
            self._judge_next_s = time.monotonic() + JUDGE_LEAST_S
            return
        self._judgement, self._judged_at, self._unjudged = judgement, at_s, ""
        self._is_awaited = False
        self._judged_cpu_s += judgement.cpu_s
        due_s = (self._judged_cpu_s + judgement.cpu_s - JUDGE_SPARED_S) / JUDGE_SHARE
        self._judge_next_s = time.monotonic() + max(JUDGE_LEAST_S, due_s - at_s)
        self.pages.limiting, self.pages.empty = judgement.limiting, "nothing of this was published"
        if not self._holds:
            self.pages.show()
            self.refresh_view()

    def _tables(self, page: int) -> list[PageTable]:
        """Return the tables of a page."""
        if page == LIVE:
            now, _ = self._follower.latest()
            return [live_table(now)] if now else []
        return self._judgement.pages[PAGES[page].title] if self._judgement else []

    def action_hold(self) -> None:
        """Hold everything still, or go on."""
        self._holds = not self._holds
        self._seen_ticks = -1
        self.pages.hold(is_held=self._holds)

    @on(Pages.Opened)
    def opened(self, event: Pages.Opened) -> None:
        """Open a row: what it is, does and waits for, or its evidence; and its steps."""
        row = event.row
        if row.pid is None and row.name is None:
            return
        subject = Subject(
            row.pid,
            row.name or "",
            named=row.named,
            lines=tuple(row.lines),
            is_whole=PAGES[self.pages.page].title in WHOLE,
        )
        if row.finding is not None and self._judgement is not None:
            subject = Subject(None, row.name or "", self._judgement.findings[row.finding])
        self.push_screen(OpenOne(self.visit, subject, self.acts))

    def action_ask(self) -> None:
        """Ask what is complained of, which the next verdict answers."""

        def said(note: str | None) -> None:
            if note and note != self.visit.note:
                self.visit.note = note
                self.action_judge()

        self.push_screen(Ask(self.visit.note), said)

    def action_culprit(self) -> None:
        """Open what the answer is about: its first culprit, or the finding it begins with."""
        judgement = self._judgement
        if judgement is None:
            return
        suspects, findings = judgement.suspects, judgement.findings
        index = judgement.worst_finding
        if index is None and suspects:
            subject = Subject(suspects[0].pid, suspects[0].name, is_whole=True)
        elif findings:
            worst = findings[index or 0]
            subject = Subject(None, worst.kind.replace("-", " "), worst)
        else:
            self.bell()
            return
        self.push_screen(OpenOne(self.visit, subject, self.acts))

    def action_try(self) -> None:
        """Mark this time; at the second time say what rose since then."""
        now, at_s = self._follower.latest()
        if now is None:
            return
        if self._trial is None:
            self._trial = begin_trial(now, self._follower.ticks, at_s)
            text = "Start the suspect by hand now. Press m again to see what rose since this mark."
        else:
            lines = trial_lines(self._trial, now, self._follower.ticks, at_s)
            text = f"since the mark, {at_s - self._trial.at_s:.0f} s ago:\n" + "\n".join(lines)
            self._trial = None
        self.push_screen(Notice("try it now", text))

    @work(thread=True)
    def action_mark(self) -> None:
        """Have the recorder keep what happens around this time."""
        child = self.visit.run("watch", "mark", self.visit.note or "marked on the screen")
        self.call_from_thread(self._notify_person, "mark", _answer_of(child))

    def action_judge(self) -> None:
        """Judge at once."""
        self._judge_next_s, self._is_awaited = 0.0, True
        if not self.visit.options.is_live:
            self._judgement = None

    def action_pace(self, step: int) -> None:
        """Sample faster or slower."""
        if not self.visit.has_pace:
            return
        nearest = min(PACES_S, key=lambda pace_s: abs(pace_s - self.visit.every_s))
        index = min(max(PACES_S.index(nearest) + step, 0), len(PACES_S) - 1)
        self._follower.stop()
        self.visit.change_pace(PACES_S[index])
        self._restart_follower()

    def action_move(self, step: int) -> None:
        """Move through the time of a file."""
        if self.visit.options.is_live:
            return
        _, at_s = self._follower.latest()
        self._follower.stop()
        self._until_s = max(STEP_S, at_s + step * STEP_S)
        self._restart_follower()

    def _restart_follower(self) -> None:
        self._trial = None
        self._follower = self._follow()
        self._judgement, self._seen_ticks, self._is_awaited = None, -1, True
        self._judge_next_s = 0.0

    @work(thread=True)
    def action_undo(self) -> None:
        """Undo the last act."""
        child = self.visit.run("fix", "undo")
        said = _answer_of(child)
        if child.returncode == 0:
            self.acts.append("undo")
            self.visit.keep_acts()
        self.call_from_thread(self._notify_person, "undo", said)

    @work(thread=True)
    def action_report(self) -> None:
        """Write the report as a page and as a document."""
        lines, capture = [], self.visit.for_report()
        for form in ("html", "pdf"):
            path = str(self.visit.kept(f"report.{form}"))
            words = ["report", str(capture), "-o", path, "--force"]
            for complaint in self._judgement.complaints if self._judgement else ():
                words += ["--complaint", complaint]
            said = _answer_of(self.visit.run(*words))
            lines.append(said or f"wrote {path}")
        self.call_from_thread(self._notify_person, "report", "\n".join(lines))

    def _notify_person(self, title: str, text: str) -> None:
        self.push_screen(Notice(title, text))

    def action_help(self) -> None:
        """Show the keys."""
        self.push_screen(Help())

    def action_end(self) -> None:
        """End the visit and give the line for the ticket."""
        self._follower.stop()
        self.visit.end_judging()
        judgement = self._judgement
        line = "nothing was judged"
        if judgement is not None:
            said = f'"{harmless(self.visit.note)}": ' if self.visit.note else ""
            sure = f"{100 * judgement.confidence:.0f} %"
            line = f"{judgement.host}: {said}{judgement.level}. {judgement.headline} (sure {sure})"
        if self.acts:
            line += f" Done: {'; '.join(self.acts)}."
        self.visit.keep_line(line)
        self.visit.keep_acts()
        self.exit(line)


def _height(text: Text, width: int) -> int:
    return sum(-(-max(1, len(line)) // width) for line in text.plain.split("\n"))


def _answer_of(child: "subprocess.Popen[bytes]") -> str:
    said, _ = child.communicate()
    return harmless_lines(said.decode("utf-8", "replace").strip())
