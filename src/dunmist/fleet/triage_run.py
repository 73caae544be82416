"""A whole run: what is found, what was done already, the rest on the engine, tables and report."""

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

from dunmist.errors import CaptureError
from dunmist.fleet.capture_locations import CaptureLocation, find
from dunmist.fleet.capture_record import key_of, read, record_of
from dunmist.fleet.dataset import write_all
from dunmist.fleet.engine import Engine, records
from dunmist.fleet.records import Record
from dunmist.fleet.report import write_reports
from dunmist.fleet.result_cache import Done
from dunmist.fleet.summary import Summary, Summing

Progress = Callable[[int, int], None]


class Finished(NamedTuple):
    """Result of a run: the summary, its files, and the number taken from the cache."""

    summary: Summary
    files: list[Path]
    done_before: int


def triage_fleet(
    places: list[str], folder: Path, engine: Engine, follow: Progress | None = None
) -> Finished:
    """Triage all captures of the places into a folder.

    ``follow`` gets how many are done, of how many. Raises CaptureError and OutputError; what was
    done stays, and the next run goes on from there.
    """
    located = list(find(places))
    if not located:
        raise CaptureError(f"{', '.join(places)}: no captures there; they end in .jsonl.gz or .txt")
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    done = Done(folder)
    run = _Run(done, located)
    summing = Summing()
    for number, record in enumerate(write_all(folder, run.records(engine)), start=1):
        summing.add(record)
        if follow is not None:
            follow(number, len(located))
    summary = summing.summary()
    return Finished(summary, write_reports(summary, folder), run.done_before)


class _Run:
    """Goes through what was found: what was done is taken over, the rest is handed out."""

    def __init__(self, done: Done, locations: list[CaptureLocation]) -> None:
        self._done, self._found = done, locations
        self.done_before = 0
        self._known: list[tuple[str, CaptureLocation]] = []

    def records(self, engine: Engine) -> Iterator[Record]:
        """Yield the record of each capture, as it is there."""
        new = self._new()
        first = next(new, None)
        yield from self._taken()
        if first is None:
            return

        def rest() -> Iterator[CaptureLocation]:
            yield first
            yield from new

        for record in records(engine, rest()):
            if record.file.trouble is None:
                self._done.put(record)
            yield from self._taken()
            yield record
        yield from self._taken()

    def _new(self) -> Iterator[CaptureLocation]:
        for location in self._found:
            try:
                key = key_of(read(location))
            except CaptureError:
                yield location  # the worker says why
                continue
            if self._done.has(key, location.address):
                self._known.append((key, location))
            else:
                yield location

    def _taken(self) -> Iterator[Record]:
        while self._known:
            key, location = self._known.pop()
            known = self._done.get(key, location.address)
            self.done_before += known is not None
            # a record that is damaged is made again
            yield known if known is not None else record_of(location)
