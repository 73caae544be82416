"""The recorder over days in virtual time: no false incident, a bounded ring, flat memory.

Its history has to hold what was sampled, hour by hour.

Run it with ``make day`` or ``make week``: a calm model computer, a tick each ten seconds, or each
thirty for a week. It writes the table of docs/measurements.md.
"""

import resource
import sys
import tempfile
from pathlib import Path

from figures import Figure, record

from dunmist.captures import load_rules
from dunmist.computer import Root
from dunmist.history import HOUR_S, OTHERS, Summing, read_history, wall_of
from dunmist.jobs.capture import header_of, read_subject
from dunmist.jobs.keep_history import HistoryKeeper
from dunmist.recorder import (
    Incidents,
    Limits,
    Ring,
    Rules,
    TickTime,
    load_watch_rules,
    read_incidents,
    read_segments,
)
from dunmist.sampling import Plan, Tick, sample
from dunmist.sampling.deltas import Deltas
from dunmist.simulation import ComputerTree, ModelComputer, VirtualClock, load_scenario
from dunmist.simulation import model as simulation_model
from dunmist.thresholds import thresholds

KEEP_S, MOST_BYTES = 3600.0, 64 << 20
DAY_H = 24.0
# a calm computer needs no finer steps than it is looked at
MODEL_STEP_S = 1.0
# from this hour on, or from the middle, memory is that of a recorder that runs
SETTLED, FLAT = 24, 1.05
# as a share: sums of the same figures in another order
EXACT = 0.001
SUMMED = {"cpu": "CPU time", "memory": "memory", "sampled": "recorded time"}


def rss_mib():
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize() / 2**20


class Sums:
    """What was added up in one go, in little: it must not be what makes memory grow."""

    def __init__(self):
        self.hours = {}

    def take(self, periods):
        for period in periods:
            hour = self.hours.setdefault(period.began_s, [0.0, {}])
            hour[0] += period.sampled_s
            for name, each in period.applications.items():
                told = hour[1].get(name, (0.0, 0.0, 0.0))
                came = (each.cpu_s, each.memory_byte_s, each.memory_s)
                hour[1][name] = tuple(map(sum, zip(told, came, strict=True)))


def differences(path, direct):
    """Return the greatest difference of the history from what was added up in one go, as shares.

    The history makes days of old hours, so the last hours are compared.
    """
    with read_history(path) as history:
        kept = {hour.began_s: hour for hour in history.periods() if hour.length_s == HOUR_S}
    most, hours = {"cpu": 0.0, "memory": 0.0, "sampled": 0.0}, 0
    for began_s, other in kept.items():
        sampled_s, applications = direct.hours[began_s]
        hours += 1
        most["sampled"] = max(most["sampled"], abs(other.sampled_s / sampled_s - 1))
        for name, (cpu_s, memory_byte_s, memory_s) in applications.items():
            # what takes next to nothing may be counted with the others in some part of the hour
            if cpu_s < 0.005 * sampled_s or name == OTHERS:
                continue
            told = other.applications[name]
            most["cpu"] = max(most["cpu"], abs(told.cpu_s / cpu_s - 1))
            if memory_s and told.memory_s:
                means = told.memory_byte_s / told.memory_s, memory_byte_s / memory_s
                most["memory"] = max(most["memory"], abs(means[0] / means[1] - 1))
    return {"hours": hours, **{name: round(share, 5) for name, share in most.items()}}


def recorded(hours, every_s):
    """Yield what the recorder came to in so many hours."""
    memory, ring_bytes = [], 0
    with tempfile.TemporaryDirectory(dir="/dev/shm") as name:
        folder = Path(name)
        (folder / "root").mkdir()
        simulation_model.STEP_S = MODEL_STEP_S
        model = ModelComputer(load_scenario("calm-morning"))
        tree = ComputerTree(model, folder / "root")
        clock, root = VirtualClock(model, tree), Root(folder / "root")
        plan = Plan(3600 * hours, every_s)
        subject = read_subject(root)
        header = header_of(root, subject, plan, clock.now())
        ring = Ring(folder / "ring", header, Limits(KEEP_S, MOST_BYTES), load_rules())
        rules = load_watch_rules()
        incidents = Incidents(folder / "incidents", ring, rules, MOST_BYTES)
        following, deltas = Rules(rules, {}, thresholds()), Deltas(subject.machine)
        keeper = HistoryKeeper(folder / "history.sqlite3", header, ring, thresholds())
        direct, sums = Summing(header, lambda: ring.known, thresholds()), Sums()
        records = sample(
            root, subject.machine, subject.inventory, plan, clock, survey_every_s=1800.0
        )
        for record in records:
            ring.add(record, clock.now())
            interval = deltas.add(record)
            keeper.add(record, interval, clock.now())
            direct.add(record, interval, wall_of(clock.now()))
            if not isinstance(record, Tick):
                continue
            held = following.add(record, interval, ring.known)
            incidents.add(TickTime(record.at_s, clock.now()), held)
            if record.n % round(3600 / every_s) == 0:
                sums.take(direct.take()[0])
                memory.append(round(rss_mib(), 2))
                held = sum(read_segment.bytes for read_segment in read_segments(folder / "ring"))
                ring_bytes = max(ring_bytes, held)
                print(record.at_s / 3600, memory[-1], ring_bytes, flush=True)
        keeper.close()
        sums.take(direct.take()[0])
        history = differences(folder / "history.sqlite3", sums)
        tree.close()
        kept = read_incidents(folder / "incidents")
    over = f"the recorder over {hours:g} h at {every_s:g} s"
    settled = min(SETTLED, len(memory) // 2)
    yield Figure(f"{over}: incidents of a calm computer", "", [len(kept)], 0)
    yield Figure(f"{over}: memory, the model included", "MiB", [max(memory)])
    yield Figure(
        f"{over}: memory of its last hour, against hour {settled}",
        "×",
        [memory[-1] / memory[settled]],
        FLAT,
    )
    yield Figure(f"{over}: its ring of an hour at most", "MiB", [ring_bytes / 2**20], 20)
    yield Figure(f"{over}: hours in its history", "", [history.pop("hours")])
    for what, share in history.items():
        told = f"{over}: share by which {SUMMED[what]} in the history differs from one sum"
        yield Figure(told, "", [share], EXACT)


if __name__ == "__main__":
    hours, every_s = map(float, sys.argv[1:3])
    record("day" if hours == DAY_H else "week", recorded(hours, every_s))
