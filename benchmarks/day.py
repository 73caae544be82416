"""The recorder over a day in virtual time: no false incident, a bounded ring, flat memory.

Its history has to hold what was sampled, hour by hour.

Run it with ``make day``: a calm model computer, a tick each ten seconds for 24 h, in some eleven
minutes of real time. It writes docs/day.json.
"""

import json
import resource
import sys
import tempfile
import time
from pathlib import Path

from dunmist.captures import load_rules
from dunmist.computer import Root
from dunmist.history import OTHERS, Summing, read_history, wall_of
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
from dunmist.thresholds import thresholds

REPORT = Path(__file__).parent.parent / "docs" / "day.json"
EVERY_S, KEEP_S, MOST_BYTES = 10.0, 3600.0, 64 << 20


def rss_mib():
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize() / 2**20


def differences(path, direct):
    """Return the greatest difference of the history from what was added up in one go, as shares."""
    with read_history(path) as history:
        kept = {hour.began_s: hour for hour in history.periods()}
    most = {"cpu": 0.0, "memory": 0.0, "sampled": 0.0}
    for hour in direct:
        other = kept[hour.began_s]
        most["sampled"] = max(most["sampled"], abs(other.sampled_s / hour.sampled_s - 1))
        for name, each in hour.applications.items():
            # what takes next to nothing may be counted with the others in some part of the hour
            if each.cpu_s < 0.005 * hour.sampled_s or name == OTHERS:
                continue
            told = other.applications[name]
            most["cpu"] = max(most["cpu"], abs(told.cpu_s / each.cpu_s - 1))
            if each.memory_s and told.memory_s:
                means = [part.memory_byte_s / part.memory_s for part in (told, each)]
                most["memory"] = max(most["memory"], abs(means[0] / means[1] - 1))
    return {"hours": len(direct), **{name: round(share, 5) for name, share in most.items()}}


def main(hours):
    memory, ring_bytes = [], 0
    with tempfile.TemporaryDirectory(dir="/dev/shm") as name:
        folder = Path(name)
        (folder / "root").mkdir()
        model = ModelComputer(load_scenario("calm-morning"))
        tree = ComputerTree(model, folder / "root")
        clock, root = VirtualClock(model, tree), Root(folder / "root")
        plan = Plan(3600 * hours, EVERY_S)
        subject = read_subject(root)
        header = header_of(root, subject, plan, clock.now())
        ring = Ring(folder / "ring", header, Limits(KEEP_S, MOST_BYTES), load_rules())
        rules = load_watch_rules()
        incidents = Incidents(folder / "incidents", ring, rules, MOST_BYTES)
        following, deltas = Rules(rules, {}, thresholds()), Deltas(subject.machine)
        keeper = HistoryKeeper(folder / "history.sqlite3", header, ring, thresholds())
        direct = Summing(header, lambda: ring.known, thresholds())
        began_s = time.monotonic()
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
            if record.n % 360 == 0:
                memory.append(round(rss_mib(), 2))
                held = sum(read_segment.bytes for read_segment in read_segments(folder / "ring"))
                ring_bytes = max(ring_bytes, held)
                print(record.at_s / 3600, memory[-1], ring_bytes, flush=True)
        keeper.close()
        history = differences(folder / "history.sqlite3", direct.take()[0])
        tree.close()
        kept = read_incidents(folder / "incidents")
    result = {
        "date": time.strftime("%Y-%m-%d"),
        "hours": hours,
        "incidents": len(kept),
        "rss_mib_by_hour": memory,
        "ring_bytes_most": ring_bytes,
        "history": history,
        "took_s": round(time.monotonic() - began_s),
    }
    REPORT.write_text(json.dumps(result, indent=1) + "\n")
    print(json.dumps(result))


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 24.0)
