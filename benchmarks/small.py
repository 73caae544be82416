"""The smallest computer: one CPU, 512 MiB and a card as slow as the cheapest as its disk.

It is the computer in the bottle, whose emulated processor is some three times slower than the real
one and takes thirty times as long for a system call: times have no bars there. Run it with ``make
small``; CONTRIBUTING.md says what that takes. It writes the table of docs/measurements.md.
"""

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from figures import Figure, record

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent / "bottle"))

from build import build  # noqa: E402 - of the room beside this one
from machine import Bottle  # noqa: E402
from test import furnish  # noqa: E402

MEMORY_MIB, DISK_BYTES_PER_S = 512, 10 << 20
TICKS = 20
CAPTURE = "/root/small.jsonl.gz"
# how far a program counts in so many seconds, which is what the owner of the computer wants of it
COUNTS = f"""
import time
count, end = 0, time.monotonic() + {TICKS}
while time.monotonic() < end:
    for _ in range(1000): count += 1
print(count)
"""
TIMED = "/usr/bin/python3 /root/timed.py "
TIMER = b"""
import json, resource, subprocess, sys, time
began = time.monotonic()
status = subprocess.call(sys.argv[1:], stdout=open("/root/out", "wb"))
used = resource.getrusage(resource.RUSAGE_CHILDREN)
print(json.dumps({"status": status, "s": time.monotonic() - began,
    "cpu_s": used.ru_utime + used.ru_stime, "mib": used.ru_maxrss / 1024}))
"""


def measured(bottle):
    bottle.write("/root/timed.py", TIMER)
    bottle.write("/root/counts.py", COUNTS.encode())
    alone = float(bottle.do("/usr/bin/python3 /root/counts.py", longest_s=120))
    command = f"dunmist capture -o {CAPTURE} --force --for {TICKS}s"
    beside = bottle.do(
        f"{TIMED}{command} > /root/told & sleep 3; /usr/bin/python3 /root/counts.py; wait",
        longest_s=240,
    )
    told = json.loads(bottle.do("cat /root/told"))
    what = "a capture beside a program that takes the only CPU: status"
    yield Figure(what, "", [told["status"]], 0)
    yield Figure(f"it takes, with start and end, {TICKS} s of ticks in it", "s", [told["s"]])
    yield Figure("its peak memory", "MiB", [told["mib"]], 30)
    less = 100 * (1 - float(beside.split()[-1]) / alone)
    yield Figure("what the other program gets less done meanwhile", "%", [less])
    facts = bottle.do(f"dunmist view machine {CAPTURE} --json", longest_s=120)
    rows = {row["fact"]: row["value"] for row in json.loads(facts)["machine"]}
    cores = 100 * rows["own_cores"]
    yield Figure("what it takes of that CPU between first and last tick", "%", [cores])
    yield Figure("ticks that were missed", "", [float(rows["ticks_missed"])], 0)
    yield Figure("ticks that were late", "", [float(rows["ticks_late"])])
    told = json.loads(bottle.do(f"{TIMED}dunmist triage {CAPTURE} --json", longest_s=240))
    yield Figure("a triage there: status", "", [told["status"]], 0)
    yield Figure("it takes", "s", [told["s"]])
    yield Figure("its peak memory, of what the computer has", "MiB", [told["mib"]], MEMORY_MIB / 2)
    print(json.loads(bottle.read("/root/out"))["verdict"]["headline"])


def main():
    place = build()
    with tempfile.TemporaryDirectory() as folder:
        wheel = [sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "-w", folder]
        subprocess.run([*wheel, str(HERE.parent)], check=True, stderr=subprocess.DEVNULL)
        (made,) = Path(folder).glob("*.whl")
        with Bottle(place, MEMORY_MIB, 1, DISK_BYTES_PER_S) as bottle:
            furnish(bottle, made)
            record("small", measured(bottle))


if __name__ == "__main__":
    main()
