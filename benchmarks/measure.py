"""Measures what a capture, a triage and a report cost, as ratios within one run.

Run it with ``make benchmarks`` as administrator, in a quarter of an hour; it needs a C compiler for
the bare loop. It writes the table of docs/measurements.md, and ends with 1 where a bar is missed.
Nothing here is a test.
"""

import contextlib
import gzip
import json
import os
import resource
import subprocess
import sys
import sysconfig
import tempfile
import time
import zlib
from pathlib import Path

from figures import Figure, record

DUNMIST = str(Path(sysconfig.get_path("scripts")) / "dunmist")
PYTHON = sys.executable
HERE = Path(__file__).parent
PAIRS, REPORT_PAIRS, RUNS = 15, 5, 3
TICKS = 60
TICK, WRITTEN_S = b'{"kind":"tick"', 0.01
# of a computer without a history: where there is one, a capture adds itself to it at its end
STATE = tempfile.TemporaryDirectory(prefix="dunmist-state-")
# as after an installation by pip: modules are compiled once, not at each start
COMPILED = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
COMPILED |= {"XDG_STATE_HOME": STATE.name}
QUIET = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}


def wall_s(command):
    began = time.perf_counter()
    subprocess.run(command, check=True, env=COMPILED, **QUIET)
    return time.perf_counter() - began


def ratios(command, other, pairs=PAIRS):
    """Return command / other, the two run in turns, after a first time."""
    wall_s(command), wall_s(other)
    return [wall_s(command) / wall_s(other) for _ in range(pairs)]


# a process begins with the peak of who started it (exec keeps it), so that has to be a small one
PEAK = """
import os, sys
pid = os.posix_spawn(sys.argv[1], sys.argv[1:], os.environ)
_, status, used = os.wait4(pid, 0)
sys.stderr.write(f"\\n{used.ru_maxrss}")
sys.exit(status != 0)
"""


def peak_mib(command):
    """Return the greatest resident set of a command and of the children that it waited for."""
    starter = [PYTHON, "-I", "-S", "-c", PEAK, *map(str, command)]
    done = subprocess.run(
        starter, env=COMPILED, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False
    )
    if done.returncode:
        raise SystemExit(f"{command}: {done.stderr.decode()}")
    return int(done.stderr.split()[-1]) / 1024


def capture_command(path, ticks, *more):
    return [DUNMIST, "capture", "-o", path, "--force", "--for", f"{ticks}s", "--every", "1s", *more]


@contextlib.contextmanager
def sleepers(count, more=""):
    """Keep a number of idle processes for as long as needed, and until the last one is gone."""
    script = f"i=0; while [ $i -lt {count} ]; do sleep 6000 & i=$((i+1)); done; echo; {more} wait"
    before = alive()
    group = subprocess.Popen(["sh", "-c", script], start_new_session=True, stdout=subprocess.PIPE)
    try:
        group.stdout.readline()
        time.sleep(1)
        yield
    finally:
        os.killpg(group.pid, 15)
        group.wait()
        # whoever inherits them may take its time to wait for them
        until_s = time.monotonic() + 120
        while alive() > before + count // 20 and time.monotonic() < until_s:
            time.sleep(0.2)


def alive():
    return sum(name.isdigit() for name in os.listdir("/proc"))


def used_s(pid):
    """Return the processor time of a process, its threads and its children, ended ones too."""
    used = 0.0
    with contextlib.suppress(OSError):
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        used += (int(fields[13]) + int(fields[14])) / os.sysconf("SC_CLK_TCK")
        for task in Path(f"/proc/{pid}/task").iterdir():
            used += int((task / "schedstat").read_text().split()[0]) / 1e9
            for child in (task / "children").read_text().split():
                used += used_s(int(child))
    return used


def tick_s(path, ticks, *more):
    """Return the processor time of a tick: all from the first tick to the last, by their number."""
    path.unlink(missing_ok=True)
    capture = subprocess.Popen(capture_command(path, ticks, *more), env=COMPILED, **QUIET)
    while not path.exists():
        time.sleep(0.002)
    # the file comes when the first tick is written
    before = used_s(capture.pid)
    # who looks all the time would be somebody who is busy
    time.sleep(ticks - 3)
    seen = []
    while capture.poll() is None:
        seen.append((time.clock_gettime(time.CLOCK_BOOTTIME), used_s(capture.pid)))
        time.sleep(0.02)
    last = last_tick(path)
    done_s = last["uptime_s"] + last["took_s"] + WRITTEN_S
    # one that ended sooner than it was looked at again is counted to its end
    used = next((used for at_s, used in seen if at_s >= done_s), seen[-1][1])
    return (used - before) / ticks


def last_tick(path):
    with gzip.open(path) as lines:
        return json.loads([line for line in lines if line.startswith(TICK)][-1])


def bare_loop(folder):
    loop = folder / "bare_loop"
    subprocess.run(["cc", "-O2", "-o", loop, HERE / "bare_loop.c"], check=True)
    return loop


def tick_cost(folder, processes, most):
    """Compare a tick with the bare loop in C, at the same rhythm and at the same time."""
    loop, found = bare_loop(folder), []
    with sleepers(processes):
        there = alive()
        for _ in range(RUNS):
            # half a second apart
            bare = subprocess.Popen([loop, str(TICKS), "1"], stdout=subprocess.PIPE)
            time.sleep(0.5)
            tick = tick_s(folder / "tick.jsonl.gz", TICKS)
            found.append(tick / float(bare.communicate()[0]))
    yield Figure(
        f"a tick of {there} processes, from the first to the last of {TICKS}, all included, "
        "against the C loop",
        "×",
        found,
        most,
    )


def memory_cost(folder, processes, most):
    with sleepers(processes):
        path = folder / "memory.jsonl.gz"
        found = [peak_mib(capture_command(path, 6)) for _ in range(RUNS)]
        what = f"peak memory of a whole capture, {alive()} processes"
        yield Figure(what, "MiB", found, most)


def ends(folder, runs=20):
    """Measure from Enter to the first tick, and from the last one to the prompt."""
    path, begins, finishes = folder / "ends.jsonl.gz", [], []
    for _ in range(runs):
        path.unlink(missing_ok=True)
        bare = wall_s([PYTHON, "-c", "pass"])
        began_s, grown_s, size = time.perf_counter(), [], 0
        capture = subprocess.Popen(capture_command(path, 6), env=COMPILED, **QUIET)
        while capture.poll() is None:
            now = path.stat().st_size if path.exists() else 0
            if now != size:
                grown_s.append(time.perf_counter() - began_s)
                size = now
            time.sleep(0.001)
        # the last growth but one is the last tick, the last one the survey after it
        begins.append(grown_s[0] / bare)
        finishes.append((time.perf_counter() - began_s - grown_s[-2]) / bare)
    yield Figure("from Enter to the first tick, against `python -c pass`", "×", begins, 6)
    yield Figure("from the last tick to the prompt, against the same", "×", finishes, 6)


COUNT_MODULES = """
import atexit, sys
import click, msgspec
before = set(sys.modules)
def tell():
    came = set(sys.modules) - before
    print(len(came), sum(name.startswith("dunmist") for name in came), file=sys.stderr)
atexit.register(tell)
from dunmist.cli.main import run
run()
"""


def modules(folder):
    command = capture_command(folder / "modules.jsonl.gz", 2)[1:]
    told = subprocess.run(
        [PYTHON, "-c", COUNT_MODULES, *command],
        check=True,
        capture_output=True,
        text=True,
        env=COMPILED,
    )
    came, own = map(float, told.stderr.split()[-2:])
    yield Figure("modules that a capture imports beside click and msgspec", "", [came], 110)
    yield Figure("our own among them", "", [own], 60)


def report_cost(capture):
    """Measure what a report takes beyond the triage, against what any picture takes."""
    for form, most_s in (("html", 1.2), ("pdf", 1.5)):
        report = [DUNMIST, "report", capture, "-o", capture.with_name(f"r.{form}"), "--force"]
        seconds, shares = [], []
        wall_s(report)
        for _ in range(REPORT_PAIRS):
            whole, triage = wall_s(report), wall_s([DUNMIST, "triage", capture])
            seconds.append(whole - triage)
            shares.append(seconds[-1] / wall_s([PYTHON, "-c", "import matplotlib.pyplot"]))
        yield Figure(f"a report as {form.upper()} after the triage", "s", seconds, most_s)
        yield Figure("the same against `import matplotlib.pyplot`", "×", shares)


def capture_cost(folder):
    path, shares, wholes = folder / "own.jsonl.gz", [], []
    for _ in range(RUNS):
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        subprocess.run(capture_command(path, 20), check=True, env=COMPILED, **QUIET)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        whole_s = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
        shares.append(100 * machine_facts(path)["own_cores"])
        wholes.append(100 * whole_s / 20)
    yield Figure("a capture at 1 s, of one core while sampling", "%", shares, 1)
    yield Figure("the same with start and end of the program", "%", wholes)


def file_size(folder, idle=270, busy=30):
    """Measure what a tick adds to the file: between the ends of its first tick and its last."""
    more = f"i=0; while [ $i -lt {busy} ]; do (while :; do sleep 0.7; done) & i=$((i+1)); done;"
    path = folder / "size.jsonl.gz"
    with sleepers(idle, more):
        subprocess.run(capture_command(path, 20), check=True, env=COMPILED, **QUIET)
        there = alive()
    places = tick_ends(path.read_bytes())
    each = (places[-2] - places[1]) / (len(places) - 3) / there
    yield Figure(f"bytes of a capture for a process and tick, {there} of them", "", [each], 12)


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


def code_cost(folder, pairs=3):
    """Measure what sampling code takes: captures with and without it in turns."""
    path, found = folder / "code.jsonl.gz", {(): [], ("--no-code",): []}
    watched = subprocess.Popen([PYTHON, "-c", WATCHED], start_new_session=True)
    try:
        with sleepers(300):
            time.sleep(2)
            for _ in range(pairs):
                for more, facts in found.items():
                    subprocess.run(
                        capture_command(path, 20, *more), check=True, env=COMPILED, **QUIET
                    )
                    facts.append(machine_facts(path))
    finally:
        os.killpg(watched.pid, 15)
        watched.wait()
    cores, mib = (
        [each[name] - other[name] for each, other in zip(*found.values(), strict=True)]
        for name in ("own_cores", "own_rss_bytes")
    )
    shares = [100 * more for more in cores]
    yield Figure("code of eight programs beside 300, of one core more", "%", shares, 0.3)
    yield Figure("memory for it", "MiB", [more / 2**20 for more in mib], 3)


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

    nobody = [PYTHON, str(HERE.parent / "tests" / "as_nobody.py")]
    folder.chmod(0o777)
    for rights, command in (("as administrator", [DUNMIST]), ("without privilege", nobody)):
        storm = subprocess.Popen([PYTHON, "-c", STORM])
        time.sleep(1)
        path = folder / f"storm-{len(command)}.jsonl.gz"
        subprocess.run(
            [*command, "capture", "-o", path, "--for", "30s"], check=True, stderr=subprocess.DEVNULL
        )
        storm.wait()
        given_s, counted_s = attributed_cpu_s(load_series(path))
        least = 99 if len(command) == 1 else 95
        # what is missing, as a bar is what may be at most
        missed = max(0.0, 100 - 100 * given_s / counted_s)
        yield Figure(
            f"CPU time that is attributed to nobody in a storm of programs, {rights}",
            "%",
            [missed],
            100 - least,
        )


def tick_ends(packed):
    """Return how many packed bytes it takes to read each tick to its end."""
    unzip = zlib.decompressobj(31)
    ends, line = [], b""
    for position in range(len(packed)):
        line += unzip.decompress(packed[position : position + 1])
        *whole, line = line.split(b"\n")
        ends += [position + 1 for item in whole if item.startswith(TICK)]
    return ends


def model_cost(folder):
    from growth_patients import grown

    from dunmist.jobs.patient import capture_patient

    path = folder / "crowd.jsonl.gz"
    began = time.process_time()
    capture_patient(grown(processes=300, each=1), path)
    yield Figure(
        "a capture of a model computer, 30 ticks of 300 processes, the model included",
        "s",
        [time.process_time() - began],
        3,
    )
    found = ratios([DUNMIST, "triage", path], [PYTHON, "-c", "import pandas"])
    yield Figure("`dunmist triage` of it, against `import pandas`", "×", found, 0.85)
    yield from report_cost(path)


def measured(folder):
    found = ratios([DUNMIST, "--help"], [PYTHON, "-c", "import click"])
    yield Figure("`dunmist --help`, against `import click`", "×", found, 1.2)
    demo = [DUNMIST, "demo", "-o", folder / "demo", "--force"]
    yield Figure("`dunmist demo`, a full example", "s", [wall_s(demo) for _ in range(RUNS)], 15)
    yield from model_cost(folder)
    yield from ends(folder)
    yield from modules(folder)
    yield from memory_cost(folder, 300, 30)
    yield from memory_cost(folder, 3000, 45)
    yield from tick_cost(folder, 1000, 1.2)
    yield from tick_cost(folder, 300, 2)
    yield from capture_cost(folder)
    yield from file_size(folder)
    yield from code_cost(folder)
    yield from coverage(folder)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        record("benchmarks", measured(Path(name)))
