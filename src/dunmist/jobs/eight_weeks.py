"""The demo's chapter of months: the history of a model computer, and a capture of its last day."""

from datetime import datetime
from pathlib import Path

from dunmist.captures import CaptureReader
from dunmist.history import DAY_S, HOUR_S, Event, Piece, identity_of, open_history
from dunmist.jobs.model_months import GIB, PARTITION, Months, Rise
from dunmist.jobs.patient import capture_patient
from dunmist.simulation import load_scenario

CHAPTER = "eight-weeks"
STORY = (
    "A computer was fast in spring. Its history tells what changed since: an update after which a "
    "service grows from day to day, a cooler that clogs, a disk that fills."
)
PATIENT, SEED, DAYS = "ringing-office", 7, 92
# days before the capture on which each began
UPDATED, CLOGS, FILLS = 40, 56, 18
SERVICE = "tide-gridder"


def make_eight_weeks(folder: Path, *, force: bool) -> tuple[Path, Path]:
    """Make the history and the capture in a folder, and return where both are."""
    capture, path = folder / "now.jsonl.gz", folder / "history.sqlite3"
    capture_patient(load_scenario(PATIENT), capture, force=force)
    if force:
        path.unlink(missing_ok=True)
    with CaptureReader(capture) as reader:
        header = reader.header
    began = datetime.fromisoformat(header.started)
    offset = began.utcoffset()
    offset_s = round(offset.total_seconds()) if offset else 0
    today = int((began.timestamp() + offset_s) // DAY_S)
    months = Months(
        days=DAYS,
        seed=SEED,
        began_day=today - DAYS,
        offset_s=offset_s,
        cpus=len(header.machine.processors),
        # so that it ends where the capture begins
        disk_bytes=460.0 * GIB,
        used_bytes=129.0 * GIB,
        rises=(
            Rise("memory", SERVICE, DAYS - UPDATED, 3.0),
            Rise("cooling", "", DAYS - CLOGS, 1.6),
            Rise("storage", PARTITION, DAYS - FILLS),
        ),
        updates=0.0,
    )
    periods = list(months.periods())
    updated_s = float((today - UPDATED) * DAY_S - offset_s + 4 * HOUR_S)
    events = [*months.events, Event(updated_s, "change", f"{SERVICE} 2.3-1 to 2.4-1")]
    history = open_history(path, create=True)
    assert history is not None  # it was made
    with history:
        began_s, ended_s = periods[0].began_s, periods[-1].began_s + HOUR_S
        piece = Piece("model", float(began_s), float(ended_s), periods, events)
        history.add(piece, identity_of(header.machine))
    return path, capture
