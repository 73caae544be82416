"""Declare what is read at a tick: the fields, when they are due, and what is recorded.

A ``Source`` declares one reader. ``due`` says after how many seconds it is read again; each is read
at the first and at the last tick whatever its seconds. ``keeps`` says what of a reading goes into
the tick: everything, or only what changed since it was read before. ``subject`` is what nobody
sees where the source fails: the name of its blind spot, for which ``advice`` has the words.
"""

from collections.abc import Callable, Iterable, Mapping
from typing import Generic, Literal, NamedTuple, TypeVar

Context = TypeVar("Context")
# everything that was read, or only what is not as it was read before under the same key
Keeps = Literal["all", "changes"]
# a tick that comes a little early for a source still serves it
EARLY_SHARE = 0.25


class Source(NamedTuple, Generic[Context]):
    """One reader of a tick."""

    fields: tuple[str, ...]  # of the tick; several sources may feed one
    subject: str
    read: Callable[[Context], tuple[object, ...]]  # values of the fields, in their order
    every_s: float = 0.0  # 0 at each tick
    keeps: Keeps = "all"
    # names one entry of a list among the others; a mapping needs none
    key: Callable[..., object] | None = None
    counts: bool = False  # counters of time, for which the time of reading matters
    gone: Callable[..., object] | None = None  # the record of an entry that no longer exists


class Cadence:
    """Remembers when each source was read last."""

    def __init__(self) -> None:
        self._read_s: dict[object, float] = {}

    def is_due(self, name: object, every_s: float, at_s: float, *, last: bool) -> bool:
        """Say whether a source is to be read now, and count it as read if so."""
        before_s = self._read_s.get(name)
        waited_s = (1 - EARLY_SHARE) * every_s
        if before_s is not None and not last and at_s - before_s < waited_s:
            return False
        self._read_s[name] = at_s
        return True


class Changes:
    """Remembers what was read before, so that only what changed goes on."""

    def __init__(self) -> None:
        self._before: dict[object, dict[object, object]] = {}

    def of(self, source: Source[Context], value: object) -> object:
        """Return those parts of a reading that differ from the one before."""
        before = self._before.setdefault(source.fields, {})
        if isinstance(value, Mapping):
            return {word: item for word, item in value.items() if _is_news(before, word, item)}
        assert isinstance(value, Iterable)
        assert source.key is not None
        read = {source.key(item): item for item in value}
        changed = [item for name, item in read.items() if _is_news(before, name, item)]
        if source.gone is not None:
            ended = [name for name in before if name not in read]
            changed += [source.gone(before.pop(name)) for name in ended]
        return changed


def _is_news(before: dict[object, object], name: object, value: object) -> bool:
    if name in before and before[name] == value:
        return False
    before[name] = value
    return True
