"""The same live faults, captured by the program and by the collector at the same time.

Run it with ``python benchmarks/same_truth.py``; it writes docs/same_truth.json, and with parts of
names of cases only those there. A case agrees when limiting resource and first culprit are the
same; figures are the ratio of the two, that of processors over the time that both captures have.
"""

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from live import CASES, DUNMIST, HERE, end, started_in, wait_until_ready

from dunmist.jobs.judge import judge
from dunmist.remote.collector_script import collector_script

REPORT = HERE.parent / "docs" / "same_truth.json"
SPAN_S = 10


def seen_twice(case):
    """Return the triage by the program and by the collector."""
    with tempfile.TemporaryDirectory(dir=HERE, prefix="live-") as folder:
        fault, place = started_in(folder, case.start), Path(folder)
        try:
            wait_until_ready(case, folder)
            far = subprocess.Popen(
                ["sh", "-s"], stdin=subprocess.PIPE, stdout=(place / "far.txt").open("wb")
            )
            far.stdin.write(collector_script("0" * 16, SPAN_S, 1.0).encode())
            far.stdin.close()
            subprocess.run(
                [DUNMIST, "capture", "-o", place / "near.jsonl.gz", "--for", f"{SPAN_S}s"],
                check=True,
                stderr=subprocess.DEVNULL,
            )
            far.wait(30)
        finally:
            end(fault, folder)
            subprocess.run(
                ["sh", "-c", case.stop], cwd=folder, check=False, stderr=subprocess.DEVNULL
            )
        subprocess.run(
            [DUNMIST, "capture", "--from", place / "far.txt", "-o", place / "far.jsonl.gz"],
            check=True,
            stderr=subprocess.DEVNULL,
        )
        return judge(place / "near.jsonl.gz"), judge(place / "far.jsonl.gz")


def first(judged):
    return judged.triage.culprits[0].name if judged.triage.culprits else None


def while_both(judged, since_s, until_s):
    """Return the mean number of busy CPUs between two moments of the computer's uptime."""
    series = judged.series
    moments_s = series.line.at_s + series.machine.uptime_s - series.line.at_s[-1]
    used_s = np.concatenate(
        [[0], np.cumsum(np.nan_to_num(series.machine.busy_cores.values * series.line.interval_s))]
    )
    at = np.interp([since_s, until_s], moments_s, used_s)
    return (at[1] - at[0]) / (until_s - since_s)


def common(*both):
    """Return the span, by uptime, that all captures have, without the start of the last one."""
    lines = [(item.series.line.at_s, item.series.machine.uptime_s) for item in both]
    return (
        max(uptime_s - at_s[-1] + at_s[1] for at_s, uptime_s in lines),
        min(uptime_s for _, uptime_s in lines),
    )


def ratio(near, far):
    return round(far / near, 3) if near and far else None


def main(names):
    rows = []
    for case in CASES:
        if names and not any(name in case.name for name in names):
            continue
        near, far = seen_twice(case)
        verdicts = [(item.triage.verdict.limiting, first(item)) for item in (near, far)]
        machines = [item.series.machine for item in (near, far)]
        busy = [while_both(item, *common(near, far)) for item in (near, far)]
        rows.append(
            {
                "case": case.name,
                "same": verdicts[0] == verdicts[1],
                "here": verdicts[0],
                "by_shell": verdicts[1],
                "processors": ratio(*busy),
                "apart_cores": round(abs(busy[1] - busy[0]), 4),
                "memory": ratio(
                    *(machine.memory_bytes("MemAvailable").median() for machine in machines)
                ),
            }
        )
        print(json.dumps(rows[-1]), flush=True)
    if names and REPORT.exists():
        again = {row["case"]: row for row in rows}
        before = json.loads(REPORT.read_text())["rows"]
        rows = [again.pop(row["case"], row) for row in before] + list(again.values())
    same = sum(row["same"] for row in rows)
    print(f"{same} of {len(rows)} the same")
    result = {"date": time.strftime("%Y-%m-%d"), "same": same, "rows": rows}
    REPORT.write_text(json.dumps(result, indent=1) + "\n")


if __name__ == "__main__":
    main(sys.argv[1:])
