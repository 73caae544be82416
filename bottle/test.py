"""Runs the cases in the bottle and writes docs/bottle.json; ``make bottle-test``.

The built wheel is installed inside, captures are taken inside with the program of the wheel, and
judged outside, where computing is not three times slower. With arguments only those cases run whose
names have one of them, and what they come to takes the place of what stands there.
"""

import gzip
import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
from build import HERE, build, said
from cases import ALWAYS, CASES, PROGRAMS, SHELL
from machine import PROCESSORS, Bottle
from steps import step_outcomes

from dunmist.captures import CaptureReader
from dunmist.jobs.judge import judge
from dunmist.sampling import Tick

RESULT = HERE.parent / "docs" / "bottle.json"
CAPTURE = "/tmp/case.jsonl.gz"
# the manager counts the headers of what was sent as well
EXACT_SHARE = {"cores": 0.02, "disk": 0.02, "memory": 0.05, "sent": 0.03}
SECTOR_BYTES = 512
CAPTURE_LONGEST_S = 400.0
AGENT = "bottle-agent"
# the boot time is known to a second; a program whose share of a CPU varies by so much is as busy
SINCE_S, SINCE_SHARE, SINCE_SHARPNESS = 3.0, 0.85, 1.3
# the first ticks are there by then
SLEEP_AFTER_S = 12.0


def furnish(bottle, wheel):
    """Install the wheel and the programs of the cases, and switch swap on."""
    bottle.write(f"/root/{wheel.name}", wheel.read_bytes())
    bottle.do(
        "/opt/dunmist/bin/pip install -q --no-deps --no-index --force-reinstall"
        f" /root/{wheel.name};"
        " ln -sf /opt/dunmist/bin/dunmist /usr/local/bin/; mkswap -q /dev/nvme0n1;"
        " swapon /dev/nvme0n1",
        longest_s=300,
    )
    load = b"#!/usr/bin/python3\n" + (HERE / "load.py").read_bytes()
    drive = (HERE / "failing_drive.py").read_bytes()
    bottle.write("/usr/local/bin/failing-drive", b"#!/usr/bin/python3\n" + drive, 0o755)
    for name in PROGRAMS:
        bottle.write(f"/usr/local/bin/{name}", load, 0o755)


def run_case(bottle, case):
    """Return what a case came to; it is right when ``wrong`` is empty."""
    outcome = {"name": case.name, "wanted": case.limiting, "culprits": case.culprits, "wrong": []}
    began_s = time.monotonic()
    try:
        captured_and_judged(bottle, case, outcome)
    except (RuntimeError, ValueError) as error:
        outcome["wrong"].append(str(error))
    finally:
        bottle.run(SHELL + case.stop)
        outcome["took_s"] = round(time.monotonic() - began_s)
    return outcome


def captured_and_judged(bottle, case, outcome):
    """Capture a case inside, judge it outside, and add to its outcome what came of it."""
    bottle.do(SHELL + case.start)
    time.sleep(case.settle_s)
    counted = {kind: before(bottle, kind, unit) for kind, unit in case.exact.items()}
    # the emulated processor is slow, and the case is not about who samples it
    command = f"dunmist capture -o {CAPTURE} --force --for {case.span_s}s"
    if case.priority:
        command = f"nice -n {case.priority} {command}"
    meanwhile(bottle, case.meanwhile)
    if case.meanwhile and case.meanwhile.startswith("@sleep"):
        sleeps = f"(sleep {SLEEP_AFTER_S:g}; echo mem > /sys/power/state)"
        command = f"{sleeps} >/dev/null 2>&1 & {command}; code=$?; wait; exit $code"
    bottle.run(f"rm -f {CAPTURE}", longest_s=30)
    done = bottle.run(command, person=case.person, longest_s=CAPTURE_LONGEST_S)
    if done.status != 0:
        raise RuntimeError(f"capture ended with {done.status}: {done.err.strip()[-200:]}")
    after = {kind: before(bottle, kind, unit) for kind, unit in case.exact.items()}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(os.environ.get("BOTTLE_KEEP", folder)) / f"{case.name}.jsonl.gz"
        path.write_bytes(bottle.read(CAPTURE))
        judged = judge(path)
        if "cores" in case.exact:
            counted["cores"], after["cores"] = group_count(path, case.exact["cores"])
        if "disk" in case.exact:
            counted["disk"], after["disk"] = disk_count(path)
    outcome |= found_in(judged)
    outcome["culprits"] = to_blame(case, outcome["limiting"])
    outcome["wrong"] += wrong(case, judged)
    outcome["wrong"] += of_first(bottle, case, judged)
    if case.then and bottle.run(SHELL + case.then).status != 0:
        outcome["wrong"].append(f"{case.then} failed")
    for kind, unit in case.exact.items():
        outcome.setdefault("exact", []).append(
            exact(kind, unit, counted[kind], after[kind], judged, outcome["wrong"])
        )


def meanwhile(bottle, what):
    """Stop the whole computer for a while, or wake it from its sleep, from outside."""
    for word, act in (("@stop", bottle.stop_for), ("@sleep", bottle.wake_after)):
        if what and what.startswith(word):
            seconds = float(what.split()[1])
            threading.Timer(SLEEP_AFTER_S, act, (seconds,)).start()


def found_in(judged):
    """What the triage says, in short."""
    triage = judged.triage
    return {
        "limiting": triage.verdict.limiting,
        "level": triage.verdict.level,
        "confidence": triage.verdict.confidence,
        "headline": triage.verdict.headline,
        "named": [culprit.name for culprit in triage.culprits],
        "findings": sorted({finding.kind for finding in triage.findings}),
    }


def to_blame(case, limiting):
    """Return who may be named first with what limits: nobody in the other state of a case."""
    return case.culprits if limiting or case.or_limiting is None else ()


def wrong(case, judged):
    """Return in words what is not as the truth has it."""
    triage = judged.triage
    named = [culprit.name for culprit in triage.culprits]
    text = json.dumps(
        [shown(triage.verdict), *map(shown, triage.findings), *map(shown, triage.culprits)]
    )
    limiting = triage.verdict.limiting
    if limiting not in (case.limiting, case.or_limiting):
        yield f"limiting is {limiting}, truth {case.limiting}"
    culprits = to_blame(case, limiting)
    if culprits and (not named or not any(named[0].startswith(item) for item in culprits)):
        yield f"first named is {named[:1]}, truth {list(culprits)}"
    if not culprits and named:
        yield f"{named} named, and nobody is to blame"
    for name in set(case.not_named) & set(named):
        yield f"{name} named"
    for kind, word in case.must.items():
        about = [json.dumps(shown(finding)) for finding in triage.findings if finding.kind == kind]
        if not any(word in item for item in about):
            yield f"no finding {kind} that speaks of {word!r}"
    for word in case.names:
        if word not in text:
            yield f"nothing speaks of {word!r}"
    for name, word in case.doing.items():
        told = [told for told in doing_of(judged, name) if word in told]
        if not told:
            yield f"{name} is doing {doing_of(judged, name)}, truth {word!r}"
    for path, value in case.facts.items():
        place = (
            judged.series.surveyed if path.startswith("last.") else judged.series.header.inventory
        )
        result = fact(place, path)
        if result != value:
            yield f"{path} is {result}, truth {value}"
    allowed = ALWAYS | set(case.must) | case.may
    for result in triage.findings:
        # who carries the orders into the bottle is there in no other computer
        is_agent = AGENT in (result.subject or "")
        if result.severity != "note" and result.kind not in allowed and not is_agent:
            yield f"false finding {result.kind}: {result.text}"


def doing_of(judged, name):
    """Return what a program is said to do, nothing where it was not seen."""
    named = [item for item in judged.series.applications if item.name == name]
    cases = [case for item in named if (case := judged.cases.of(item)) is not None]
    return [told.text for case in cases for told in case.doing]


def of_first(bottle, case, judged):
    """Return what is not so of since when it is as it is, and of what changed."""
    culprits = judged.triage.culprits
    found = [item for item in judged.triage.findings if item.kind == case.began_of]
    if case.began and (found or culprits):
        began_s = float(bottle.do(f"cat {case.began}"))
        boot_s = judged.series.header.machine.boot_time_s
        truth_s = judged.series.surveyed.ended_s - boot_s - began_s
        since = (found or culprits)[0].since
        if since is None:
            yield f"nothing says since when, truth {truth_s:.0f} s"
        elif not since.at_least_s - SINCE_S <= truth_s <= since.at_most_s / SINCE_SHARE + SINCE_S:
            yield f"at it for {since.at_least_s} to {since.at_most_s} s, truth {truth_s:.0f} s"
        elif since.at_most_s > SINCE_SHARPNESS * truth_s + SINCE_S:
            yield f"at it for at most {since.at_most_s} s tells little, truth {truth_s:.0f} s"
    texts = [fact.text for culprit in culprits[:1] for fact in culprit.evidence]
    if case.changed and not any(case.changed in text for text in texts):
        yield f"nothing speaks of {case.changed!r} in {texts}"


def fact(about, path):
    """Return what lies at a path of names and places in the inventory."""
    for step in path.split("."):
        try:
            about = about[int(step)] if step.isdigit() else getattr(about, step)
        except IndexError:
            return None
    return about


def shown(part):
    """Return a part of the triage as plain values."""
    import msgspec

    return msgspec.to_builtins(part)


def before(bottle, kind, unit):
    """Read the moment and the count of a unit that the kernel or the service manager keeps."""
    group = f"/sys/fs/cgroup/system.slice/{unit}.service"
    script = {
        # the capture has the count of the group itself, and that of the disk
        "cores": "echo 0",
        "disk": "echo 0",
        "memory": f"awk '/^anon / {{ print $2 }}' {group}/memory.stat",
        "sent": f"systemctl show -P IPEgressBytes {unit}",
    }[kind]
    moment_s, count = bottle.do(f"cut -d' ' -f1 /proc/uptime; {script}").split()[:2]
    return float(moment_s), float(count)


def group_count(path, unit):
    """Return moment and count of a unit's group at the second and at the last tick, in µs.

    The kernel's own count of all tasks of the group, which no figure of the program rests on.
    """
    counts = []
    with gzip.open(path, "rt") as lines:
        for tick in map(json.loads, lines):
            for group in tick.get("groups", ()) if tick["kind"] == "tick" else ():
                if group[0].endswith(f"/{unit}.service"):
                    moment_s = tick["at_s"] + tick.get("after_ms", {}).get("groups", 0) / 1e3
                    counts.append((moment_s, float(group[2])))
    if len(counts) < 3:
        raise ValueError(f"{len(counts)} readings of {unit}, too few to compare")
    # while the long first tick is read the recorder works, and the others get less
    return counts[1], counts[-1]


def disk_count(path):
    """Return moment and count of what was read from the busiest disk, at the first and last tick.

    The kernel counts it for the disk, and for processes by themselves.
    """
    by_disk = {}
    with CaptureReader(path) as reader:
        for line in reader.lines():
            if isinstance(line, Tick):
                moment_s = line.at_s + line.after_s("disks")
                for disk in line.disks:
                    read_bytes = disk.read_sectors * SECTOR_BYTES
                    by_disk.setdefault(disk.name, []).append((moment_s, read_bytes))
    return max(
        ((counts[0], counts[-1]) for counts in by_disk.values()),
        key=lambda ends: ends[1][1] - ends[0][1],
    )


def exact(kind, unit, first, last, judged, wrong):
    """Hold what the capture says of a unit against the count of others, a second."""
    if kind == "memory":
        held = sum(
            application.private_bytes.last() or 0.0
            for application in judged.series.applications
            if application.unit == f"{unit}.service"
        )
        return compared(kind, unit, held, last[1], wrong)
    counted = (last[1] - first[1]) / (last[0] - first[0]) / (1e6 if kind == "cores" else 1)
    rates = {"cores": "cores", "disk": "read_bytes_per_s", "sent": "sent_bytes_per_s"}
    since = 1 if kind == "cores" else 0
    said_rate = sum(
        np.average(
            getattr(application, rates[kind]).values[since:],
            weights=judged.series.line.interval_s[since:],
        )
        for application in judged.series.applications
        if application.unit == f"{unit}.service"
    )
    return compared(kind, unit, said_rate, counted, wrong)


def compared(kind, unit, told, counted, wrong):
    """Return how far a figure is off, and say so where that is too much."""
    off = told / counted - 1 if counted else 1.0
    if abs(off) > EXACT_SHARE[kind]:
        wrong.append(f"{kind} of {unit}: {told:.4g}, counted {counted:.4g}")
    return {"figure": kind, "unit": unit, "off": round(off, 4)}


def main(names):
    place = build()
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run(
            [
                sys.executable,
                "-m",
                "pip",
                "wheel",
                "-q",
                "--no-deps",
                "-w",
                folder,
                str(HERE.parent),
            ],
            check=True,
            stderr=subprocess.DEVNULL,
        )
        (wheel,) = Path(folder).glob("*.whl")
        said("switching it on (about a minute)")
        with Bottle(place) as bottle:
            furnish(bottle, wheel)
            about = {
                "date": datetime.now(UTC).date().isoformat(),
                "kernel": bottle.do("uname -r").strip(),
                "processors": PROCESSORS,
                "emulated": True,
                "service_manager": bottle.do("systemctl --version | head -n 1").strip(),
            }
            outcomes = []
            for case in CASES:
                if names and not any(name in case.name for name in names):
                    continue
                outcomes.append(run_case(bottle, case))
                tell(outcomes[-1])
            outcomes += [outcome for outcome in step_outcomes(bottle, names) if tell(outcome)]
    bad = sum(bool(outcome["wrong"]) for outcome in outcomes)
    print(f"{len(outcomes) - bad} right, {bad} wrong")
    if names and RESULT.exists():
        outcomes = merged(json.loads(RESULT.read_text())["cases"], outcomes)
    RESULT.write_text(json.dumps({**about, "cases": outcomes}, indent=1) + "\n")
    return 0


def merged(before, now):
    """Return all outcomes, those of now in the place of those of the same name."""
    new = {outcome["name"]: outcome for outcome in now}
    kept = [new.pop(outcome["name"], outcome) for outcome in before]
    return [*kept, *new.values()]


def tell(outcome):
    """Print one outcome as it comes."""
    print(f"{'wrong' if outcome['wrong'] else 'right'}  {outcome['name']} ({outcome['took_s']} s)")
    for line in outcome["wrong"]:
        print(f"       {line}")
    sys.stdout.flush()
    return True


if __name__ == "__main__":
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    sys.exit(main(sys.argv[1:]))
