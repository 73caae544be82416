"""Cut a window out of the segments of a run: a capture that is complete from its first tick."""

import math
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.captures import (
    FORMAT,
    VERSION,
    CaptureReader,
    CaptureWriter,
    Footer,
    Header,
    IncidentMark,
    Recording,
    Rules,
)
from dunmist.computer import ThreadSample
from dunmist.errors import CaptureError
from dunmist.recorder.latest_state import Known
from dunmist.sampling import Event, Plan, ProcessLine, Record, SocketLine, Survey, Tick

# a line that belongs to a later tick than that which is cut at
Placed = ProcessLine | SocketLine | Event


class TimeWindow(NamedTuple):
    """Requested window, by the patient's wall clock in seconds since 1970."""

    since_s: float = -math.inf
    until_s: float = math.inf


class Cut(NamedTuple):
    """Result: time of the first tick, number of ticks, duration."""

    path: Path
    started: datetime
    ticks: int
    duration_s: float


class _Placed(NamedTuple):
    """A record on the time line of its run."""

    record: Record
    header: Header
    wall_s: float


def cut(
    segments: Sequence[Path],
    wanted: TimeWindow,
    output: Path,
    *,
    force: bool = False,
    note: str | None = None,
    incident: IncidentMark | None = None,
    rules: Rules | None = None,
) -> Cut:
    """Write a window of one run into a file and return what it has.

    ``incident`` is moved with it: its times count from the run's first tick, and from the
    capture's afterwards. Raises CaptureError where no tick lies in the window, and OutputError.
    """
    known, introduced = Known(), set[tuple[type, int]]()
    first: tuple[Tick, Header, float] | None = None
    last_s, ticks, pending = 0.0, 0, list[Placed]()
    surveyed: list[Survey] = []
    with CaptureWriter(output, force=force, rules=rules) as writer:
        for record, header, wall_s in _records(segments):
            known.add(record)
            if isinstance(record, ProcessLine | SocketLine | Event):
                pending.append(record)
                continue
            if wall_s > wanted.until_s:
                break
            if wall_s < wanted.since_s:
                pending.clear()
                continue
            if isinstance(record, Survey):
                # a record that begins a later segment was written already
                plain = msgspec.structs.replace(record, tick=0)
                if first is not None and plain not in surveyed:
                    surveyed.append(plain)
                    tick = max(0, record.tick - first[0].n)
                    writer.write(msgspec.structs.replace(record, tick=tick))
                continue
            assert isinstance(record, Tick)
            if first is None:
                first = record, header, wall_s
                writer.write(_header(header, record, wall_s, note, incident))
                for line in known.beginning(record):
                    introduced |= _identity(line)
                    surveyed += [line] if isinstance(line, Survey) else []
                    writer.write(line)
            else:
                _write_on(writer, pending, introduced, record, first[0])
            pending.clear()
            ticks, last_s = ticks + 1, record.at_s
        if first is None:
            raise CaptureError(
                "nothing was recorded then; 'dunmist watch list' says since when there is"
            )
        started = datetime.fromisoformat(_started(first[1], first[2]))
        duration_s = last_s - first[0].at_s
        writer.write(
            Footer(
                ended=(started + timedelta(seconds=duration_s)).isoformat(timespec="milliseconds"),
                ticks=ticks,
                missed=0,
                ended_early=False,
                blind_spots=first[1].blind_spots,
            )
        )
    return Cut(output, started, ticks, duration_s)


def _write_on(
    writer: CaptureWriter,
    pending: list[Placed],
    introduced: set[tuple[type, int]],
    tick: Tick,
    first: Tick,
) -> None:
    """Write a later tick with what came before it; what was introduced already is not again."""
    for line in pending:
        identity = _identity(line)
        if identity and identity <= introduced:
            continue
        introduced |= identity
        writer.write(msgspec.structs.replace(line, tick=tick.n - first.n))
    writer.write(moved(tick, first))


def moved(tick: Tick, first: Tick) -> Tick:
    """Return a tick as it counts from another one of its run."""
    return msgspec.structs.replace(
        tick,
        n=tick.n - first.n,
        due_s=round(tick.due_s - first.due_s, 6),
        at_s=round(tick.at_s - first.at_s, 6),
    )


def _records(segments: Sequence[Path]) -> Iterator[_Placed]:
    """Yield the records of all segments on the time line of their run."""
    run: str | None = None
    named = set[tuple[int, int]]()
    for path in segments:
        with CaptureReader(path) as reader:
            header, began_s = reader.header, datetime.fromisoformat(reader.header.started)
            recording = header.recording or Recording("", 0.0, 0)
            if run is not None and recording.run != run:
                continue  # another run has other identities
            run = recording.run
            wall_s = began_s.timestamp()
            for line in reader.lines():
                if isinstance(line, Header | Footer):
                    continue
                if isinstance(line, Survey):
                    tick = line.tick + recording.first_tick
                    line_of_run = msgspec.structs.replace(line, tick=tick)
                    yield _Placed(line_of_run, header, wall_s)
                    continue
                if not isinstance(line, Tick):
                    yield _Placed(line, header, wall_s)
                    continue
                wall_s = began_s.timestamp() + line.at_s
                of_run = msgspec.structs.replace(
                    line,
                    n=line.n + recording.first_tick,
                    due_s=line.due_s + recording.after_s,
                    at_s=line.at_s + recording.after_s,
                    threads=_unnamed(line.threads, named) if line.n == 0 else line.threads,
                )
                named.update((thread.process, thread.tid) for thread in line.threads)
                yield _Placed(of_run, header, wall_s)


def _unnamed(threads: list[ThreadSample], named: set[tuple[int, int]]) -> list[ThreadSample]:
    """Return those that a segment begins with; a name would say that reading them began again."""
    return [
        msgspec.structs.replace(thread, name=None)
        if (thread.process, thread.tid) in named
        else thread
        for thread in threads
    ]


def _identity(line: Record) -> set[tuple[type, int]]:
    return {(type(line), line.id)} if isinstance(line, ProcessLine | SocketLine) else set()


def _started(header: Header, wall_s: float) -> str:
    zone = datetime.fromisoformat(header.started).tzinfo
    return datetime.fromtimestamp(wall_s, zone).isoformat(timespec="milliseconds")


def _header(
    header: Header, first: Tick, wall_s: float, note: str | None, incident: IncidentMark | None
) -> Header:
    moved_mark = incident and msgspec.structs.replace(
        incident,
        began_s=max(0.0, round(incident.began_s - first.at_s, 3)),
        ended_s=max(0.0, round(incident.ended_s - first.at_s, 3)),
    )
    return msgspec.structs.replace(
        header,
        format=FORMAT,
        version=VERSION,
        started=_started(header, wall_s),
        plan=Plan(header.plan.duration_s, header.plan.every_s),
        recording=None,
        note=note or header.note,
        incident=moved_mark,
    )
