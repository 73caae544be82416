"""The one process of an application that takes nearly all of it, where it is not the oldest one.

One session of a database, one page of a browser, one worker of a server: steps aim at it first, as
the others serve people who have nothing to do with the load. What signals mean to servers that are
distinguished by name is data (``server_signals.toml``), each with its source.
"""

import re
import tomllib
from functools import cache
from importlib.resources import files
from typing import NamedTuple

import msgspec

from dunmist.advice.amounts import percent
from dunmist.advice.wording import wording
from dunmist.diagnosis import Diagnosis, ResourceWord
from dunmist.series import Application, Process


class ServerSignals(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Meaning of signals to one process of a server."""

    names: list[str]  # patterns of the file name of its program
    source: str
    argument: str | None = None  # a word of its command line, without which it is another part
    cancel: str | None = None  # signal that breaks off what it does just now
    cancels: str = ""  # half a sentence
    end: str = "TERM"
    ends: str = ""


class GuiltyPart(NamedTuple):
    """One process, its share of what its application takes, and how many others go on."""

    process: Process
    share: float
    others: int
    signals: ServerSignals | None


@cache
def server_signals() -> list[ServerSignals]:
    """Return the facts of signals, a row a server."""
    text = (files("dunmist.advice") / "server_signals.toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text)["server"], list[ServerSignals])


def find_guilty_part(application: Application, diagnosis: Diagnosis) -> GuiltyPart | None:
    """Return the process that takes nearly all of an application; None if none does.

    The oldest process starts the others, so it stands for all of them.
    """
    living = application.living
    if len(living) < 2 or application.starts_generations:
        return None
    amounts = [_amount(process, diagnosis.limiting) for process in application.members]
    process = max(living, key=lambda member: _amount(member, diagnosis.limiting))
    share = _amount(process, diagnosis.limiting) / max(sum(amounts), 1e-12)
    if process is application.main or share < diagnosis.limits.advice.part_share:
        return None
    file = (process.facts.executable or process.name).rpartition("/")[2]
    known = (
        server
        for server in server_signals()
        if any(re.fullmatch(name, file) for name in server.names)
        and server.argument in (None, *process.facts.command_line)
    )
    return GuiltyPart(process, share, len(living) - 1, next(known, None))


def _amount(process: Process, limiting: ResourceWord | None) -> float:
    if limiting == "disk":
        return process.read_bytes_per_s.total() + process.write_bytes_per_s.total()
    if limiting in ("memory", "swap"):
        return process.private_bytes.median() or 0.0
    return process.cpu_s


def part_circumstances(part: GuiltyPart | None) -> set[str]:
    """Return the words of the ladder that hold for a part."""
    if part is None:
        return set()
    can_cancel = part.signals is not None and part.signals.cancel is not None
    return {"part", "cancellable"} if can_cancel else {"part"}


def part_filling(part: GuiltyPart | None) -> dict[str, str]:
    """Return the template values of steps against a part."""
    words = wording()["part"]
    if part is None:
        return dict.fromkeys(("part_pid", "part_share", "part_others", "all_others"), "")
    signals = part.signals
    return {
        "part_pid": str(part.process.pid),
        "part_share": percent(part.share),
        "part_others": words["go-on" if part.others > 1 else "goes-on"].format(count=part.others),
        "all_others": words["as-well" if part.others > 1 else "one-as-well"].format(
            count=part.others
        ),
        "part_cancel": (signals.cancel or "") if signals else "",
        "part_cancels": signals.cancels if signals else "",
        "part_end": signals.end if signals else "TERM",
        "part_ends": signals.ends if signals and signals.ends else words["ends"],
    }
