"""Measures what docs/measurements.md states, as ratios within one run where machines are noisy.

Run it with ``make benchmarks``; it needs a C compiler for the bare loop. With the argument ``long``
it also makes and triages a capture of an hour, which takes some minutes. Nothing here is a test.
"""

import contextlib
import json
import os
import resource
import statistics
import subprocess
import sys
import sysconfig
import tempfile
import time
import zlib
from pathlib import Path

DUNMIST = str(Path(sysconfig.get_path("scripts")) / "dunmist")
HERE = Path(__file__).parent
ROUNDS = 15


# as after an installation by pip: modules are compiled once, not at each start
COMPILED = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}


def wall_s(command):
    began = time.perf_counter()
    subprocess.run(
        command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=COMPILED
    )
    return time.perf_counter() - began


def ratio(command, other):
    """Return the median of command / other, the two run in turns, after a first time."""
    wall_s(command), wall_s(other)
    pairs = [(wall_s(command), wall_s(other)) for _ in range(ROUNDS)]
    return statistics.median(a for a, _ in pairs) / statistics.median(b for _, b in pairs)


def say(what, figure, bar=""):
    print(f"{what:<62} {figure:>12}   {bar}", flush=True)


def capture_cost(folder):
    path = folder / "own.jsonl.gz"
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(
        [DUNMIST, "capture", "-o", path, "--for", "20s", "--every", "1s"],
        check=True,
        stderr=subprocess.DEVNULL,
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    whole_s = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    values = machine_facts(path)
    say(
        "capture at 1 s, share of one core while sampling",
        f"{100 * values['own_cores']:.2f} %",
        "under 1 %",
    )
    say("the same with start and end of the program", f"{100 * whole_s / 20:.2f} %")
    say(
        "resident memory while sampling",
        f"{values['own_rss_bytes'] / 2**20:.1f} MiB",
        "under 30 MiB",
    )


def tick_cost(folder, processes=1000, rounds=20):
    """Compare whole ticks over many processes with the bare loop in C, in CPU time."""
    from dunmist.computer import Root, read_inventory, read_machine
    from dunmist.sampling import Plan
    from dunmist.sampling.clock import SystemClock
    from dunmist.sampling.pace import Due
    from dunmist.sampling.sources import read_round
    from dunmist.sampling.tick_context import OpenComputer

    loop = folder / "bare_loop"
    subprocess.run(["cc", "-O2", "-o", loop, HERE / "bare_loop.c"], check=True)
    with sleepers(processes):
        while sum(name.isdigit() for name in os.listdir("/proc")) < processes:
            time.sleep(0.1)
        root, plan = Root(Path("/")), Plan(3600.0, 1.0)
        computer = OpenComputer(root, read_machine(root), read_inventory(root), SystemClock())
        ratios, tick = [], 0

        def look():
            nonlocal tick
            read_round(computer, Due(tick, tick, tick, 0), plan, 1.0)
            tick += 1

        began = time.process_time()
        look()
        first_s = time.process_time() - began
        look()
        for _ in range(9):
            bare_s = float(
                subprocess.run([loop, str(rounds)], check=True, capture_output=True).stdout
            )
            began = time.process_time()
            for _ in range(rounds):
                look()
            ratios.append((time.process_time() - began) / rounds / bare_s)
        alive = sum(name.isdigit() for name in os.listdir("/proc"))
        computer.close()
        say(
            f"one tick, everything read, {alive} processes, against the C loop",
            f"{statistics.median(ratios):.2f} ×",
            "at most 1.2 ×, of 300 2 ×",
        )
        say("the first tick, which reads what is dear of every process", f"{first_s:.2f} s")


@contextlib.contextmanager
def sleepers(count, more=""):
    """Keep a number of idle processes for as long as needed."""
    script = f"i=0; while [ $i -lt {count} ]; do sleep 600 & i=$((i+1)); done; {more} wait"
    group = subprocess.Popen(["sh", "-c", script], start_new_session=True)
    try:
        yield
    finally:
        os.killpg(group.pid, 15)
        group.wait()


def file_size(folder, idle=270, busy=30):
    """Measure what a tick adds to the file: between the ends of its first tick and its last."""
    more = f"i=0; while [ $i -lt {busy} ]; do (while :; do sleep 0.7; done) & i=$((i+1)); done;"
    path = folder / "size.jsonl.gz"
    with sleepers(idle, more):
        time.sleep(1)
        subprocess.run(
            [DUNMIST, "capture", "-o", path, "--for", "20s", "--every", "1s"],
            check=True,
            stderr=subprocess.DEVNULL,
        )
        alive = sum(name.isdigit() for name in os.listdir("/proc"))
    ends = tick_ends(path.read_bytes())
    each = (ends[-2] - ends[1]) / (len(ends) - 3) / alive
    say(
        f"capture file, bytes per process and tick ({alive} processes)", f"{each:.1f}", "at most 12"
    )
    own = machine_facts(path)["own_rss_bytes"]
    say("resident memory with as many processes", f"{own / 2**20:.1f} MiB", "under 30 MiB")


# eight programs that keep a twentieth of a CPU each in a loop of a script
WATCHED = """
import os, time
for _ in range(7):
    if os.fork() == 0:
        break
while True:
    until = time.thread_time() + 0.002
    while time.thread_time() < until:
        pass
    time.sleep(0.038)
"""


def code_cost(folder, pairs=4):
    """Measure what sampling code takes: captures with and without it in turns."""
    path, found = folder / "code.jsonl.gz", {(): [], ("--no-code",): []}
    watched = subprocess.Popen([sys.executable, "-c", WATCHED], start_new_session=True)
    try:
        with sleepers(300):
            time.sleep(2)
            for _ in range(pairs):
                for more, facts in found.items():
                    command = [DUNMIST, "capture", "-o", path, "--force", "--for", "20s", *more]
                    subprocess.run(command, check=True, stderr=subprocess.DEVNULL)
                    facts.append(machine_facts(path))
    finally:
        os.killpg(watched.pid, 15)
        watched.wait()
    cores, mib = (
        [each[name] - other[name] for each, other in zip(*found.values(), strict=True)]
        for name in ("own_cores", "own_rss_bytes")
    )
    text = (
        f"{100 * statistics.median(cores):.2f} % ({100 * min(cores):.2f} to {100 * max(cores):.2f})"
    )
    say("code of eight programs beside 300, share of one core more", text, "at most 0.3 %")
    say("memory for it", f"{statistics.median(mib) / 2**20:.1f} MiB", "at most 3 MiB")


def machine_facts(path):
    shown = subprocess.run(
        [DUNMIST, "view", "machine", path, "--json"], check=True, capture_output=True
    )
    return {row["fact"]: row["value"] for row in json.loads(shown.stdout)["machine"]}


STORM = """
import os, subprocess, time
end = time.monotonic() + 36
while time.monotonic() < end:
    subprocess.run(["/bin/sh", "-c", "i=0; while [ $i -lt 30 ]; do /bin/true; i=$((i+1)); done"])
"""


def coverage(folder):
    """Measure what share of busy time is attributed while short programs start without end."""
    from dunmist.diagnosis import attributed_cpu_s
    from dunmist.series import load_series

    nobody = [sys.executable, str(HERE.parent / "tests" / "as_nobody.py")]
    folder.chmod(0o777)
    for rights, command in (("as administrator", [DUNMIST]), ("without privilege", nobody)):
        storm = subprocess.Popen([sys.executable, "-c", STORM])
        time.sleep(1)
        path = folder / f"storm-{len(command)}.jsonl.gz"
        subprocess.run(
            [*command, "capture", "-o", path, "--for", "30s"], check=True, stderr=subprocess.DEVNULL
        )
        storm.wait()
        given_s, counted_s = attributed_cpu_s(load_series(path))
        say(
            f"CPU time attributed in a fork storm, {rights}",
            f"{100 * given_s / counted_s:.1f} %",
            "99 %" if len(command) == 1 else "95 %",
        )


def tick_ends(packed):
    """Return how many packed bytes it takes to read each tick to its end."""
    unzip = zlib.decompressobj(31)
    ends, line = [], b""
    for position in range(len(packed)):
        line += unzip.decompress(packed[position : position + 1])
        *whole, line = line.split(b"\n")
        ends += [position + 1 for item in whole if item.startswith(b'{"kind":"tick"')]
    return ends


def crowded_patient(processes):
    """Return the ringing office's computer with many more idle services."""
    import msgspec

    from dunmist.simulation import load_scenario

    patient = load_scenario("ringing-office")
    spare = next(program for program in patient.programs if program.name == "weather-mast")
    held = sum(1 + program.peers for program in patient.programs)
    more = [
        msgspec.structs.replace(
            spare,
            name=f"gull-{number}",
            listens=[],
            private_mib=4.0,
            cgroup=f"/system.slice/gull-{number}.service",
        )
        for number in range(processes - held)
    ]
    return msgspec.structs.replace(patient, programs=[*patient.programs, *more])


def model_cost(folder):
    from dunmist.jobs.patient import capture_patient

    path = folder / "crowd.jsonl.gz"
    began = time.process_time()
    capture_patient(crowded_patient(300), path)
    say(
        "capture of a model computer, 30 ticks of 300 processes",
        f"{time.process_time() - began:.1f} s",
        "under 3 s",
    )
    say(
        "dunmist triage of it, against python -c 'import pandas'",
        f"{ratio([DUNMIST, 'triage', path], [sys.executable, '-c', 'import pandas']):.2f} ×",
        "at most 0.7 ×",
    )


def long_captures(folder, spans_s=(900.0, 3600.0)):
    """Triage captures of 500 processes: memory stays bounded, time grows with the length."""
    from dunmist.jobs.patient import capture_patient

    for span_s in spans_s:
        path = folder / f"long-{span_s:.0f}.jsonl.gz"
        capture_patient(crowded_patient(500), path, span_s)
        began = time.perf_counter()
        done = subprocess.Popen([DUNMIST, "triage", path], stdout=subprocess.DEVNULL)
        _, _, used = os.wait4(done.pid, 0)
        done.returncode = 0
        say(
            f"triage of {span_s / 60:.0f} min of 500 processes",
            f"{time.perf_counter() - began:.1f} s, {used.ru_maxrss / 1024:.0f} MiB",
            "6 s, 150 MiB for an hour",
        )


def main(arguments):
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        python = sys.executable
        say(
            "dunmist --help, against python -c 'import click'",
            f"{ratio([DUNMIST, '--help'], [python, '-c', 'import click']):.2f} ×",
            "at most 1.3 ×",
        )
        began = time.perf_counter()
        subprocess.run(
            [DUNMIST, "demo", "-o", folder / "demo"],
            check=True,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        say("dunmist demo", f"{time.perf_counter() - began:.1f} s", "under 15 s")
        capture = folder / "demo" / "capture.jsonl.gz"
        say(
            "dunmist triage (30 ticks), against python -c 'import pandas'",
            f"{ratio([DUNMIST, 'triage', capture], [python, '-c', 'import pandas']):.2f} ×",
            "at most 0.7 ×",
        )
        capture_cost(folder)
        tick_cost(folder)
        tick_cost(folder, processes=300)
        file_size(folder)
        code_cost(folder)
        coverage(folder)
        model_cost(folder)
        if "long" in arguments:
            long_captures(folder)


if __name__ == "__main__":
    main(sys.argv[1:])
