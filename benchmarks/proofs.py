"""How often an experiment is right: faults started for real, each with a decoy with it.

Run it with ``make proofs`` as administrator; it writes docs/proofs.json, which ``make accuracy``
puts into its page. The culprit that the triage names is to be proven, the decoy never. With
arguments only faults run whose names have one of them.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

from live import DUNMIST, FAR, HERE, LOAD, NO_FAR, end, started_in

from dunmist.errors import DunmistError
from dunmist.jobs.judge import judge
from dunmist.jobs.prove import design_for, prove_suspect, why_unprovable
from dunmist.jobs.selection import choose_culprit, choose_owner_of

REPORT = HERE.parent / "docs" / "proofs.json"
SPAN_S = 20.0
# programs of a person, who is held up, and what only looks guilty
OWN = {
    "nest-call": "import time\nwhile True:\n    sum(range(100000)); time.sleep(0.005)\n",
    "dunlin-beat": "import time\nwhile True:\n    end = time.monotonic() + 0.02\n"
    "    while time.monotonic() < end: pass\n    time.sleep(0.08)\n",
    "wren-look": "import mmap, os, random, sys, time\nfile = os.open(sys.argv[1], os.O_RDONLY |"
    " os.O_DIRECT)\nroom = mmap.mmap(-1, 4096)\nwhile True:\n"
    "    os.preadv(file, [room], random.randrange(9000) * 4096); time.sleep(0.1)\n",
    "moult.sh": "while :; do :; done\n",
    "shift.sh": "while :; do timeout 0.3 auk-count spin; done\n",
}
SOUND = "head -c 300M /dev/urandom > sound; sync sound"
EACH = "while :; do /bin/true; done"
BEAT, CALL, LIGHT = "dunlin-beat", "nest-call", "nice -n 19 tern-map spin"
LOOK = "wren-look sound"
SEND = "gannet-relay serve 9001 & sleep 1; eider-copy send 127.0.0.1 9001 500"
TBF = "tc qdisc add dev near0 root tbf rate 20mbit burst 32k latency 100ms; "


class Fault(NamedTuple):
    """A fault with somebody whom it holds up, and a decoy."""

    name: str
    start: str
    decoy: str
    stop: str = ":"
    before: str = ":"


FAULTS = (
    Fault("three processes", "auk-count spin 3", BEAT),
    Fault("four processes", "auk-count spin 4", LIGHT),
    Fault("six processes", "auk-count spin 6", CALL),
    Fault("twelve processes", "auk-count spin 12", BEAT),
    Fault(
        "threads that wait, and three that work",
        "skua-log one_of_many 200 & auk-count spin 3",
        "skua-log one_of_many 200",
    ),
    Fault("two programs of one kind", "auk-count spin 2 & auk-count spin 2", BEAT),
    Fault("low priority with work", f"{LIGHT} 4 & auk-count spin 4", LIGHT),
    Fault(
        "short programs by four shells", f"for n in 1 2 3 4; do sh -c '{EACH}' & done; wait", BEAT
    ),
    Fault(
        "short programs by eight shells",
        f"for n in $(seq 8); do sh -c '{EACH}' & done; wait",
        LIGHT,
    ),
    Fault(
        "a program from standard input", "for n in 1 2 3 4; do sh < bin/moult.sh & done; wait", BEAT
    ),
    Fault(
        "children of a third of a second", "for n in 1 2 3 4; do sh bin/shift.sh & done; wait", BEAT
    ),
    Fault(
        "a program from a pipe",
        f"for n in 1 2 3; do cat {LOAD} | {sys.executable} - spin & done; wait",
        CALL,
    ),
    Fault("threads at once", f"exec {sys.executable} {HERE}/faults/threads_at_once.py", BEAT),
    Fault("work of somebody else", "setpriv --reuid=65534 auk-count spin 4", CALL),
    Fault("two programs that take as much", "auk-count spin 4 & auk-count spin 1", LIGHT),
    Fault(
        "reads of a full queue",
        "for n in $(seq 6); do eider-copy read sound 300 & done; wait",
        LOOK,
        before=SOUND,
    ),
    Fault(
        "reads by three",
        "for n in 1 2 3; do eider-copy read sound 300 & done; wait",
        LOOK,
        before=SOUND,
    ),
    Fault(
        "small pieces, each waited for",
        "for n in 1 2 3 4; do skua-log write book$n 16 & done; wait",
        LOOK,
        before=SOUND,
    ),
    Fault("writes with work", "for n in $(seq 6); do skua-log write book$n 64 & done; wait", BEAT),
    Fault(
        "a full line",
        f"{FAR} {TBF} plover-feed send 10.9.0.2 9000",
        "eider-copy send 10.9.0.2 9000 50",
        NO_FAR,
    ),
    Fault(
        "a full line of four connections",
        f"{FAR} {TBF} for n in 1 2 3 4; do plover-feed send 10.9.0.2 9000 & done; wait",
        "eider-copy send 10.9.0.2 9000 50",
        NO_FAR,
    ),
)


def outcome_of(fault):
    """Start a fault with its decoy, and return what was said of both."""
    with tempfile.TemporaryDirectory(dir=HERE, prefix="live-") as folder:
        subprocess.run(["sh", "-c", fault.before], cwd=folder, check=True)
        session = started_in(
            folder,
            f"nest-call & ({fault.start}) & sleep 2.5; {fault.decoy} & echo $! > decoy; wait",
            OWN,
        )
        try:
            time.sleep(5.0)
            path = Path(folder) / "before.jsonl.gz"
            subprocess.run(
                [DUNMIST, "capture", "-o", path, "--for", "6s", "--every", "0.5s"],
                check=True,
                stderr=subprocess.DEVNULL,
            )
            judged = judge(path)
            decoy = choose_owner_of(judged, int((Path(folder) / "decoy").read_text()))
            named = [culprit.name for culprit in judged.diagnosis.culprits]
            result = {
                "fault": fault.name,
                "limiting": judged.diagnosis.limiting,
                "named": named[:2],
            }
            if named:
                result["culprit"] = said_of(choose_culprit(judged, 1))
            result["decoy"] = said_of(decoy)
            return result
        finally:
            end(session, folder)
            subprocess.run(
                ["sh", "-c", fault.stop], cwd=folder, check=False, stderr=subprocess.DEVNULL
            )


def said_of(chosen):
    """Return the answer of an experiment, and its sentence."""
    design = design_for(chosen, SPAN_S)
    unprovable = why_unprovable(chosen, design.phase_s)
    if unprovable:
        return [unprovable, ""]
    try:
        proven = prove_suspect(chosen, design)
    except DunmistError as error:
        return ["refused", str(error)]
    return [proven.proof.answer, proven.text]


def main(names):
    os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="dunmist-proofs-")
    known = json.loads(REPORT.read_text()) if names and REPORT.exists() else []
    result = {item["fault"]: item for item in known}
    for fault in FAULTS:
        if names and not any(name in fault.name for name in names):
            continue
        result[fault.name] = outcome_of(fault)
        print(json.dumps(result[fault.name]), flush=True)
    rows = [result[fault.name] for fault in FAULTS if fault.name in result]
    REPORT.write_text(json.dumps(rows, indent=1) + "\n")


if __name__ == "__main__":
    main(sys.argv[1:])
