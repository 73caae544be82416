"""The same live faults, captured by the program and by the collector at the same time.

Run it with ``python benchmarks/same_truth.py``; it writes docs/same_truth.json. A case agrees
when limiting resource and first culprit are the same; figures are the ratio of the two.
"""

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from live import CASES, DUNMIST, HERE, end, started_in

from dunmist.elsewhere.script import collector_script
from dunmist.jobs.judge import judge

REPORT = HERE.parent / "docs" / "same_truth.json"
SPAN_S = 10


def seen_twice(case):
    """Return the triage by the program and by the collector."""
    with tempfile.TemporaryDirectory(dir=HERE, prefix="live-") as folder:
        fault, place = started_in(folder, case.start), Path(folder)
        try:
            time.sleep(case.settle_s)
            far = subprocess.Popen(["sh", "-s"], stdin=subprocess.PIPE,
                                   stdout=(place / "far.txt").open("wb"))  # fmt: skip
            far.stdin.write(collector_script("0" * 16, SPAN_S, 1.0).encode())
            far.stdin.close()
            subprocess.run([DUNMIST, "capture", "-o", place / "near.jsonl.gz", "--for",
                            f"{SPAN_S}s"], check=True, stderr=subprocess.DEVNULL)  # fmt: skip
            far.wait(30)
        finally:
            end(fault, folder)
            subprocess.run(["sh", "-c", case.stop], cwd=folder, check=False,
                           stderr=subprocess.DEVNULL)  # fmt: skip
        subprocess.run([DUNMIST, "capture", "--from", place / "far.txt", "-o",
                        place / "far.jsonl.gz"], check=True, stderr=subprocess.DEVNULL)  # fmt: skip
        return judge(place / "near.jsonl.gz"), judge(place / "far.jsonl.gz")


def first(judged):
    return judged.triage.culprits[0].name if judged.triage.culprits else None


def ratio(near, far):
    return round(far / near, 3) if near and far else None


def main(names):
    rows = []
    for case in CASES:
        if names and not any(name in case.name for name in names):
            continue
        near, far = seen_twice(case)
        verdicts = [(one.triage.verdict.limiting, first(one)) for one in (near, far)]
        machines = [one.series.machine for one in (near, far)]
        rows.append({
            "case": case.name, "same": verdicts[0] == verdicts[1], "here": verdicts[0],
            "by_shell": verdicts[1],
            "processors": ratio(*(one.busy_cores.mean() for one in machines)),
            "memory": ratio(*(one.memory_bytes("MemAvailable").median() for one in machines)),
        })  # fmt: skip
        print(json.dumps(rows[-1]), flush=True)
    same = sum(row["same"] for row in rows)
    print(f"{same} of {len(rows)} the same")
    if not names:
        found = {"date": time.strftime("%Y-%m-%d"), "same": same, "rows": rows}
        REPORT.write_text(json.dumps(found, indent=1) + "\n")


if __name__ == "__main__":
    main(sys.argv[1:])
