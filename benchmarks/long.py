"""A day at a tick each ten seconds of 500 processes: what it takes to read and judge it.

Run it with ``make long``, which makes the day of a model computer after how cost
grows (``growth.py``) and before the recorder's day (``day.py``). It writes the table of
docs/measurements.md.
"""

import tempfile
from pathlib import Path

from figures import Figure, record
from growth import cost
from growth_patients import grown
from measure import DUNMIST

from dunmist.jobs.patient import capture_patient
from dunmist.simulation import model as simulation_model

DAY_S, EVERY_S, PROCESSES = 86_400.0, 10.0, 500
MODEL_STEP_S = 1.0


def measured(folder):
    # finer steps would take half an hour, and a tick sees none of them
    simulation_model.STEP_S = MODEL_STEP_S
    path = folder / "day.jsonl.gz"
    capture_patient(grown(processes=PROCESSES), path, DAY_S, EVERY_S)
    yield Figure("a day of 500 processes, a tick each 10 s", "MB", [path.stat().st_size / 1e6])
    seconds, mib = cost([DUNMIST, "triage", path])
    yield Figure("its triage", "s", [seconds], 15)
    yield Figure("memory for it", "MiB", [mib], 200)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        record("long", measured(Path(name)))
