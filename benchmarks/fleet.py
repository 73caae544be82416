"""How fast a fleet is triaged, how much a worker and the client hold, and what two workers bring.

Run it with ``python benchmarks/fleet.py [COUNT]``: model captures of 30 ticks and 300 processes.
The speed-up of two workers over one is held against that of two bare triage processes over one in
the same run. It prints one line of JSON. ``python benchmarks/fleet.py client`` runs the program
itself on 1,000 and on 10,000 small captures of 500 computers, and says what the client held.
"""

import gzip
import json
import multiprocessing
import resource
import statistics
import subprocess
import sys
import sysconfig
import tempfile
import time
from pathlib import Path

import msgspec

from dunmist.fleet.capture_locations import find
from dunmist.fleet.capture_record import record_of
from dunmist.fleet.engine import Engine, records
from dunmist.jobs.patient import capture_patient
from dunmist.simulation import load_scenario

DISTINCT, PROCESSES = 12, 250
FEW, ROUNDS = 60, 5
SMALL, COMPUTERS = (1000, 10_000), 500
DUNMIST = str(Path(sysconfig.get_path("scripts")) / "dunmist")


def capture(place):
    folder, number = place
    scenario = load_scenario("ringing-office" if number % 2 else "calm-morning")
    resting = next(spec for spec in scenario.programs if spec.name == "ring-recovery")
    crowd = msgspec.structs.replace(resting, name="roosting", peers=PROCESSES, demand_cores=0.001)
    crowded = msgspec.structs.replace(scenario, programs=[*scenario.programs, crowd])
    return capture_patient(crowded, Path(folder) / f"model-{number}.jsonl.gz", seed=number)


def small_capture(place):
    folder, number = place
    scenario = load_scenario("ringing-office" if number % 2 else "calm-morning")
    return capture_patient(scenario, Path(folder) / f"small-{number}.jsonl.gz", 5.0, seed=number)


def copies(models, folder, count, computers=None):
    """Write so many captures that all differ, of a few; of so many computers, else each of one."""
    texts = [gzip.decompress(path.read_bytes()).split(b"\n", 1) for path in models]
    for number in range(count):
        header, rest = texts[number % len(texts)]
        words = json.loads(header)
        words["machine"]["host"] = f"desk-{number % (computers or count):05}"
        words["note"] = f"look {number}"
        data = json.dumps(words).encode() + b"\n" + rest
        (folder / f"desk-{number:05}.jsonl.gz").write_bytes(gzip.compress(data, 1))


def peak_mib(_found):
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def engine_rate(result, workers):
    began, first, count, held = time.monotonic(), None, 0, 0.0
    for record in records(Engine(workers), iter(result), measured):
        # the start of the workers is no part of a rate
        first = first or time.monotonic()
        count += 1
        assert record.capture.trouble is None, record.capture.trouble
        held = max(held, record.capture.used.get("worker_mib", 0.0))
    return (count - 1) / (time.monotonic() - first), time.monotonic() - began, held


def measured(result):
    record = record_of(result)
    used = {**record.capture.used, "worker_mib": peak_mib(result)}
    return msgspec.structs.replace(
        record, capture=msgspec.structs.replace(record.capture, used=used)
    )


def bare(paths):
    for path in paths:
        record_of(path)


def bare_rate(result, processes):
    context = multiprocessing.get_context("spawn")
    parts = [result[place::processes] for place in range(processes)]
    with context.Pool(processes) as pool:
        pool.map(bare, [part[:1] for part in parts], chunksize=1)
        began = time.monotonic()
        pool.map(bare, parts, chunksize=1)
        return len(result) / (time.monotonic() - began)


def speed_ups(few):
    """Return what two bring over one: bare processes, and the engine; with the rate of bare ones.

    In turns, because the machine is not the same from minute to minute.
    """
    rates = [
        (bare_rate(few, 1), engine_rate(few, 1)[0], bare_rate(few, 2), engine_rate(few, 2)[0])
        for _ in range(ROUNDS)
    ]
    bare_one, item, bare_two, two = map(statistics.median, zip(*rates, strict=True))
    return bare_two / bare_one, two / item, bare_two


def peak_of(pid):
    """Return the peak resident set of a process alone, None once it has ended."""
    try:
        text = Path(f"/proc/{pid}/status").read_text()
    except OSError:
        return None
    line = next((line for line in text.splitlines() if line.startswith("VmHWM:")), None)
    return int(line.split()[1]) / 1024 if line else None


def client_growth():
    with tempfile.TemporaryDirectory() as folder:
        with multiprocessing.get_context("spawn").Pool() as pool:
            models = pool.map(small_capture, [(folder, number) for number in range(DISTINCT)])
        for count in SMALL:
            many = Path(folder) / f"many-{count}"
            many.mkdir()
            copies(models, many, count, COMPUTERS)
            began, peak_mib = time.monotonic(), 0.0
            client = subprocess.Popen(
                [DUNMIST, "fleet", many, "-o", Path(folder) / f"out-{count}"],
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            while client.poll() is None:
                peak_mib = peak_of(client.pid) or peak_mib
                time.sleep(0.2)
            took_s = time.monotonic() - began
            result = {
                "captures": count,
                "computers": COMPUTERS,
                "client_mib": round(peak_mib),
                "a_second": round(count / took_s, 1),
                "status": client.returncode,
            }
            print(json.dumps(result), flush=True)


def main():
    if sys.argv[1:] == ["client"]:
        client_growth()
        return
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    with tempfile.TemporaryDirectory() as folder:
        many = Path(folder) / "many"
        many.mkdir()
        with multiprocessing.get_context("spawn").Pool() as pool:
            models = pool.map(capture, [(folder, number) for number in range(DISTINCT)])
        copies(models, many, count)
        result = list(find([str(many)]))
        bare_speed_up, speed_up, bare_two = speed_ups(result[:FEW])
        two, whole_s, worker_mib = engine_rate(result, 2)
        result = {
            "captures": count,
            "a_second": round(two, 2),
            "seconds": round(whole_s, 1),
            "worker_mib": round(worker_mib),
            "client_mib": round(peak_mib(None)),
            "speed_up": round(speed_up, 2),
            "speed_up_of_bare_processes": round(bare_speed_up, 2),
            "bare_a_second": round(bare_two, 2),
            "kib_each": round(sum(path.stat().st_size for path in many.iterdir()) / count / 1024),
        }
        print(json.dumps(result))


if __name__ == "__main__":
    main()
