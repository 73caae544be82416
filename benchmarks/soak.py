"""Lets the flight recorder run beside faults that come and go, and holds what it kept against them.

Run it as administrator with ``make soak``: 32 minutes in real time, beside 250 that sleep.
Each fault is to be an incident with the right culprit, no incident without a fault. What it costs
is the kernel's own count of the recorder and of the children that judged. It writes docs/soak.json.
"""

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from live import DUNMIST, EACH, FAR, HERE, NO_FAR, end, started_in

REPORT = HERE.parent / "docs" / "soak.json"
SLEEPERS, ON_S, OFF_S, BEGIN_S = 250, 25.0, 45.0, 30.0
MEMORY = "/sys/fs/cgroup/memory/dunmist-soak"
TICK_CLK = os.sysconf("SC_CLK_TCK")


class Fault(NamedTuple):
    """One that comes and goes; the culprit's name begins with one of ``culprits``."""

    name: str
    start: str
    culprits: tuple[str, ...]
    stop: str = ":"


FAULTS = (
    Fault("four processes", "auk-count spin 4", ("auk-count",)),
    Fault(
        "reads of a full queue",
        "head -c 300M /dev/urandom > sound; for n in 1 2 3 4 5 6; do"
        " eider-copy read sound 300 & done; wait",
        ("eider-copy",),
    ),
    Fault("one thread", "tern-map spin", ("tern-map",)),
    Fault("short programs", f"for n in 1 2 3 4 5; do sh -c '{EACH}' & done; wait", ("sh", "dash")),
    Fault(
        "a full line",
        f"{FAR} tc qdisc add dev near0 root tbf rate 20mbit burst 32k latency"
        " 100ms; plover-feed send 10.9.0.2 9000",
        ("plover-feed",),
        NO_FAR,
    ),
    Fault("twelve processes", "skua-log spin 12", ("skua-log",)),
    Fault(
        "memory of a group runs out",
        f"mkdir {MEMORY}; echo 200M >"
        f" {MEMORY}/memory.limit_in_bytes; echo $$ > {MEMORY}/cgroup.procs;"
        " auk-count hold 300; sleep 99",
        (),
        f"rmdir {MEMORY}",
    ),
)


class Happened(NamedTuple):
    """A fault with its moments, in seconds since 1970."""

    fault: Fault
    began_s: float
    ended_s: float


def cpu_s(pid):
    """Return the CPU time of a process and of its children that ended."""
    words = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    own, children = sum(map(int, words[11:13])), sum(map(int, words[13:15]))
    return own / TICK_CLK, children / TICK_CLK


def rss_mib(pid):
    pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 2**20


def one_fault(fault):
    """Let a fault come and go."""
    with tempfile.TemporaryDirectory(dir=HERE, prefix="live-") as folder:
        session = started_in(folder, fault.start)
        began_s = time.time()
        time.sleep(ON_S)
        end(session, folder)
        ended_s = time.time()
        subprocess.run(["sh", "-c", fault.stop], cwd=folder, check=False, stderr=subprocess.DEVNULL)
    return Happened(fault, began_s, ended_s)


def held_against(happened, kept):
    """Return for each fault what was kept of it, and the incidents that no fault explains."""
    rows, explained = [], set()
    for item in happened:
        overlapping = [
            incident
            for incident in kept
            if datetime.fromisoformat(incident["began"]).timestamp() < item.ended_s + 5
            and datetime.fromisoformat(incident["ended"]).timestamp() > item.began_s - 1
        ]
        explained |= {incident["number"] for incident in overlapping}
        named = [incident.get("culprit") for incident in overlapping]
        right = len(overlapping) == 1 and (
            not item.fault.culprits or (named[0] or "").startswith(item.fault.culprits)
        )
        rows.append(
            {
                "fault": item.fault.name,
                "incidents": len(overlapping),
                "named": named,
                "right": right,
            }
        )
    return rows, [item for item in kept if item["number"] not in explained]


def main(minutes):
    state = Path(tempfile.mkdtemp(prefix="dunmist-soak-"))
    ways = {**os.environ, "XDG_STATE_HOME": str(state), "XDG_RUNTIME_DIR": str(state / "run")}
    sleepers = [subprocess.Popen(["sleep", "99999"]) for _ in range(SLEEPERS)]
    recorder = subprocess.Popen([DUNMIST, "watch", "--plain"], env=ways, stderr=subprocess.PIPE)
    happened, most_mib = [], 0.0
    try:
        time.sleep(BEGIN_S)
        began = time.monotonic(), cpu_s(recorder.pid)
        turn = 0
        while time.monotonic() - began[0] < 60 * minutes:
            happened.append(one_fault(FAULTS[turn % len(FAULTS)]))
            turn += 1
            time.sleep(OFF_S)
            most_mib = max(most_mib, rss_mib(recorder.pid))
            print(happened[-1].fault.name, cpu_s(recorder.pid), most_mib, flush=True)
        span_s, now = time.monotonic() - began[0], cpu_s(recorder.pid)
    finally:
        recorder.send_signal(signal.SIGINT)
        recorder.communicate(timeout=60)
        for sleeper in sleepers:
            sleeper.kill()
            sleeper.wait()
    ring = sum(path.stat().st_size for path in (state / "dunmist/watch/ring").glob("*.gz"))
    kept = [
        json.loads(path.read_text())
        for path in sorted((state / "dunmist/watch/incidents").glob("*.json"))
    ]
    rows, others = held_against(happened, kept)
    result = {
        "date": time.strftime("%Y-%m-%d"),
        "minutes": span_s / 60,
        "faults": len(rows),
        "right": sum(row["right"] for row in rows),
        "without_a_fault": others,
        "own_cores": (now[0] - began[1][0]) / span_s,
        "judging_cores": (now[1] - began[1][1]) / span_s,
        "most_rss_mib": most_mib,
        "ring_mib_per_hour": ring / 2**20 / (span_s + BEGIN_S) * 3600,
        "rows": rows,
    }
    REPORT.write_text(json.dumps(result, indent=1) + "\n")
    print(json.dumps(result, indent=1))
    shutil.rmtree(state)


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 32.0)
