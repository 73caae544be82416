"""How often a comparison is right: pairs of captures with a known change, and without one.

Run it with ``make pairs``; it writes docs/pairs.json, which ``make accuracy`` puts into its page.
Model computers of 60 s each: the same one twice with another seed of chance, and once more with a
program that takes from 10 points of a resource on.
"""

import json
import multiprocessing
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

import msgspec
from drawn import random_scenario

from dunmist.compare import Examined, compare
from dunmist.jobs.judge import judge
from dunmist.jobs.patient import capture_patient
from dunmist.simulation.scenario import ProgramSpec

REPORT = Path(__file__).parent.parent / "docs" / "pairs.json"
# nothing was tuned on these
FIRST_SEED, PAIRS, SPAN_S = 60_000, 100, 60.0
POINTS = (0.10, 0.5)
# whether a fault is on in each of the captures of this computer
LIVE = (False, False, True, True, False, False, True, False)
LIVE_S, LIVE_SETTLE_S = 12, 2.0
LATER = "2031-05-14T18:00:00+01:00"


def with_more(scenario, chance):
    """Return a scenario with a program that takes a known part of the CPUs."""
    machine = scenario.machine
    processors = machine.packages * machine.cores * machine.threads_per_core
    points = chance.uniform(*POINTS)
    more = ProgramSpec(
        "auk-added",
        user="isbister",
        parent="cliff-desktop",
        pattern="steady",
        demand_cores=min(1.0, points * processors),
        peers=round(points * processors) if points * processors > 1 else 0,
        cgroup="/user.slice/auk.scope",
    )
    return msgspec.structs.replace(scenario, programs=[*scenario.programs, more])


def at(scenario, started):
    """Return the same computer at another hour."""
    machine = msgspec.structs.replace(scenario.machine, started=started)
    return msgspec.structs.replace(scenario, machine=machine)


def one_pair(seed):
    """Return what two pairs of one computer came to."""
    chance, scenario = random.Random(seed), random_scenario(8 * seed + 7)
    examined = []
    with tempfile.TemporaryDirectory() as folder:
        for index, (item, hour) in enumerate(
            (
                (scenario, scenario.machine.started),
                (scenario, LATER),
                (with_more(scenario, chance), LATER),
            )
        ):
            path = Path(folder) / f"{index}.jsonl.gz"
            capture_patient(at(item, hour), path, SPAN_S, seed=seed + index)
            result = judge(path, looks_for_bad_window=False)
            examined.append(Examined(result.series, result.diagnosis))
    same, more = compare(examined[0], examined[1]), compare(examined[0], examined[2])
    used = [
        difference.after - difference.before
        for difference in more.differences
        if (difference.figure.what, difference.figure.resource) == ("used", "cpu")
        and difference.is_clear
    ]
    points = [float(item.series.machine.used.mean()) for item in (examined[0], examined[2])]
    return {
        "seed": seed,
        "wrong": len(same.clear),
        "answer": same.answer,
        "points": points[1] - points[0],
        "found": bool(used),
        "up": bool(used) and used[0] > 0,
    }


def live_pairs():
    """Yield what was expected of pairs on this computer, and what was said."""
    from live import DUNMIST, LOAD

    hog = [sys.executable, str(LOAD), "spin", "4"]
    looks = []
    with tempfile.TemporaryDirectory() as folder:
        for index, busy in enumerate(LIVE):
            fault = subprocess.Popen(hog, start_new_session=True) if busy else None
            time.sleep(LIVE_SETTLE_S)
            path = Path(folder) / f"{index}.jsonl.gz"
            try:
                subprocess.run(
                    [DUNMIST, "capture", "-o", path, "--for", f"{LIVE_S}s"],
                    check=True,
                    stderr=subprocess.DEVNULL,
                )
            finally:
                if fault:
                    os.killpg(fault.pid, signal.SIGKILL)
                    fault.wait()
            result = judge(path, looks_for_bad_window=False)
            looks.append(Examined(result.series, result.diagnosis))
    for index, (before, after) in enumerate(pairwise(looks)):
        was, now = LIVE[index], LIVE[index + 1]
        expected = "no clear change" if was == now else ("worse" if now else "better")
        yield [expected, compare(before, after).answer]


def main(arguments):
    if arguments == ["live"]:
        result = json.loads(REPORT.read_text()) | {"live": list(live_pairs())}
        REPORT.write_text(json.dumps(result, indent=1) + "\n")
        print(result["live"])
        return
    count = int(arguments[0]) if arguments else PAIRS
    with multiprocessing.Pool() as pool:
        pairs = pool.map(one_pair, range(FIRST_SEED, FIRST_SEED + count), chunksize=1)
    changed = [pair for pair in pairs if pair["points"] >= POINTS[0]]
    result = {
        "date": time.strftime("%Y-%m-%d"),
        "span_s": SPAN_S,
        "pairs": len(pairs),
        "wrong": sum(pair["wrong"] > 0 or pair["answer"] != "no clear change" for pair in pairs),
        "changed": len(changed),
        "found": sum(item["found"] for item in changed),
        "right_way": sum(item["up"] for item in changed),
        "live": list(live_pairs()),
    }
    REPORT.write_text(json.dumps(result, indent=1) + "\n")
    print(result)


if __name__ == "__main__":
    main(sys.argv[1:])
