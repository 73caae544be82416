"""Faults started for real on this computer, and what is then true; part of ``make accuracy``.

``start`` is a script of the shell in a session and a folder of its own; programs are those of
``bottle/load.py`` under the names of ``PROGRAMS``. ``stop`` undoes what ending all of them leaves.
With arguments only cases run whose names have one of them: ``python benchmarks/live.py disk``.
"""

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import sysconfig
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

from dunmist.jobs.judge import judge

HERE = Path(__file__).parent
LOAD = HERE.parent / "bottle" / "load.py"
DUNMIST = str(Path(sysconfig.get_path("scripts")) / "dunmist")
SPAN_S, SETTLE_S = 10, 2.0
PROGRAMS = (
    "auk-count",
    "tern-map",
    "skua-log",
    "petrel-index",
    "plover-feed",
    "gannet-relay",
    "dunlin-sums",
    "eider-copy",
)
# true of the computer that this runs on, whatever else is
ALWAYS = {
    "clock-unsynchronised",
    "recent-restart",
    "long-uptime",
    "open-port",
    "steady-background",
    "stolen-time",
}
# what the kernel's log may still tell of what happened before the cases
LOGGED = {"program-crashes", "oom-kill"}
LONGEST_WAIT_S = 120.0
BUSY = frozenset({"cpu-hog", "core-bound", "other-user-load", "kernel-busy"})
DISK = frozenset({"disk-saturated", "blocked-on-disk"})


class Case(NamedTuple):
    """One case: ``limiting`` may be any of those that stand there, ``culprits`` each come first.

    ``must`` are findings with a word of theirs, ``may`` others that are true, ``not_named`` are no
    culprits; ``rights`` says whether it needs those of an administrator. ``ready`` is a command of
    the shell that succeeds once the fault is there; ``settle_s`` are waited for after it.
    """

    name: str
    start: str
    limiting: tuple[str | None, ...]
    culprits: tuple[str, ...] = ()
    must: tuple[tuple[str, str], ...] = ()
    may: frozenset[str] = frozenset()
    not_named: tuple[str, ...] = ()
    stop: str = ":"
    rights: bool = False
    settle_s: float = SETTLE_S
    ready: str = "true"


CPU = "/sys/fs/cgroup/cpu/dunmist-live"
MEMORY = "/sys/fs/cgroup/memory/dunmist-live"
FAR = """ip netns add far && ip link add near0 type veth peer name far0 netns far
ip addr add 10.9.0.1/24 dev near0; ip link set near0 up
ip -n far addr add 10.9.0.2/24 dev far0; ip -n far link set far0 up
ip netns exec far gannet-relay serve 9000 & sleep 1; """
NO_FAR = "ip link del near0; ip netns del far"
WAITERS = "auk-count one_of_many 400"
EACH = "while :; do /bin/true; done"

CASES = (
    Case("one thread", "auk-count spin", ("core",), ("auk-count",), may=BUSY),
    Case(
        "one thread with seven that wait",
        "auk-count one_of_many",
        ("core",),
        ("auk-count",),
        may=BUSY,
    ),
    Case(
        "one thread with 400 that wait",
        WAITERS,
        ("core",),
        ("auk-count",),
        may=BUSY | {"thread-swarm"},
    ),
    Case(
        "the last of 300 threads with one that works a third",
        "auk-count last_of_many",
        ("core",),
        ("auk-count",),
        may=BUSY | {"thread-swarm"},
    ),
    Case(
        "the last of 600 threads with one that works a third",
        "auk-count last_of_many 600",
        ("core",),
        ("auk-count",),
        may=BUSY | {"thread-swarm"},
    ),
    Case("three processes on two CPUs", "auk-count spin 3", ("cpu",), ("auk-count",), may=BUSY),
    Case("four processes", "auk-count spin 4", ("cpu",), ("auk-count",), may=BUSY),
    Case(
        "three processes that may run on one CPU only",
        "taskset -c 0 auk-count spin 3",
        ("core",),
        ("auk-count",),
        must=(("bound-to-cpus", "auk-count"),),
        may=BUSY,
    ),
    Case("twelve processes", "auk-count spin 12", ("cpu",), ("auk-count",), may=BUSY),
    Case(
        "four of one and one of another",
        "auk-count spin 4 & tern-map spin",
        ("cpu",),
        ("auk-count",),
        may=BUSY,
    ),
    Case(
        "400 that wait, and three that work",
        "skua-log one_of_many 400 & auk-count spin 4",
        ("cpu",),
        ("auk-count",),
        may=BUSY | {"thread-swarm"},
    ),
    Case(
        "low priority with work, of one session",
        "nice -n 19 tern-map spin 4 & auk-count spin 4",
        ("cpu",),
        ("auk-count",),
        may=BUSY,
    ),
    Case(
        "short programs by four shells",
        f"for n in 1 2 3 4; do sh -c '{EACH}' & done; wait",
        ("cpu",),
        ("sh", "dash"),
        may=BUSY | {"spawn-storm"},
    ),
    Case(
        "short programs with low priority",
        f"nice -n 19 tern-map spin 4 & for n in 1 2 3 4; do sh -c '{EACH}' & done; wait",
        ("cpu",),
        ("sh", "dash"),
        may=BUSY | {"spawn-storm"},
    ),
    Case(
        "a program from a file as standard input",
        "echo 'while :; do :; done' > moult.sh; for n in 1 2 3; do sh < moult.sh & done; wait",
        ("cpu",),
        ("moult.sh",),
        may=BUSY,
    ),
    Case(
        "another sampler with work",
        f"{DUNMIST} capture -o other.jsonl.gz --for 20s & auk-count spin 4",
        ("cpu",),
        ("auk-count",),
        may=BUSY,
        not_named=("dunmist",),
    ),
    Case(
        "what only calls itself a sampler",
        "mkdir bin; printf 'while :; do :; done' >"
        " bin/dunmist; for n in 1 2 3; do sh bin/dunmist & done; wait",
        ("cpu",),
        ("dunmist",),
        may=BUSY,
    ),
    Case(
        "children that live a third of a second",
        "printf 'while :; do timeout 0.3 auk-count spin; done' > shift.sh;"
        " for n in 1 2 3 4; do sh shift.sh & done; wait",
        ("cpu",),
        ("shift.sh", "sh"),
        may=BUSY | {"spawn-storm"},
    ),
    Case(
        "a program from a pipe",
        f"for n in 1 2 3; do cat {LOAD} | {sys.executable} - spin & done; wait",
        ("cpu",),
        ("python",),
        may=BUSY,
        not_named=("-", "3", "63", "spin"),
    ),
    Case(
        "a script from a descriptor",
        "for n in 1 2 3; do bash -c 'bash <(echo while :\\; do :\\; done)' & done; wait",
        ("cpu",),
        ("bash",),
        may=BUSY,
        not_named=("63", "-", "3"),
    ),
    Case(
        "threads at once",
        f"exec {sys.executable} {HERE}/faults/threads_at_once.py",
        ("cpu",),
        ("threads_at_once.py",),
        may=BUSY | {"thread-swarm"},
    ),
    Case(
        "threads that alternate",
        f"exec {sys.executable} {HERE}/faults/threads_by_turns.py",
        ("core",),
        ("threads_by_turns.py",),
        may=BUSY,
    ),
    Case(
        "work of somebody else",
        "setpriv --reuid=65534 auk-count spin 4",
        ("cpu",),
        ("auk-count",),
        may=BUSY,
        rights=True,
    ),
    Case(
        "a quota that runs out",
        f"mkdir {CPU}; echo 20000 > {CPU}/cpu.cfs_quota_us;"
        f" echo $$ > {CPU}/cgroup.procs; exec auk-count spin",
        (None,),
        must=(("quota-limited", "dunmist-live"),),
        may=BUSY,
        stop=f"rmdir {CPU}",
        rights=True,
    ),
    Case(
        "random reads of a full queue",
        f"exec {sys.executable} {HERE}/faults/full_disk_queue.py",
        ("disk",),
        ("full_disk_queue.py",),
        may=DISK,
    ),
    Case(
        "random reads, one after the other",
        "head -c 300M /dev/urandom > sound; eider-copy read sound 300",
        ("disk",),
        ("eider-copy",),
        may=DISK,
    ),
    Case(
        "small pieces, each waited for",
        "skua-log write book 16",
        ("disk",),
        ("skua-log",),
        may=DISK,
    ),
    Case(
        "a writer with a reader",
        "head -c 300M /dev/urandom > sound; skua-log write book 4 &"
        " for n in 1 2 3 4; do eider-copy read sound 300 & done; wait",
        ("disk",),
        ("eider-copy",),
        may=DISK,
    ),
    Case(
        "memory at the limit of its group",
        f"mkdir {MEMORY}; echo 200M >"
        f" {MEMORY}/memory.limit_in_bytes; echo $$ > {MEMORY}/cgroup.procs;"
        " while :; do auk-count hold 300; done",
        (None, "core"),
        must=(("oom-kill", ""),),
        may=BUSY | {"spawn-storm", "memory-limited", "memory-short"},
        stop=f"rmdir {MEMORY}",
        rights=True,
    ),
    Case(
        "much memory held",
        f"exec {sys.executable} -c 'import mmap,time;"
        " kept = mmap.mmap(-1, 12 << 30, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS |"
        ' mmap.MAP_POPULATE); open("held", "w"); time.sleep(99)\'',
        (None,),
        must=(("memory-hog", "python"),),
        may=BUSY | {"memory-growing"},
        ready="test -e held",
    ),
    Case(
        "memory that grows",
        "auk-count grow 40 4000",
        (None,),
        must=(("memory-growing", "auk-count"),),
    ),
    Case(
        "descriptors that are never closed",
        "ulimit -n 1000; auk-count descriptors 960",
        (None,),
        may=frozenset({"descriptor-leak"}),
        must=(("limit-near", "auk-count"),),
    ),
    Case(
        "children that nobody waits for",
        f"exec {sys.executable} -c 'import os,time\nfor n in"
        " range(60):\n    os.fork() or os._exit(0)\ntime.sleep(99)'",
        (None,),
        must=(("defunct-pile", ""),),
    ),
    Case(
        "a program whose file is gone",
        "cp /bin/sleep ./moult; ./moult 99 & sleep 1; rm moult; wait",
        (None,),
        must=(("deleted-executable", "moult"),),
        may=frozenset({"odd-location"}),
    ),
    Case(
        "a program in a hidden place",
        "mkdir -p /tmp/.cache-x; cp /bin/sleep /tmp/.cache-x/moult; /tmp/.cache-x/moult 99",
        (None,),
        must=(("odd-location", "moult"),),
        stop="rm -r /tmp/.cache-x",
    ),
    Case(
        "a program that calls itself a kernel task",
        f"{sys.executable} -c 'import ctypes,time;"
        ' ctypes.CDLL(None).prctl(15, b"kworker/u8:1"); time.sleep(99)\'',
        (None,),
        must=(("lookalike-name", ""),),
    ),
    Case(
        "three that wait for a lock",
        "auk-count lock key & sleep 1; for n in 1 2 3; do tern-map lock key & done; wait",
        (None,),
        must=(("lock-wait", "tern-map"),),
    ),
    Case(
        "two that listen on one port",
        "printf 'import socket, sys, time\\none = socket.socket()\\none.setsockopt(1, 15, 1)\\n"
        "one.bind((sys.argv[1], 4711))\\none.listen()\\ntime.sleep(99)'"
        f" > west-door; cp west-door east-door; {sys.executable} west-door 0.0.0.0 &"
        f" {sys.executable} east-door 127.0.0.1",
        (None,),
        must=(("port-conflict", "4711"),),
    ),
    Case(
        "a full line",
        f"{FAR} tc qdisc add dev near0 root tbf rate 20mbit burst 32k latency"
        " 100ms; plover-feed send 10.9.0.2 9000",
        ("link",),
        ("plover-feed",),
        may=frozenset({"link-saturated", "link-errors", "steady-transfer"}),
        stop=NO_FAR,
        rights=True,
    ),
    Case(
        "a steady transfer",
        f"{FAR} plover-feed send 10.9.0.2 9000 3000",
        (None,),
        must=(("steady-transfer", "plover-feed"),),
        stop=NO_FAR,
        rights=True,
    ),
    Case(
        "a full file system",
        "mkdir nest; mount -t tmpfs -o size=30m none nest; head -c 40M"
        " /dev/zero > nest/egg; sleep 99",
        ("storage",),
        must=(("storage-full", "nest"),),
        stop="umount nest",
        rights=True,
    ),
    Case(
        "files in memory that no program has open",
        "mkdir nest; mount -t tmpfs -o size=90% none nest; set -- $(head -n 1 /proc/meminfo);"
        " head -c $(($2 * 307)) /dev/zero > nest/egg; touch filled; sleep 99",
        (None,),
        must=(("memory-in-files", "nest"),),
        stop="umount nest",
        rights=True,
        ready="test -e filled",
    ),
    Case(
        "no inodes left",
        "mkdir nest; mount -t tmpfs -o nr_inodes=50 none nest; cd nest; touch $(seq 60); sleep 99",
        ("storage",),
        must=(("inodes-full", "nest"),),
        stop="umount -l nest",
        rights=True,
    ),
    Case(
        "a program that was stopped",
        "auk-count spin & sleep 1; kill -STOP $!; wait",
        (None,),
        must=(("stuck-process", "auk-count"),),
    ),
    Case("calm", "sleep 99", (None,)),
    Case("low priority alone", "nice -n 19 tern-map spin 2", (None,), may=BUSY),
    Case(
        "400 threads that wait",
        f"exec {sys.executable} -c 'import threading,time\nfor n in"
        " range(400): threading.Thread(target=time.sleep,args=(99,)).start()'",
        (None,),
    ),
    Case("a spike at the start", "timeout 3 auk-count spin 4; sleep 99", (None,), may=BUSY),
    Case(
        "files read into the cache",
        "head -c 2G /dev/zero > sound; while :; do cat sound > /dev/null; sleep 1; done",
        (None, "core"),
        may=BUSY | {"kernel-busy"},
    ),
    Case(
        "half a processor",
        f"exec {sys.executable} -c 'import time\nwhile True:\n    end ="
        " time.perf_counter() + 0.05\n    while time.perf_counter() < end: pass\n   "
        " time.sleep(0.05)'",
        (None,),
        may=BUSY,
    ),
    Case(
        "a server that nobody asks",
        "auk-count serve 4712 & sleep 99",
        (None,),
        may=frozenset({"open-port"}),
    ),
)


class CaseOutcome(NamedTuple):
    """What a case came to; right where ``wrong`` is empty."""

    case: Case
    limiting: str | None
    named: list[str]
    confidence: float
    coverage: float | None
    wrong: list[str]


def started_in(folder, script, more=None):
    """Start a script of the shell in a folder with the programs; ``more`` are others by name."""
    binaries = Path(folder) / "bin"
    binaries.mkdir()
    own = dict.fromkeys(PROGRAMS, LOAD.read_text())
    for name, text in (own | (more or {})).items():
        head = "" if name.endswith(".sh") else f"#!{sys.executable}\n"
        (binaries / name).write_text(head + text)
        (binaries / name).chmod(0o755)
    Path(folder).chmod(0o755)
    ways = {**os.environ, "PATH": f"{binaries}:{os.environ['PATH']}"}
    return subprocess.Popen(
        ["sh", "-c", script],
        cwd=folder,
        start_new_session=True,
        env=ways,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


def wait_until_ready(case, folder):
    """Return when the fault of a case is there; raise TimeoutError where it never is."""
    until_s = time.monotonic() + LONGEST_WAIT_S
    while subprocess.run(["sh", "-c", case.ready], cwd=folder, check=False).returncode:
        if time.monotonic() > until_s:
            raise TimeoutError(f"{case.name}: not ready after {LONGEST_WAIT_S:.0f} s")
        time.sleep(0.5)
    time.sleep(case.settle_s)


def logged_before():
    """Return what the log of this computer tells before the first case, as kind and subject."""
    with tempfile.TemporaryDirectory(dir=HERE, prefix="live-") as folder:
        path = Path(folder) / "before.jsonl.gz"
        subprocess.run(
            [DUNMIST, "capture", "-o", path, "--for", "3s"], check=True, stderr=subprocess.DEVNULL
        )
        findings = judge(path).triage.findings
    return {(item.kind, item.subject) for item in findings if item.kind in LOGGED}


def judge_case(case, keep=None, before=frozenset()):
    """Start a fault, capture and judge; whatever happens, all of it is ended."""
    with tempfile.TemporaryDirectory(dir=HERE, prefix="live-") as folder:
        fault = started_in(folder, case.start)
        path = Path(keep or folder) / f"{case.name}.jsonl.gz"
        try:
            wait_until_ready(case, folder)
            subprocess.run(
                [DUNMIST, "capture", "-o", path, "--force", "--for", f"{SPAN_S}s"],
                check=True,
                stderr=subprocess.DEVNULL,
            )
        finally:
            end(fault, folder)
            subprocess.run(
                ["sh", "-c", case.stop], cwd=folder, check=False, stderr=subprocess.DEVNULL
            )
        triage = judge(path).triage
    named = [culprit.name for culprit in triage.culprits]
    return CaseOutcome(
        case,
        triage.verdict.limiting,
        named,
        triage.verdict.confidence,
        triage.coverage["cpu"],
        list(wrong(case, triage, before)),
    )


def end(fault, folder):
    """End the session of a fault, and whatever else works in its folder."""
    with contextlib.suppress(ProcessLookupError):
        os.killpg(fault.pid, signal.SIGKILL)
    for place in Path("/proc").glob("[0-9]*/cwd"):
        with contextlib.suppress(OSError):
            if str(place.readlink()).startswith(folder):
                os.kill(int(place.parent.name), signal.SIGKILL)
    fault.wait()
    time.sleep(0.3)


def wrong(case, triage, before):
    """Yield in words what is not as the truth has it; ``before`` is as of ``logged_before``."""
    named = [culprit.name for culprit in triage.culprits]
    if triage.verdict.limiting not in case.limiting:
        yield f"limiting is {triage.verdict.limiting}, truth {case.limiting[0]}"
    if case.culprits and (not named or not named[0].startswith(case.culprits)):
        yield f"first named is {named[:1]}, truth {case.culprits[0]}"
    if not case.culprits and named and None in case.limiting and triage.verdict.limiting is None:
        yield f"{named} named, and nobody is to blame"
    if set(case.not_named) & set(named):
        yield f"{named} named"
    for kind, word in case.must:
        if not any(
            kind == finding.kind and word in f"{finding.subject} {finding.text}"
            for finding in triage.findings
        ):
            yield f"no finding {kind} that speaks of {word!r}"
    allowed = ALWAYS | {kind for kind, _ in case.must} | case.may
    for item in triage.findings:
        told_before = (item.kind, item.subject) in before
        if item.severity != "note" and item.kind not in allowed and not told_before:
            yield f"false finding {item.kind}: {item.text}"


def outcomes(names=(), keep=None):
    """Yield what each case came to that can be had here."""
    before = logged_before()
    for case in CASES:
        if names and not any(name in case.name for name in names):
            continue
        if case.rights and (os.geteuid() != 0 or not shutil.which("ip")):
            continue
        yield judge_case(case, keep, before)


def main(names):
    for outcome in outcomes(names, os.environ.get("LIVE_KEEP")):
        print(
            "wrong " if outcome.wrong else "right ",
            outcome.case.name,
            outcome.limiting,
            outcome.named[:3],
            f"{outcome.confidence:.2f}",
            flush=True,
        )
        for line in outcome.wrong:
            print("       ", line)


if __name__ == "__main__":
    main(sys.argv[1:])
