"""Small screens over the desk: the keys, and what a command said."""

from typing import ClassVar

from rich.text import Text
from textual import on
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Input, Static

EXAMPLES = (
    "slow, freezes, stutters, hot, noisy, battery, network, memory, disk, start, crash, security"
)
KEYS = (
    ("← →", "page before, next page"),
    ("↑ ↓", "row; the chosen one stays chosen wherever it goes"),
    ("Enter", "open the program: what it is, does and waits for, and its steps"),
    ("s  S", "sort by the next column; turn the order round. A click on a heading does both"),
    ("/", "only rows with these words; Escape takes them away"),
    ("c  t", "all columns; the next table of the page"),
    ("space", "hold everything still, go on"),
    ("v", "open the first culprit of the verdict"),
    ("m", "try it now: mark, start the suspect, and at the second m see what rose"),
    ("w", "say what is complained of; the verdict answers it"),
    ("j", "judge at once"),
    ("+  -", "sample faster, slower (0.2 s to 10 s)"),
    (",  .", "of a file: half a minute back, forward"),
    ("z", "undo the last act"),
    ("r", "write the report into the folder of the visit"),
    ("q", "end; a line for the ticket is printed"),
)


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


class Told(Short):
    """What a command said."""

    def __init__(self, title: str, text: str) -> None:
        super().__init__(title, Text(text or "done"))


class Help(Short):
    """The keys."""

    def __init__(self) -> None:
        text = Text("\n").join(Text(f"{keys:<8}{meaning}") for keys, meaning in KEYS)
        super().__init__("keys", text)
