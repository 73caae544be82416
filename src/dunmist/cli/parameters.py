"""Parameter types, options and words that several commands share.

Nothing heavy is imported here: help and completion need no more than this.
"""

import math
import os
import re
from collections.abc import Callable, Collection, Mapping
from datetime import datetime, time, timedelta
from difflib import get_close_matches
from pathlib import Path
from typing import Any

import click
from click.core import ParameterSource
from click.shell_completion import CompletionItem

_DURATION = re.compile(r"(\d{1,12}(?:\.\d{1,9})?|\.\d{1,9})\s*(ms|s|m|h)?\Z")
_UNIT_S = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, None: 1.0}
# faster ticks would cost more than they tell; slower ones miss what happens
EVERY_LEAST_S, EVERY_MOST_S = 0.1, 3600.0
# a longer time is the work of a recorder
FOR_MOST_S = 7 * 24 * 3600.0


class Duration(click.ParamType):  # type: ignore[type-arg]  # generic since click 8.4
    """A duration such as ``500ms``, ``30s``, ``5m``, ``1h`` or plain seconds."""

    name = "duration"

    def __init__(self, least_s: float, most_s: float) -> None:
        self._least_s, self._most_s = least_s, most_s

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """Return seconds; fails with the reason."""
        if isinstance(value, float):
            return value
        match = _DURATION.match(str(value).strip())
        if not match:
            self.fail(f"invalid duration '{value}'; use 500ms, 30s, 5m, 1h or seconds", param, ctx)
        seconds = float(match[1]) * _UNIT_S[match[2]]
        if not self._least_s <= seconds <= self._most_s or math.isnan(seconds):
            self.fail(
                f"'{value}' is out of range; it takes from {self._least_s:g} s "
                f"to {self._most_s:g} s",
                param,
                ctx,
            )
        return seconds


class PointInTimeType(click.ParamType):  # type: ignore[type-arg]  # generic since click 8.4
    """A time in a capture: how long after its beginning, or what the patient's clock said."""

    name = "time"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> float | time:
        """Return seconds or a time of day; fails with the reason."""
        if isinstance(value, float | time):
            return value
        text = str(value).strip()
        try:
            return time.fromisoformat(text) if ":" in text else self._after(text)
        except ValueError:
            self.fail(
                f"invalid time '{value}'; write how long after the beginning (90s, 5m) or a time "
                f"of the patient's clock (14:02)",
                param,
                ctx,
            )

    @staticmethod
    def _after(text: str) -> float:
        match = _DURATION.match(text)
        if not match:
            raise ValueError(text)
        return float(match[1]) * _UNIT_S[match[2]]


def wants_colours() -> bool:
    """Whether colours are wanted: NO_COLOR says that they are not, whatever its value."""
    return not os.environ.get("NO_COLOR")


def part_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that choose a part of a capture."""
    for name, meaning in (("--until", "up to"), ("--since", "from")):
        command = click.option(
            name,
            type=PointInTimeType(),
            metavar="TIME",
            help=f"Look at the capture {meaning} TIME only: 90s or 5m after its beginning, or "
            f"14:02 by the patient's clock.",
        )(command)
    return command


def normal_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the option that names captures of good times."""
    return click.option(
        "--normal",
        "normal",
        type=FILE,
        multiple=True,
        metavar="PLACE",
        help="A capture of good times, or a folder of them: say what is not as usual. Repeatable.",
    )(command)


def history_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the option that names a history."""
    return click.option(
        "--history",
        type=FILE,
        metavar="FILE",
        help="A history to judge it by; that of this computer needs no telling.",
    )(command)


# dunmist.advice.complaint_words has them; a test compares both
COMPLAINTS = (
    "slow",
    "freezes",
    "stutters",
    "hot",
    "noisy",
    "battery",
    "network",
    "memory",
    "disk",
    "start",
    "crash",
    "security",
)
PROGRAM = "program:"


class Complaint(click.ParamType):  # type: ignore[type-arg]  # generic since click 8.4
    """A complaint: a word, or ``program:NAME``."""

    name = "complaint"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> str:
        """Return the word; fails with the nearest right one."""
        word = str(value)
        if word.startswith(PROGRAM) and word.removeprefix(PROGRAM).strip():
            return word
        if word not in COMPLAINTS:
            near = get_close_matches(word, COMPLAINTS, n=1)
            hint = f"write '{near[0]}'" if near else f"choose from {', '.join(COMPLAINTS)}"
            self.fail(f"unknown complaint '{word}'; {hint} or program:NAME", param, ctx)
        return word

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        """Return the words that begin so."""
        del ctx, param
        return [
            CompletionItem(word) for word in (*COMPLAINTS, PROGRAM) if word.startswith(incomplete)
        ]


def complaint_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the option that says which question the verdict answers."""
    return click.option(
        "--complaint",
        "complaints",
        type=Complaint(),
        multiple=True,
        metavar="WORD",
        help="What somebody complained of; the verdict answers it first. Repeatable. Words: "
        f"{', '.join(COMPLAINTS)}, program:NAME.",
    )(command)


FILE = click.Path(path_type=Path, dir_okay=True)
# the newest capture of this user; a file of this name is ./last
LAST, INCIDENT = "last", "incident:"
# bytes of the magic number, RFC 1952
GZIP_BEGINNING = 2
SIZES = {"": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}
# one segment of the ring needs a MiB; a TiB is larger than any ring
SIZE_LEAST, SIZE_MOST = 1 << 20, 1 << 40


class CaptureFile(click.Path):
    """A capture: a file, ``last``, or what the flight recorder kept, as ``incident:3``."""

    def __init__(self) -> None:
        super().__init__(path_type=Path, dir_okay=True)

    def convert(
        self,
        value: Any,  # noqa: ANN401
        param: click.Parameter | None,
        ctx: click.Context | None,
    ) -> Any:  # noqa: ANN401
        """Return the path; fails where no such incident is kept, or no capture was written yet."""
        text = str(value)
        if text == LAST:
            from dunmist.jobs.last_capture import last_capture

            return last_capture()
        if not text.startswith(INCIDENT):
            path = super().convert(value, param, ctx)
            return _capture_of(Path(text)) or path
        from dunmist.jobs.incident_names import incident_file

        return incident_file(text.removeprefix(INCIDENT))


def _capture_of(path: Path) -> Path | None:
    """Return a capture made of a collector's file; None if it is none of its files."""
    if not path.is_file():
        return None  # a pipe can be read once only
    from dunmist.errors import CaptureError
    from dunmist.plain_files import open_plain

    try:
        with open_plain(path) as file:
            beginning = file.read(GZIP_BEGINNING)
    except (CaptureError, OSError):
        return None  # the reader reports it
    if not beginning.startswith((b"@", b"\x1f\x8b")):
        return None
    from dunmist.jobs.collector_files import capture_of_collected

    return capture_of_collected(path)


CAPTURE = CaptureFile()


class Instant(click.ParamType):  # type: ignore[type-arg]  # generic since click 8.4
    """A time by this computer's clock: ``14:02``, or a date with it.

    Without a date it is the last one that was; ``ahead``, the next one that will be.
    """

    name = "instant"

    def __init__(self, *, ahead: bool = False) -> None:
        self._ahead = ahead

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> datetime:
        """Return the time; fails with the reason."""
        if isinstance(value, datetime):
            return value
        text = str(value).strip()
        try:
            if "T" in text or "-" in text:
                return datetime.fromisoformat(text).astimezone()
            now = datetime.now().astimezone()
            point = datetime.combine(now.date(), time.fromisoformat(text)).astimezone()
        except ValueError:
            self.fail(f"invalid time '{value}'; write 14:02 or 2031-05-14T14:02", param, ctx)
        if self._ahead:
            return point if point > now else point + timedelta(days=1)
        return point if point <= now else point - timedelta(days=1)


class Size(click.ParamType):  # type: ignore[type-arg]  # generic since click 8.4
    """A number of bytes such as ``64MiB``."""

    name = "size"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> int:
        """Return bytes; fails with the reason."""
        if isinstance(value, int):
            return value
        match = re.fullmatch(r"(\d{1,12})\s*(KiB|MiB|GiB|)", str(value).strip())
        size_bytes = int(match[1]) * SIZES[match[2]] if match else 0
        if not SIZE_LEAST <= size_bytes <= SIZE_MOST:
            self.fail(f"invalid size '{value}'; use 1MiB to 1024GiB, for example 64MiB", param, ctx)
        return size_bytes


def sampling_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that say how and where to sample."""
    options = (
        click.option(
            "-o",
            "--output",
            type=FILE,
            metavar="FILE",
            help="Where to keep the capture; '-' is standard output.",
        ),
        click.option(
            "--for",
            "duration_s",
            type=Duration(EVERY_LEAST_S, FOR_MOST_S),
            default="30s",
            show_default=True,
            help="How long to sample.",
        ),
        click.option(
            "--every",
            "every_s",
            type=Duration(EVERY_LEAST_S, EVERY_MOST_S),
            default="1s",
            show_default=True,
            help="How often.",
        ),
        click.option(
            "--root",
            type=FILE,
            default=Path("/"),
            metavar="DIR",
            help="Sample the computer whose proc, sys and etc lie under DIR.",
        ),
        complaint_option,
        click.option(
            "--note",
            metavar="TEXT",
            help="The complaint in their own words; it travels with the capture.",
        ),
        click.option(
            "--no-code",
            "with_code",
            flag_value=False,
            default=True,
            help="Do not sample which code the busiest programs run.",
        ),
        click.option("--force", is_flag=True, help="Overwrite FILE when it exists."),
    )
    for option in reversed(options):
        command = option(command)
    return command


def refuse_given(context: click.Context, names: Collection[str], message: str) -> None:
    """Raise UsageError where one of these parameters was given and would be ignored.

    ``message`` has a placeholder for the option as it is written.
    """
    for parameter in context.command.params:
        source = context.get_parameter_source(parameter.name or "")
        if parameter.name in names and source is ParameterSource.COMMANDLINE:
            raise click.UsageError(message.format(parameter.opts[-1]))


def check_word(
    kind: str, word: str, words: Collection[str], synonyms: Mapping[str, str] | None = None
) -> None:
    """Raise UsageError with the nearest right word when one is in no list."""
    if word not in words:
        meant = (synonyms or {}).get(word.lower())
        near = [meant] if meant else get_close_matches(word, words, n=1)
        hint = f"did you mean '{near[0]}'?" if near else f"choose from {', '.join(words)}"
        raise click.UsageError(f"unknown {kind} '{word}'; {hint}")
