"""How soon a verdict is sure, and whether it is then the one of the whole 30 s.

Run it with ``make early``; it writes docs/early.json, which ``make accuracy`` puts into its page.
Model computers of seeds that nothing was tuned on, the patients, and the captures of live faults in
a folder that is named. Looks fall as they do beside a capture; borderline cases (strength within
0.15 of 1) are counted apart.
"""

import json
import multiprocessing
import sys
import tempfile
import time
from pathlib import Path

from drawn import random_scenario

from dunmist.diagnosis import diagnose, is_decided
from dunmist.jobs.judge import examined, load
from dunmist.jobs.patient import capture_patient
from dunmist.series import Part
from dunmist.simulation import load_scenario, scenario_names

REPORT = Path(__file__).parent.parent / "docs" / "early.json"
FIRST_SEED, COUNT, BORDERLINE = 80_000, 240, 0.15
# a look takes a fifth of a second, and then it rests for four
LOOKS_S = (5, 9, 13, 17, 21, 25, 29)


def said(result):
    first = result.culprits[0].name if result.culprits else None
    return result.level, result.limiting, first


def outcome(name, path, strength):
    """Return when a capture was sure, what was said then, and what all of it says."""
    whole, before, sure_s, early = examined(path), None, None, None
    for at_s in LOOKS_S:
        result = diagnose(load(path, Part(0.0, at_s + 0.5)))
        limits = result.limits.sure
        now = said(result)
        likely = not result.culprits or result.confidence >= limits.confidence_least
        if at_s >= limits.least_s and now == before and likely and is_decided(result):
            sure_s, early = at_s, now
            break
        before = now
    return {
        "name": name,
        "strength": strength,
        "sure_s": sure_s,
        "whole": said(whole),
        "same": early is None or early == said(whole),
        "early": early,
    }


def of_model(key):
    scenario = random_scenario(key) if isinstance(key, int) else load_scenario(key)
    with tempfile.TemporaryDirectory() as folder:
        path = capture_patient(scenario, Path(folder) / "x.jsonl.gz")
        return outcome(str(key), path, scenario.truth.strength)


def of_file(path):
    return outcome(path.stem, path, None)


def main(arguments):
    keys = [*scenario_names(), *range(FIRST_SEED, FIRST_SEED + COUNT)]
    live = sorted(Path(arguments[0]).glob("*.gz")) if arguments else []
    with multiprocessing.Pool() as pool:
        result = [*pool.imap(of_model, keys, chunksize=1), *pool.imap(of_file, live, chunksize=1)]
    clear = [
        item
        for item in result
        if item["strength"] is None or abs(item["strength"] - 1) > BORDERLINE
    ]
    sick = [item for item in clear if item["whole"][1] is not None]
    soon = sorted(item["sure_s"] or 30 for item in sick)
    report = {
        "date": time.strftime("%Y-%m-%d"),
        "cases": len(result),
        "clear": len(clear),
        "live": len(live),
        "same": sum(item["same"] for item in clear),
        "sick": len(sick),
        "sick_within_10_s": sum(at_s <= 10 for at_s in soon),
        "sick_median_s": soon[len(soon) // 2],
        "well_median_s": sorted(item["sure_s"] or 30 for item in clear if item not in sick)[
            (len(clear) - len(sick)) // 2
        ],
        "others": [item for item in result if not item["same"]],
    }
    REPORT.write_text(json.dumps(report, indent=1) + "\n")
    print(json.dumps(report, indent=1))


if __name__ == "__main__":
    main(sys.argv[1:])
