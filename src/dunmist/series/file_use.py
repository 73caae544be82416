"""Compute which files each application read and wrote, from the positions in them.

A position that moved on says how many bytes were read or written, by what the file was opened for.
Held against what the process moved in all, they say how much is explained. More than that cannot
be: then the program sets positions itself, and the interval has no figure. A file whose
position stands still while its process moves data is named without a figure.
"""

from collections import Counter, defaultdict
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from dunmist.applications import Grouping
from dunmist.sampling import CharacterCounts, Tick

Manner = Literal["reads", "writes"]
MANNERS: tuple[Manner, Manner] = ("reads", "writes")
# totals include pipes and terminals as well; positions may be a little ahead of totals that were
# read before them
AHEAD = 1.1
AHEAD_LEAST_BYTES = 1 << 20
# if less of the moved bytes is known, files without a figure are named
EXPLAINED = 0.5
# open(2): for reading and writing
BOTH = 2
# descriptors up to it are the standard ones, which are hardly what a program works on
STANDARD_ERROR = 2


class MovedFile(NamedTuple):
    """One file that an application read or wrote; None if its position does not tell."""

    path: str
    manner: Manner
    moved_bytes: int | None
    share: float | None  # of all that the application read, or wrote
    # of one that was opened to append: how far it is, which is how long it is
    appended_bytes: int | None = None


class FileUse(NamedTuple):
    """Files of an application, the most used first, and the totals of its calls."""

    files: list[MovedFile]
    read_bytes: int
    written_bytes: int
    seconds: float  # for which it was watched


@dataclass(slots=True)
class _Watched:
    """Figures of one process from the tick before."""

    totals: tuple[int, int]
    at_s: float
    positions: dict[tuple[int, str], int] = field(default_factory=dict)


@dataclass(slots=True)
class _Sum:
    """Bytes of one application so far."""

    moved: defaultdict[tuple[str, Manner], int] = field(default_factory=lambda: defaultdict(int))
    untold: set[tuple[str, Manner]] = field(default_factory=set)
    appended: dict[str, int] = field(default_factory=dict)
    # open at the first sample: of those, some may be moved without a position
    candidates: dict[tuple[str, Manner], int] = field(default_factory=dict)
    totals: list[int] = field(default_factory=lambda: [0, 0])
    seconds: float = 0.0


class FileCollector:
    """Follows the files of a capture as it is read."""

    fields = ("files", "file_totals")

    def __init__(self) -> None:
        self._watched: dict[int, _Watched] = {}
        self._sums: defaultdict[int, _Sum] = defaultdict(_Sum)  # by process

    def add(self, row: int, tick: Tick) -> None:
        """Add the figures of the ``row``-th tick."""
        del row
        moved: defaultdict[int, list[tuple[str, Manner, int | None]]] = defaultdict(list)
        totals = {total.process: total for total in tick.file_totals}
        for sample in tick.files:
            total, key = totals.get(sample.process), (sample.descriptor, sample.path)
            if total is None:
                continue
            known = self._watched.get(sample.process)
            if known is None or known.at_s == tick.at_s:
                # the first sample of it: files that were open already
                now = (total.read_bytes, total.written_bytes)
                known = known or self._watched.setdefault(sample.process, _Watched(now, tick.at_s))
                if sample.descriptor > STANDARD_ERROR:
                    candidate = (sample.path, MANNERS[sample.access > 0])
                    self._sums[sample.process].candidates[candidate] = sample.access
            else:
                before = known.positions.get(key)
                if before is None and not sample.appends:
                    before = 0  # it was opened since: it has moved so far at least
                manner = _manner(sample.access, known.totals, total)
                step = None
                if before is not None:
                    # a position that went back has moved at least from the beginning of the file
                    went_back = before > sample.position
                    step = sample.position if went_back else sample.position - before
                moved[sample.process].append((sample.path, manner, step))
            if sample.appends:
                self._sums[sample.process].appended[sample.path] = sample.position
            known.positions[key] = sample.position
        for process, total in totals.items():
            self._take(process, (total.read_bytes, total.written_bytes), tick.at_s, moved[process])

    def _take(
        self,
        process: int,
        totals: tuple[int, int],
        at_s: float,
        moved: list[tuple[str, Manner, int | None]],
    ) -> None:
        known = self._watched.setdefault(process, _Watched(totals, at_s))
        grown = [max(0, now - before) for now, before in zip(totals, known.totals, strict=True)]
        total = self._sums[process]
        total.seconds += at_s - known.at_s
        known.totals, known.at_s = totals, at_s
        for number, manner in enumerate(MANNERS):
            total.totals[number] += grown[number]
            steps = [(path, step) for path, how, step in moved if how == manner]
            in_files = sum(step or 0 for _, step in steps)
            is_true = in_files <= AHEAD * grown[number] + AHEAD_LEAST_BYTES
            for path, step in steps:
                if step is None or not is_true:
                    total.untold.add((path, manner))
                else:
                    total.moved[path, manner] += step

    def finish(self, grouping: Grouping) -> dict[int, FileUse]:
        """Return the use of files by the number of the application."""
        of_application: defaultdict[int, list[_Sum]] = defaultdict(list)
        for process, total in self._sums.items():
            number = grouping.application_of.get(process)
            if number is not None:
                of_application[number].append(total)
        return {number: _use(sums) for number, sums in of_application.items()}


def _manner(access: int, before: tuple[int, int], now: CharacterCounts) -> Manner:
    """Return the access to a file; one open for both follows its process."""
    if access != BOTH:
        return MANNERS[access & 1]
    return MANNERS[now.written_bytes - before[1] > now.read_bytes - before[0]]


def _use(sums: list[_Sum]) -> FileUse:
    moved: defaultdict[tuple[str, Manner], int] = defaultdict(int)
    for each in sums:
        for key, step in each.moved.items():
            moved[key] += step
    totals = {
        manner: sum(each.totals[number] for each in sums) for number, manner in enumerate(MANNERS)
    }
    in_files = {
        manner: sum(step for (_, how), step in moved.items() if how == manner) for manner in MANNERS
    }
    # a file open for reading and writing is the likeliest to be accessed without a position
    likely = Counter(dict.fromkeys((key for each in sums for key in each.untold), BOTH))
    for each in sums:
        for key, access in each.candidates.items():
            if in_files[key[1]] < EXPLAINED * totals[key[1]]:
                likely[key] = max(likely[key], access)
    appended = {path: length for each in sums for path, length in each.appended.items()}
    files = [
        MovedFile(
            path,
            manner,
            amount,
            min(1.0, amount / max(1, totals[manner])),
            appended.get(path) if manner == "writes" else None,
        )
        for (path, manner), amount in sorted(moved.items(), key=lambda item: -item[1])
        if amount
    ]
    files += [
        MovedFile(path, manner, None, None)
        for path, manner in sorted(likely, key=lambda key: (-likely[key], key))
        if (path, manner) not in moved
    ]
    return FileUse(
        files, totals["reads"], totals["writes"], max((each.seconds for each in sums), default=0.0)
    )
