"""A day of a recorder that is killed twenty times: its history against what was added up in one go.

A model computer is sampled in virtual time here. A process of its own keeps ring and history as the
recorder does, and is killed at random moments; the next one begins with what the ring still has.
Run it with ``make killed``. It writes the table of docs/measurements.md.
"""

import os
import pickle
import random
import signal
import tempfile
import time
from pathlib import Path

from day import MODEL_STEP_S, MOST_BYTES, Sums
from figures import Figure, record

from dunmist.captures import load_rules
from dunmist.computer import Root
from dunmist.history import Summing, read_history, wall_of
from dunmist.jobs.capture import header_of, read_subject
from dunmist.jobs.keep_history import HistoryKeeper
from dunmist.recorder import Known, Limits, Ring
from dunmist.sampling import Plan, Tick, sample
from dunmist.sampling.deltas import Deltas
from dunmist.simulation import ComputerTree, ModelComputer, VirtualClock, load_scenario
from dunmist.simulation import model as simulation_model
from dunmist.thresholds import thresholds

DAY_S, EVERY_S, KILLS = 86_400.0, 10.0, 20
# a tick that is being written may be lost, and the interval after the one before
LOST_MOST_S = 2 * EVERY_S
# time that the recorder has for the last records before it is killed
LAST_MOST_S = 0.02


def keep(records, taken, folder):
    """Be a recorder: keep what comes through a pipe, and say of each tick that it was taken."""
    with os.fdopen(records, "rb") as stream:
        header = pickle.load(stream)
        ring = Ring(folder / "ring", header, Limits(3600.0, MOST_BYTES), load_rules())
        keeper = HistoryKeeper(folder / "history.sqlite3", header, ring, thresholds())
        keeper.recover(ring.segments, thresholds())
        deltas = Deltas(header.machine)
        while True:
            try:
                each, now = pickle.load(stream)
            except EOFError:
                break
            ring.add(each, now)
            keeper.add(each, deltas.add(each), now)
            if isinstance(each, Tick):
                os.write(taken, b".")
        ring.close(now)
        keeper.close()


class Recorder:
    """The process that keeps."""

    def __init__(self, folder, header):
        there, self._pipe = os.pipe()
        self._taken, said = os.pipe()
        self.pid = os.fork()
        if not self.pid:
            os.close(self._pipe)
            keep(there, said, folder)
            os._exit(0)
        os.close(there), os.close(said)
        self._stream = os.fdopen(self._pipe, "wb")
        pickle.dump(header, self._stream)

    def send(self, each, now):
        pickle.dump((each, now), self._stream)
        self._stream.flush()

    def wait_for(self, ticks):
        while ticks > 0:
            ticks -= len(os.read(self._taken, ticks))

    def end(self, with_signal):
        if with_signal:
            os.kill(self.pid, with_signal)
        else:
            self._stream.close()
        _, status = os.waitpid(self.pid, 0)
        if not with_signal and status:
            raise SystemExit(f"the recorder ended with {status}")
        self._stream.close()
        os.close(self._taken)


def measured(folder, chance):
    simulation_model.STEP_S = MODEL_STEP_S
    (folder / "root").mkdir()
    model = ModelComputer(load_scenario("calm-morning"))
    tree = ComputerTree(model, folder / "root")
    clock, root = VirtualClock(model, tree), Root(folder / "root")
    moments_s = sorted(chance.uniform(60.0, DAY_S - 60.0) for _ in range(KILLS))
    sums, began_s = Sums(), clock.monotonic_s()
    for until_s in [*moments_s, DAY_S]:
        length_s = until_s - (clock.monotonic_s() - began_s)
        if length_s < 2 * EVERY_S:
            continue
        plan, subject = Plan(length_s, EVERY_S), read_subject(root)
        header = header_of(root, subject, plan, clock.now())
        recorder, known, deltas = Recorder(folder, header), Known(), Deltas(subject.machine)
        direct, ticks = Summing(header, lambda known=known: known, thresholds()), 0
        for each in sample(
            root, subject.machine, subject.inventory, plan, clock, survey_every_s=1800.0
        ):
            recorder.send(each, clock.now())
            known.add(each)
            direct.add(each, deltas.add(each), wall_of(clock.now()))
            ticks += isinstance(each, Tick)
        sums.take(direct.take()[0])
        recorder.wait_for(ticks - 1)
        if until_s < DAY_S:
            time.sleep(chance.uniform(0.0, LAST_MOST_S))
        recorder.end(signal.SIGKILL if until_s < DAY_S else 0)
    tree.close()
    yield from compared(folder / "history.sqlite3", sums)


def compared(path, sums):
    """Yield what of the truth the history lacks, and what it has more than that."""
    with read_history(path) as history:
        kept = Sums()
        kept.take(history.periods())
    lost_s = more = 0.0
    cpu = {"kept": 0.0, "there": 0.0}
    for began_s, (sampled_s, applications) in sums.hours.items():
        told_s, told = kept.hours.get(began_s, (0.0, {}))
        lost_s += sampled_s - told_s
        more = max(more, told_s / sampled_s - 1)
        cpu["there"] += sum(each[0] for each in applications.values())
        cpu["kept"] += sum(each[0] for each in told.values())
    over = f"a day of a recorder that is killed {KILLS} times"
    yield Figure(f"{over}: hours in its history", "", [len(kept.hours)])
    yield Figure(f"{over}: time that each kill loses", "s", [lost_s / KILLS], LOST_MOST_S)
    yield Figure(f"{over}: CPU time that is lost", "%", [100 * (1 - cpu["kept"] / cpu["there"])], 1)
    yield Figure(f"{over}: any hour has more than there was", "%", [100 * more], 0.001)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory(dir="/dev/shm") as name:
        record("killed", measured(Path(name), random.Random(20_311)))
