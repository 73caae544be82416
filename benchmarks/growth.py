"""How cost grows with the size of a computer, at both ends of a capture.

Ticks are taken of real sleeping processes, control groups and sockets of this kernel, and of the
threads of one process. Triage, report and first screen are made of model computers of up to 512
CPUs, 40,000 processes, 200,000 sockets, 400 disks and 2,000 services. Each cost is fitted as a
power of the size, from the second size on: the exponent may be 1.05 at most.

Run it with ``make growth`` as administrator, in some forty minutes on a computer that does nothing
else; ``make growth KINDS='model-CPUs …'`` runs a part of it. Each kind has a table of its own in
docs/measurements.md.
"""

import contextlib
import math
import os
import pty
import resource
import select
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import msgspec
from figures import Figure, keep, say
from growth_patients import grown
from measure import COMPILED, DUNMIST, PYTHON, alive, peak_mib, sleepers, tick_ends, tick_s

from dunmist.captures import CaptureReader, CaptureWriter
from dunmist.computer import Unit
from dunmist.jobs.patient import capture_patient
from dunmist.sampling import Survey

TICKS, EXPONENT_MOST, TOLD_FROM = 20, 1.05, 1.5
TIMES = 3  # all is done so often
PAGE_MOST_MB, SCREEN_LINES, SCREEN_COLUMNS = 2.0, 40, 120
# what of a large model is held to a bar: 30 ticks of 40,000 processes
LARGEST_S, LARGEST_MIB = 12.0, 600.0

SOCKETS = """
import resource, socket, sys, time
count = int(sys.argv[1])
resource.setrlimit(resource.RLIMIT_NOFILE, (resource.getrlimit(resource.RLIMIT_NOFILE)[1],) * 2)
kept = [socket.create_server(("127.0.0.1", 0), backlog=128)]
while len(kept) < count:
    end = socket.create_connection(kept[0].getsockname())
    kept += [end, kept[0].accept()[0]]
print(flush=True)
time.sleep(6000)
"""
THREADS = """
import sys, threading, time
threading.stack_size(65536)
for _ in range(int(sys.argv[1])):
    threading.Thread(target=time.sleep, args=(6000,), daemon=True).start()
print(flush=True)
while True:
    until = time.thread_time() + 0.2
    while time.thread_time() < until: pass
    time.sleep(0.1)
"""
# so many descriptors a process may have in most places
SOCKETS_EACH = 9000


def growth(what, sizes, rounds):
    """Return the power with which a cost grows from the second size on, once for each round.

    A straight line through the logarithms; ``rounds`` has the costs of all sizes, once each. What
    hardly grows has no power that could be told from the noise of a measurement: then by how much
    it grows is told.
    """
    grown_by = [100 * (costs[-1] / costs[0] - 1) for costs in rounds]
    if statistics.median(grown_by) < 100 * (TOLD_FROM - 1):
        return Figure(f"{what}: all that it grows by", "%", grown_by, 100 * (TOLD_FROM - 1))
    logarithms = [math.log(size) for size in sizes[1:]]
    powers = [
        statistics.linear_regression(logarithms, list(map(math.log, costs[1:]))).slope
        for costs in rounds
    ]
    return Figure(f"{what}: exponent", "", powers, EXPONENT_MOST)


@contextlib.contextmanager
def helpers(script, count, each):
    """Keep a number of things in as many helping processes as it takes."""
    parts = [min(each, count - done) for done in range(0, count, each)]
    started = [
        subprocess.Popen([PYTHON, "-c", script, str(part)], stdout=subprocess.PIPE)
        for part in parts
    ]
    try:
        for one in started:
            one.stdout.readline()
        time.sleep(1)
        yield
    finally:
        for one in started:
            one.kill()
            one.wait()


@contextlib.contextmanager
def grouped(count):
    """Keep so many sleeping processes, each in a control group of its own."""
    home = next(
        path for path in (Path("/sys/fs/cgroup/cpu"), Path("/sys/fs/cgroup")) if path.is_dir()
    )
    groups = [home / f"dunmist-bench-{number}" for number in range(count)]
    with sleepers(count):
        pids = subprocess.run(["pgrep", "-x", "sleep"], check=True, capture_output=True, text=True)
        for group, pid in zip(groups, pids.stdout.split(), strict=False):
            group.mkdir(exist_ok=True)
            (group / "cgroup.procs").write_text(pid)
        try:
            yield
        finally:
            for pid in pids.stdout.split():
                with contextlib.suppress(OSError):
                    (home / "cgroup.procs").write_text(pid)
    for group in groups:
        with contextlib.suppress(OSError):
            group.rmdir()


def tick_bytes(path):
    """Return what a tick takes in a capture, without the first and the last one."""
    places = tick_ends(path.read_bytes())
    return (places[-2] - places[1]) / (len(places) - 3)


def of_this_kernel(folder, kind):
    sizes, keep_up = REAL[kind]
    costs, sizes_bytes = [], []
    path = folder / "growth.jsonl.gz"
    for size in sizes:
        with keep_up(size):
            found = [(1e3 * tick_s(path, TICKS), tick_bytes(path)) for _ in range(TIMES)]
            there = alive()
        costs.append([cost for cost, _ in found])
        sizes_bytes.append([of_tick for _, of_tick in found])
        yield Figure(f"a tick with {size:,} {kind}, {there:,} processes in all", "ms", costs[-1])
        yield Figure("bytes of it", "", sizes_bytes[-1])
    yield growth(f"a tick by {kind}", sizes, list(zip(*costs, strict=True)))
    yield growth(f"its bytes by {kind}", sizes, list(zip(*sizes_bytes, strict=True)))


def with_services(path, count):
    """Give a capture so many services and timers more, as a service manager lists them."""
    lines = list(_lines(path))
    units = [
        Unit(
            f"gull-{number}.{'timer' if number % 4 == 0 else 'service'}",
            about=f"counts gulls of ledge {number}",
            active="active",
            sub="running",
            starts="enabled",
        )
        for number in range(count)
    ]
    with CaptureWriter(path, force=True) as writer:
        for line in lines:
            is_survey = isinstance(line, Survey)
            writer.write(
                msgspec.structs.replace(line, units=[*line.units, *units]) if is_survey else line
            )


def _lines(path):
    with CaptureReader(path) as reader:
        yield reader.header
        yield from reader.lines()


def cost(command):
    """Return processor time and peak memory of a command and its children."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    mib = peak_mib(command)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, mib


def alternately(commands):
    """Return the costs of each command, one a round: a machine that gets slower does so for all."""
    rounds = [[cost(command) for command in commands] for _ in range(TIMES)]
    return list(zip(*rounds, strict=True))


def screen_lines(path):
    """Return how many lines the first screen has on a terminal."""
    ours, theirs = pty.openpty()
    environment = COMPILED | {"LINES": str(SCREEN_LINES), "COLUMNS": str(SCREEN_COLUMNS)}
    child = subprocess.Popen(
        [DUNMIST, "triage", path], stdout=theirs, stderr=subprocess.DEVNULL, env=environment
    )
    os.close(theirs)
    text = b""
    while select.select([ours], [], [], 600)[0]:
        try:
            more = os.read(ours, 65536)
        except OSError:
            break  # the other end is closed
        text += more
    child.wait()
    os.close(ours)
    return text.count(b"\n")


REAL = {
    "processes": ((100, 1250, 2500, 5000), sleepers),
    "groups": ((100, 1250, 2500, 5000), grouped),
    "threads": ((10, 1250, 2500, 5000), lambda count: helpers(THREADS, count, count)),
    "sockets": ((10, 12_500, 25_000, 50_000), lambda count: helpers(SOCKETS, count, SOCKETS_EACH)),
}
MODELS = {
    "CPUs": ("cpus", (1, 8, 64, 256, 512)),
    "processes": ("processes", (100, 10_000, 20_000, 40_000)),
    "sockets": ("sockets", (1000, 50_000, 100_000, 200_000)),
    "disks": ("disks", (1, 100, 200, 400)),
    "services": (None, (20, 500, 1000, 2000)),
}


def of_models(folder, kind):
    name, sizes = MODELS[kind]
    paths = []
    for size in sizes:
        path = folder / f"{kind}-{size}.jsonl.gz"
        capture_patient(grown(**({name: size} if name else {})), path, force=True)
        if name is None:
            with_services(path, size)
        paths.append(path)
    triages = alternately([[DUNMIST, "triage", path] for path in paths])
    reports = alternately(
        [[DUNMIST, "report", path, "-o", path.with_suffix(".html"), "--force"] for path in paths]
    )
    for size, path, triage, report in zip(sizes, paths, triages, reports, strict=True):
        yield from _of_model(path, kind, size, triage, report)
    for what, costs in (("triage", triages), ("report", reports)):
        seconds = [[each for each, _ in of_size] for of_size in costs]
        yield growth(f"a {what} by {kind}", sizes, list(zip(*seconds, strict=True)))


def _of_model(path, kind, size, triage, report):
    is_largest = (kind, size) == ("processes", MODELS["processes"][1][-1])
    what = f"triage of a model computer with {size:,} {kind}"
    triage_s, triage_mib = zip(*triage, strict=True)
    report_s, report_mib = zip(*report, strict=True)
    yield Figure(what, "s", list(triage_s), LARGEST_S if is_largest else None)
    yield Figure("memory for it", "MiB", [max(triage_mib)], LARGEST_MIB if is_largest else None)
    yield Figure("its report", "s", list(report_s))
    yield Figure("memory for that", "MiB", [max(report_mib)])
    page_bytes = path.with_suffix(".html").stat().st_size
    yield Figure("size of the page", "MB", [page_bytes / 1e6], PAGE_MOST_MB)
    lines = [float(screen_lines(path))]
    yield Figure("lines of its first screen", "", lines, float(SCREEN_LINES))


def main():
    kinds = {f"real-{kind}": (of_this_kernel, kind) for kind in REAL}
    kinds |= {f"model-{kind}": (of_models, kind) for kind in MODELS}
    is_reached = True
    for name in sys.argv[1:] or kinds:
        measure, kind = kinds[name]
        with tempfile.TemporaryDirectory() as folder:
            figures = [say(figure) for figure in measure(Path(folder), kind)]
        is_reached &= keep(f"growth KINDS={name}", figures)
    sys.exit(not is_reached)


if __name__ == "__main__":
    main()
