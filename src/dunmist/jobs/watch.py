"""The flight recorder: samples on and on into a ring, and keeps what was worth it.

Nothing imported here is heavy. What was kept is judged by another process at idle priority; what
turns out to have been nothing is forgotten again, unless a person asked for it.
"""

import logging
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.captures import CaptureReader, IncidentMark, load_rules
from dunmist.computer import Inventory, Root
from dunmist.errors import CaptureError
from dunmist.history import Event
from dunmist.jobs.capture import SampledBy, header_of, read_subject, until_broken_off
from dunmist.jobs.graceful_shutdown import Ending, ended_by_signals
from dunmist.jobs.incident_judging import Verdict, judged_apart
from dunmist.jobs.keep_history import HistoryKeeper, keeper_for
from dunmist.jobs.recorder_lock import is_recorded as is_recorded
from dunmist.jobs.recorder_lock import locked
from dunmist.jobs.remote_capture import Source, StoppableClock, remote_source
from dunmist.jobs.settings import (
    incidents_directory,
    mark_directories,
    settings_directory,
    thresholds_path,
    watch_directory,
)
from dunmist.recorder import (
    CUT_OFF,
    Cut,
    Incidents,
    Keeping,
    Kept,
    Limits,
    Marks,
    Ring,
    Rules,
    TickTime,
    TimeWindow,
    cut,
    cut_off_run,
    drop,
    incident_bytes,
    keep,
    load_watch_rules,
    of_the_run,
    read_incidents,
    read_segments,
    send_mark,
    write_kept,
)
from dunmist.remote.transport import Transport
from dunmist.sampling import Plan, SystemClock, Tick, sample
from dunmist.sampling.deltas import Deltas
from dunmist.thresholds import load_thresholds
from dunmist.trusted_paths import Untrusted

_LOG = logging.getLogger(__name__)

RING, MASKS = "ring", "secrets.toml"
# it ends on a signal; the plan of a capture has an end
FOR_EVER_S = 10 * 366 * 86_400.0
# file systems fill in hours, and a survey is expensive
SURVEY_EVERY_S = 1800.0
# of a run that was cut off, its last minutes are kept, and the last of them are looked at
CUT_OFF_S, CUT_OFF_LOOKED_S = 600.0, 60.0


class RecorderOptions(NamedTuple):
    """Options of a recorder."""

    every_s: float
    keep_s: float  # length of the ring
    most_bytes: int  # size of the ring on disk
    duration_s: float | None = None  # None until it is stopped
    root: Path = Path("/")


# hears of each incident once it was judged
IncidentSink = Callable[[Kept], None]


def watch(options: RecorderOptions, notify: IncidentSink, target: Transport | None = None) -> None:
    """Record until asked to end, this computer or a remote one.

    Raises Refused where a recorder runs already, and UnreadableComputer.
    """
    folder = watch_directory()
    with locked(folder):
        if target is not None:
            with remote_source(target, options.every_s) as source:
                _watch(options, folder, notify, source)
            return
        system = SystemClock()
        with ended_by_signals(system.stop) as ending:
            source = Source(Root(options.root), system, None)
            _watch(options, folder, notify, source, ending)


def _watch(
    options: RecorderOptions,
    folder: Path,
    notify: IncidentSink,
    source: Source,
    ending: Ending | None = None,
) -> None:
    root = source.root
    try:
        recorder = _Recorder(options, folder, root, source.clock, notify, source.by)
        _record(recorder, ending or Ending(source.clock.stop))
    finally:
        root.close()


class _Recorder(NamedTuple):
    """Parts of a recorder."""

    options: RecorderOptions
    folder: Path
    root: Root
    clock: StoppableClock
    notify: IncidentSink
    by: SampledBy | None


def _record(own: _Recorder, ending: Ending) -> None:
    options, folder, root, clock, notify, by = own
    subject, plan = read_subject(root, by), Plan(options.duration_s or FOR_EVER_S, options.every_s)
    header = header_of(root, subject, plan, clock.now(), by)
    judge = judged_apart(_keep_what_was_cut_off(folder, options.most_bytes))
    limits = Limits(options.keep_s, options.most_bytes)
    ring = Ring(
        folder / RING,
        header,
        limits,
        load_rules(settings_directory() / MASKS),
        partial(incident_bytes, incidents_directory()),
    )
    rules, limits_of = load_watch_rules(), load_thresholds(thresholds_path())
    incidents = Incidents(incidents_directory(), ring, rules, options.most_bytes)
    keeper = keeper_for(header, ring, limits_of) if root.is_this_computer else None
    if keeper:
        keeper.recover(ring.segments, limits_of)
    deltas, following = Deltas(subject.machine), Rules(rules, _speeds(subject.inventory), limits_of)
    marks = _marks(mark_directories()[0])
    tick_time = TickTime(0.0, clock.now())
    try:
        records = sample(
            root,
            subject.machine,
            subject.inventory,
            plan,
            clock,
            survey_every_s=SURVEY_EVERY_S,
            code_wanted=lambda: bool(incidents.holding),
        )
        for record in until_broken_off(records, ending):
            ring.add(record, clock.now())
            interval = deltas.add(record)
            if keeper:
                keeper.add(record, interval, clock.now())
            if not isinstance(record, Tick):
                continue
            if keeper:
                keeper.daily(root, record.at_s)
            tick_time = TickTime(record.at_s, clock.now())
            for mark in marks.taken() if marks else ():
                incidents.mark(tick_time, mark)
            held = following.add(record, interval, ring.known)
            judge.add(incidents.add(tick_time, held))
            for verdict in judge.done():
                _settle(incidents_directory(), verdict, notify, keeper)
    finally:
        if marks:
            marks.close()
            for mark in marks.taken():
                incidents.mark(tick_time, mark)
        ring.close(clock.now())
        judge.add(incidents.close(tick_time))
        for verdict in judge.rest():
            _settle(incidents_directory(), verdict, notify, keeper)
        if keeper:
            keeper.close()


def _marks(directory: Path) -> Marks | None:
    """Return the listener for marks; None, with a warning, if its socket cannot be made."""
    try:
        return Marks(directory)
    except (Untrusted, OSError) as error:
        _LOG.warning("%s: no marks are heard (%s)", directory, error)
        return None


def _speeds(inventory: Inventory) -> dict[str, int]:
    return {link.name: link.speed_bits_per_s for link in inventory.links if link.speed_bits_per_s}


def _settle(
    folder: Path, verdict: Verdict, notify: IncidentSink, keeper: HistoryKeeper | None = None
) -> None:
    """Write down what an incident was; forget what was nothing, unless a person asked for it."""
    by_number = {incident.number: incident for incident in read_incidents(folder)}
    kept = by_number.get(verdict.number)
    if kept is None:
        return
    if verdict.limiting is None and not verdict.findings and not kept.by_person:
        drop(folder, kept.number)
        return
    judged = msgspec.structs.replace(
        kept,
        state="judged",
        level=verdict.level,
        limiting=verdict.limiting,
        headline=verdict.headline,
        culprit=verdict.culprit,
    )
    with suppress(OSError):
        write_kept(folder, judged)
    if keeper:
        what = judged.limiting or (verdict.findings[0] if verdict.findings else "mark")
        name = f"{what}: {judged.culprit}" if judged.culprit else what
        keeper.add_events([Event(_epoch(judged.ended), "incident", name)])
    notify(judged)


def _keep_what_was_cut_off(folder: Path, most_bytes: int) -> Path | None:
    """Keep the last minutes of the run before, where it did not end in good order."""
    segments = [segment.path for segment in read_segments(folder / RING)]
    last = cut_off_run(segments)
    known = {
        incident.ended
        for incident in read_incidents(incidents_directory())
        if CUT_OFF in incident.set_off
    }
    if last is None:
        return None
    with CaptureReader(last) as reader:
        recording, began_s = reader.header.recording, _epoch(reader.header.started)
        last_s = max((line.at_s for line in reader.lines() if isinstance(line, Tick)), default=0.0)
    ended_wall_s = began_s + last_s
    ended_s = (recording.after_s if recording else 0.0) + last_s
    ended = datetime.fromtimestamp(ended_wall_s).astimezone().isoformat(timespec="seconds")
    if ended in known:
        return None
    mark = IncidentMark([CUT_OFF], max(0.0, ended_s - CUT_OFF_LOOKED_S), ended_s)
    window = TimeWindow(ended_wall_s - CUT_OFF_S, ended_wall_s + 1.0)
    what = Keeping(window, mark, ended_wall_s - CUT_OFF_LOOKED_S, ended_wall_s)
    return keep(incidents_directory(), segments[-4:], what, most_bytes)


def recall(since: datetime, span_s: float, output: Path, *, force: bool) -> Cut:
    """Cut a window out of the ring; raises CaptureError where nothing was recorded then."""
    segments = [segment.path for segment in read_segments(watch_directory() / RING)]
    if not segments:
        raise CaptureError("nothing is recorded here; start a recorder with 'dunmist watch'")
    wanted = TimeWindow(since.timestamp(), (since + timedelta(seconds=span_s)).timestamp())
    return cut(list(of_the_run(segments, since)), wanted, output, force=force)


def ring_directory() -> Path:
    """Return the directory of segments of this user's recorder."""
    return watch_directory() / RING


def incidents_kept() -> list[Kept]:
    """Return the incidents that are kept, the oldest first."""
    return read_incidents(incidents_directory())


def mark(words: str) -> None:
    """Tell the recorder that something is wrong just now; raises Refused where none listens."""
    send_mark(mark_directories(), words)


def _epoch(started: str) -> float:
    return datetime.fromisoformat(started).timestamp()
