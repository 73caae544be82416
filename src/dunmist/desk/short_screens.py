"""Small screens over the desk: the keys, and what a command said."""

from collections.abc import Sequence
from typing import ClassVar

from rich.text import Text
from textual import on
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Input, OptionList, Static

from dunmist.desk.judgement import PageColumn

# how much of the screen a box takes, and what its border, padding and scroll bar take of that
BOX_SHARE, BOX_MOST, BOX_EDGES = 0.8, 100, 9
EXAMPLES = (
    "slow, freezes, stutters, hot, noisy, battery, network, memory, disk, start, crash, security"
)
KEYS = (
    ("← →", "page before, next page"),
    ("↑ ↓", "row; the chosen one stays chosen wherever it goes"),
    ("Enter", "open the program: what it is, does and waits for, and its steps"),
    ("s  S", "sort by the next column; turn the order round. A click on a heading does both"),
    ("/", "only rows with these words; Escape takes them away"),
    ("c  t", "choose the columns; the next table of the page"),
    ("e", "unfold an application into its processes, fold it again"),
    ("o", "only what belongs to the owner of the chosen row; again: everybody's"),
    ("u", "exact figures in base units (bytes, seconds, shares), or as people write them"),
    ("space", "hold everything still, go on"),
    ("v", "open what the answer is about; so does a click on it, or Tab to it and Enter"),
    ("m", "try it now: mark, start the suspect, and at the second m see what rose"),
    ("w", "say what is complained of; the verdict answers it"),
    ("j", "judge at once"),
    ("+  -", "sample faster, slower (0.2 s to 10 s)"),
    (",  .", "of a file: half a minute back, forward"),
    ("z", "undo the last act"),
    ("r", "write the report into the folder of the visit"),
    ("Ctrl-P", "the same by name: type a word of what you want"),
    ("q", "end; a line for the ticket is printed"),
)


def box_columns(screen_columns: int) -> int:
    """Return the number of characters of a line that fit into a box."""
    return min(int(BOX_SHARE * screen_columns), BOX_MOST) - BOX_EDGES


class Short(ModalScreen[None]):
    """A text in a box; any of the usual keys closes it."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,enter,q,question_mark", "dismiss", "back")
    ]

    def __init__(self, title: str, text: Text) -> None:
        super().__init__()
        self._title, self._text = title, text

    def compose(self) -> ComposeResult:
        """Show the text."""
        with VerticalScroll(id="box"):
            yield Static(Text(self._title, "bold"))
            yield Static(self._text)
            yield Static(Text("Escape or Enter: back", "dim"))


class Ask(ModalScreen[str]):
    """Asks what is complained of; Enter alone skips it."""

    BINDINGS: ClassVar[list[BindingType]] = [Binding("escape", "skip", "skip")]
    AUTO_FOCUS = "Input"

    def __init__(self, note: str) -> None:
        super().__init__()
        self._note = note

    def compose(self) -> ComposeResult:
        """Show a line to type on."""
        with VerticalScroll(id="box"):
            yield Static(Text("What is complained of?", "bold"))
            yield Static(Text(EXAMPLES, "dim"))
            yield Input(self._note, placeholder="in their own words; Enter alone skips it")

    @on(Input.Submitted)
    def said(self, event: Input.Submitted) -> None:
        """Take what was typed."""
        event.stop()
        self.dismiss(event.value.strip())

    def action_skip(self) -> None:
        """Leave it as it is."""
        self.dismiss(self._note)


class ChooseColumns(ModalScreen[frozenset[str] | None]):
    """A list of columns, of which some are chosen."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("space", "turn", "show or hide it"),
        Binding("a", "every", "all or none"),
        Binding("escape,q", "leave", "back"),
    ]
    AUTO_FOCUS = "OptionList"

    def __init__(self, columns: Sequence[PageColumn], shown: frozenset[str]) -> None:
        super().__init__()
        self._columns, self._shown = columns, set(shown)

    def compose(self) -> ComposeResult:
        """Show each column with what it means."""
        with Vertical(id="box"):
            yield Static(Text("columns", "bold"))
            yield OptionList(*(self._line(column) for column in self._columns))
            yield Static(Text("space: one  a: all or none  Enter: show them  Escape: back", "dim"))

    def _line(self, column: PageColumn) -> Text:
        width = max(len(each.heading) for each in self._columns) + 2
        mark = "[x] " if column.name in self._shown else "[ ] "
        line = Text(f"{mark}{column.heading:<{width}}{column.meaning}")
        line.truncate(box_columns(self.app.size.width), overflow="ellipsis")
        return line

    def _mark(self, *indices: int) -> None:
        shown = self.query_one(OptionList)
        for index in indices:
            shown.replace_option_prompt_at_index(index, self._line(self._columns[index]))

    def action_turn(self) -> None:
        """Show a column, or hide it."""
        index = self.query_one(OptionList).highlighted
        if index is not None:
            self._shown ^= {self._columns[index].name}
            self._mark(index)

    def action_every(self) -> None:
        """Choose all, or none where all are chosen."""
        names = {column.name for column in self._columns}
        self._shown = set() if self._shown == names else names
        self._mark(*range(len(self._columns)))

    @on(OptionList.OptionSelected)
    def chosen(self) -> None:
        """Show those that are chosen."""
        self.dismiss(frozenset(self._shown))

    def action_leave(self) -> None:
        """Leave them as they are."""
        self.dismiss(None)


class Notice(Short):
    """Output of a command."""

    def __init__(self, title: str, text: str) -> None:
        super().__init__(title, Text(text or "done"))


class Help(Short):
    """The keys."""

    def __init__(self) -> None:
        text = Text("\n").join(Text(f"{keys:<9}{meaning}") for keys, meaning in KEYS)
        super().__init__("keys", text)
