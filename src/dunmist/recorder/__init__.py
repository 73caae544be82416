"""The flight recorder: a ring of segments on disk, and incidents that are kept apart from it.

Takes the records of sampling, gives files that are captures like any other. It runs on the
patient's computer for days, so it imports nothing that only the analysis needs, and judges nothing.
Light rules on the kernel's own figures say when something is worth keeping.
"""

from dunmist.recorder.extraction import Cut, TimeWindow, cut
from dunmist.recorder.incidents import (
    CUT_OFF,
    Incidents,
    Keeping,
    Kept,
    TickTime,
    capture_of,
    drop,
    incident_bytes,
    keep,
    read_incidents,
    write_kept,
)
from dunmist.recorder.latest_state import Known
from dunmist.recorder.live_view import Gauge, LiveApplication, Now
from dunmist.recorder.marks import Mark, Marks, send_mark
from dunmist.recorder.ring import Limits, Ring, Segment, cut_off_run, of_the_run, read_segments
from dunmist.recorder.rules import Rule, Rules, load_watch_rules

__all__ = [
    "CUT_OFF",
    "Cut",
    "Gauge",
    "Incidents",
    "Keeping",
    "Kept",
    "Known",
    "Limits",
    "LiveApplication",
    "Mark",
    "Marks",
    "Now",
    "Ring",
    "Rule",
    "Rules",
    "Segment",
    "TickTime",
    "TimeWindow",
    "capture_of",
    "cut",
    "cut_off_run",
    "drop",
    "incident_bytes",
    "keep",
    "load_watch_rules",
    "of_the_run",
    "read_incidents",
    "read_segments",
    "send_mark",
    "write_kept",
]
