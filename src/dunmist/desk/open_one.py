"""One program of the desk: everything known of it, and its steps, which can be carried out.

What is shown is what ``view process`` says of the same capture, and a step is ``fix do`` with its
guards, its journal and its measured effect.
"""

import re
from typing import Any, ClassVar, NamedTuple

import msgspec
from rich.text import Text
from textual import on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import VerticalScroll
from textual.screen import ModalScreen, Screen
from textual.widgets import Footer, OptionList, Static
from textual.widgets.option_list import Option

from dunmist.desk.judgement import REFUSED_NOW, ShownFinding, ShownStep
from dunmist.desk.short_screens import box_columns
from dunmist.desk.visit import Visit, shown_command
from dunmist.harmless import harmless

STYLE = re.compile(r"\x1b\[[0-9;]*m")
FOR_A_PERSON = "it is for a person to do"
# how the lines begin that say what came of an act
OUTCOMES = ("act ", "better", "worse", "no clear change", "dunmist:")
RISK_STYLES = {"none": "", "reversible": "", "disruptive": "bold color(166)"}


class Subject(NamedTuple):
    """A process by its number, a program by its name, a finding, or what has no process.

    ``is_whole`` means the application that has the process. ``named`` is a service, a timer or a
    login entry; ``lines`` is what is known of it.
    """

    pid: int | None
    name: str
    finding: ShownFinding | None = None
    named: str | None = None
    lines: tuple[str, ...] = ()
    is_whole: bool = False

    @property
    def word(self) -> str:
        """Argument of ``view process``."""
        if self.pid is None:
            return self.name
        return f"application:{self.pid}" if self.is_whole else str(self.pid)


class KnownFacts(msgspec.Struct, frozen=True):
    """Of the facts of ``view process --json``: the target of steps."""

    pid: int | None = None


class Known(msgspec.Struct, frozen=True):
    """Fields that are taken from ``view process --json``."""

    facts: KnownFacts = KnownFacts()
    steps: list[ShownStep] = []


class OpenOne(Screen[None]):
    """The page of one program with its steps."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,q", "back", "back"),
        Binding("tab", "app.focus_next", "steps or text"),
        Binding("p", "prove", "prove it"),
        Binding("z", "undo", "undo the last act"),
    ]

    def __init__(self, visit: Visit, subject: Subject, acts: list[str]) -> None:
        super().__init__()
        self._visit, self._subject, self._acts = visit, subject, acts
        self._steps: list[ShownStep] = []
        # the target of steps: without it that would be the first culprit
        self._pid = subject.pid

    def compose(self) -> ComposeResult:
        """Lay the page out: the text, the steps below it."""
        yield Static(Text(f"{harmless(self._subject.name)}: being looked at", "bold"), id="title")
        with VerticalScroll(id="page"):
            yield Static(id="text")
        yield OptionList(id="steps")
        yield Footer(compact=True, show_command_palette=False)

    def on_mount(self) -> None:
        """Ask for the text and for the steps."""
        found = self._subject.finding
        if found is None:
            if self._subject.named is None:
                self.ask()
            else:
                self.ask_steps()
            return
        lines = [f"{found.severity}: {found.text}", "", *(f"- {text}" for text in found.evidence)]
        self.show_text("\n".join(lines), found.steps)

    @work(thread=True)
    def ask(self) -> None:
        """Have children say what is known."""
        words = ("view", "process", str(self._visit.path), self._subject.word)
        width = max(60, self.app.size.width - 4)
        text, status = self._said(*words, columns=width)
        answer, _ = self._said(*words, "--json", errors=False)
        self.app.call_from_thread(self.show_answer, text, answer, status)

    @work(thread=True)
    def ask_steps(self) -> None:
        """Have a child say which steps there are for what has no process."""
        answer, _ = self._said(*self._fix("show", None), "--json", errors=False)
        try:
            steps = msgspec.json.decode(answer, type=list[ShownStep])
        except msgspec.DecodeError:
            steps = []
        self.app.call_from_thread(self.show_text, "\n".join(self._subject.lines), steps)

    def _said(self, *words: str, columns: int = 100, errors: bool = True) -> tuple[str, int]:
        child = self._visit.run(*words, columns=columns, errors=errors)
        said, _ = child.communicate()
        return STYLE.sub("", said.decode("utf-8", "replace")), child.returncode

    def show_answer(self, text: str, answer: str, status: int) -> None:
        """Show what the children said."""
        # the steps have a place of their own
        text = text.partition("\nwhat to do, safest first")[0]
        try:
            known = msgspec.json.decode(answer, type=Known)
        except msgspec.DecodeError:
            known = Known()  # the text says why
        self._pid = self._subject.pid if self._subject.pid is not None else known.facts.pid
        self.show_text(text, known.steps if status == 0 else [])

    def show_text(self, text: str, given: list[ShownStep]) -> None:
        """Show a text, and the steps below it."""
        title = Text(harmless(self._subject.name), "bold", no_wrap=True)
        self.query_one("#title", Static).update(title)
        self.query_one("#text", Static).update(Text(text))
        steps = self.query_one("#steps", OptionList)
        self._steps = given
        for step in given:
            line = Text(f"{step.action:<20}")
            line.append(f"{step.risk:<12}", RISK_STYLES.get(step.risk, ""))
            line.append(harmless(step.text))
            line.no_wrap, line.overflow = True, "ellipsis"
            steps.add_option(Option(line))
        steps.highlighted = 0 if self._steps else None
        steps.focus()

    @on(OptionList.OptionSelected)
    def chosen(self, event: OptionList.OptionSelected) -> None:
        """Ask before a step is carried out."""
        step = self._steps[event.option_index]
        self.look_at(step.action)

    def _fix(self, verb: str, action: str | None) -> list[str]:
        words = ["fix", verb, str(self._visit.path), *([action] if action else [])]
        if self._subject.finding is not None:
            return [*words, "--finding", self._subject.finding.kind]
        if self._subject.named is not None:
            return [*words, "--named", self._subject.named]
        return [*words, "--pid", str(self._pid)]

    def _refusal(self) -> str | None:
        """Return why nothing can be carried out from here, None if it can."""
        found = self._subject.finding
        if not self._visit.options.can_act:
            return "another computer: type it there, or let somebody do it there"
        if found is not None and not found.is_only:
            return "several findings are of this kind; open the program that it is about"
        is_known = found is not None or self._subject.named is not None or self._pid is not None
        return None if is_known else "which process is meant is not known"

    @work(thread=True)
    def look_at(self, action: str) -> None:
        """Have a child say exactly what a step would do."""
        width = box_columns(self.app.size.width)
        said, status = self._said(*self._fix("show", action), columns=width)
        self.app.call_from_thread(self.ask_for, action, said, is_act=status == 0)

    def ask_for(self, action: str, said: str, *, is_act: bool) -> None:
        """Show the step, and carry it out where that is wanted."""
        reason = self._refusal()
        if reason is None and REFUSED_NOW in said:
            said, _, why = said.partition(REFUSED_NOW)
            reason = " ".join(why.split())
        if not is_act:
            # a step that only a person can do is shown as in the list
            said = next(step.text for step in self._steps if step.action == action)
            reason = reason or FOR_A_PERSON
        self.app.push_screen(Question(action, said, reason), self._answered(action))

    def _answered(self, action: str) -> Any:  # noqa: ANN401 - what Textual calls back
        def answered(agreed: bool | None) -> None:
            if agreed:
                words = self._fix("do", action)
                note = Text(f"doing it: {shown_command(words)}; measuring takes some seconds")
                self.query_one("#title", Static).update(note)
                self.act([*words, "--yes"], action)

        return answered

    @work(thread=True)
    def act(self, words: list[str], action: str) -> None:
        """Have a child carry a step out, and measure what it did."""
        said, status = self._said(*words)
        self.app.call_from_thread(self.acted, action, said, status)

    def acted(self, action: str, said: str, status: int) -> None:
        """Say what came of a step."""
        lines = [line for line in harmless_lines(said).splitlines() if line.strip()]
        outcomes = [line for line in lines if line.startswith(OUTCOMES)]
        if status == 0:
            self._acts.append(f"{action} {self._subject.name}")
            self._visit.keep_acts()
        result = "; ".join(outcomes) or (lines[-1] if lines else "done")
        style = "bold" if status == 0 else "bold color(196)"
        self.query_one("#title", Static).update(Text(harmless(result), style))
        self.query_one("#text", Static).update(Text(said))

    def action_prove(self) -> None:
        """Ask before the experiment."""
        said = (
            f"Pause {harmless(self._subject.name)} again and again in random order, for 40 s in "
            "all, and say whether the trouble follows. It goes on whatever happens."
        )
        words = self._fix("prove", None)

        def answered(agreed: bool | None) -> None:
            if agreed:
                self.query_one("#title", Static).update(Text("proving; it takes 40 s", "bold"))
                self.act([*words, "--yes"], "prove")

        self.app.push_screen(Question("prove", said, self._refusal()), answered)

    def action_undo(self) -> None:
        """Undo the last act."""
        self.act(["fix", "undo"], "undo")

    def action_back(self) -> None:
        """Go back to the desk."""
        self.dismiss()


class Question(ModalScreen[bool]):
    """Effect of a step, for the technician to confirm."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("y", "answer(True)", "do it"),
        Binding("n,escape,q", "answer(False)", "leave it"),
    ]

    def __init__(self, action: str, said: str, reason: str | None) -> None:
        super().__init__()
        self._action, self._said, self._reason = action, said, reason

    def compose(self) -> ComposeResult:
        """Show what would be done."""
        with VerticalScroll(id="box"):
            yield Static(Text(self._action, "bold"))
            yield Static(Text(harmless_lines(self._said)))
            if self._reason:
                yield Static(Text(f"It cannot be done from here: {self._reason}", "bold"))
                yield Static(Text("n: back", "dim"))
            else:
                yield Static(Text("y: do it    n: leave it", "bold"))

    def action_answer(self, agreed: bool) -> None:
        """Give the answer; nothing is agreed to that cannot be done."""
        self.dismiss(agreed and self._reason is None)


def harmless_lines(text: str) -> str:
    """Return several lines that may be shown on a terminal."""
    return "\n".join(harmless(line) for line in text.splitlines())
