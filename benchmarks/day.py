"""The recorder over a day in virtual time: no false incident, a bounded ring, flat memory.

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
from dunmist.jobs.capture import header_of, read_subject
from dunmist.recorder import (
    Incidents,
    Limits,
    Moment,
    Ring,
    Rules,
    load_watch_rules,
    read_incidents,
    read_segments,
)
from dunmist.sampling import Plan, Tick, sample
from dunmist.simulation import ComputerTree, ModelComputer, VirtualClock, load_scenario
from dunmist.thresholds import thresholds

REPORT = Path(__file__).parent.parent / "docs" / "day.json"
EVERY_S, KEEP_S, MOST_BYTES = 10.0, 3600.0, 64 << 20


def rss_mib():
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize() / 2**20


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
        ring = Ring(
            folder / "ring",
            header_of(root, subject, plan, clock.now()),
            Limits(KEEP_S, MOST_BYTES),
            load_rules(),
        )
        rules = load_watch_rules()
        incidents = Incidents(folder / "incidents", ring, rules)
        following = Rules(rules, {}, thresholds())
        began_s = time.monotonic()
        records = sample(
            root, subject.machine, subject.inventory, plan, clock, survey_every_s=1800.0
        )
        for record in records:
            ring.add(record, clock.now())
            if not isinstance(record, Tick):
                continue
            incidents.add(Moment(record.at_s, clock.now()), following.add(record, ring.known))
            if record.n % 360 == 0:
                memory.append(round(rss_mib(), 2))
                held = sum(read_segment.bytes for read_segment in read_segments(folder / "ring"))
                ring_bytes = max(ring_bytes, held)
                print(record.at_s / 3600, memory[-1], ring_bytes, flush=True)
        tree.close()
        kept = read_incidents(folder / "incidents")
    result = {
        "date": time.strftime("%Y-%m-%d"),
        "hours": hours,
        "incidents": len(kept),
        "rss_mib_by_hour": memory,
        "ring_bytes_most": ring_bytes,
        "took_s": round(time.monotonic() - began_s),
    }
    REPORT.write_text(json.dumps(result, indent=1) + "\n")
    print(json.dumps(result))


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 24.0)
