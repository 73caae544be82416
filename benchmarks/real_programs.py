"""Asks what real programs are doing, which nobody here wrote, and judges the answer.

Each case starts one program with one kind of work, and captures this computer. The first kind of
work that the triage names, and the first step that follows, are held against what an experienced
technician would say. Needs the administrator. What is not installed is left out and said.

    python benchmarks/real_programs.py [NAME...]
"""

import json
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import tomllib
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Literal

import msgspec

from dunmist.jobs.capture import CaptureOptions, run_capture
from dunmist.jobs.judge import judge

WARM_S, SAMPLED_S = 1.5, 9.0
RESULT = Path(__file__).parent.parent / "docs" / "real_programs.json"


class Work(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One program at one kind of work."""

    name: str
    needs: str  # program that has to be installed
    command: str  # of the shell, in a folder of its own
    kinds: list[str] = []  # any of them is right
    # instead of its code: what else it is doing, and any of the words that must be said of it
    what: Literal["code", "wait", "file", "peer"] = "code"
    says: list[str] = []
    step: str | None = None  # first specific step; None where there is none to take
    warm_s: float = WARM_S  # what is read from the disk at first is no part of it
    unseen: bool = False  # the tables were not tuned on it


GARBAGE = """
import java.util.*;
class G { public static void main(String[] a) {
    Map<Integer, String> m = new HashMap<>();
    for (int i = 0; ; i++) m.put(i % 900000, "x" + i);
} }
"""
LOOP = """
class L { public static void main(String[] a) {
    long s = 0;
    for (long i = 0; ; i++) s += i * i ^ s;
} }
"""
LOCKS = r"""
#include <pthread.h>
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static volatile long sum;
static void *work(void *nothing) {
    for (;;) { pthread_mutex_lock(&lock); sum++; pthread_mutex_unlock(&lock); }
    return nothing;
}
int main(void) {
    pthread_t thread;
    for (int i = 0; i < 8; i++) pthread_create(&thread, 0, work, 0);
    pthread_join(thread, 0);
}
"""


def programs() -> list[Work]:
    """Return the cases of ``real_programs.toml``."""
    text = Path(__file__).with_suffix(".toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text)["program"], list[Work])


def prepare(folder: Path) -> None:
    """Write what the cases work on."""
    block = b"".join(bytes([value % 251, value * 7 % 256, 65]) for value in range(40_000))
    with (folder / "noise").open("wb") as file:
        for _ in range(2500):
            file.write(block)
    with (folder / "words").open("w") as file:
        for number in range(400_000):
            file.write(f"{number * 7919 % 400_009:06d} puffin razorbill {number}\n")
    (folder / "line").write_text("a" * 4000 + "\n")
    (folder / "G.java").write_text(GARBAGE)
    (folder / "L.java").write_text(LOOP)
    (folder / "locks.c").write_text(LOCKS)
    with (folder / "unit.c").open("w") as file:
        for n in range(4000):
            file.write(f"int f{n}(int a) {{ return a * {n} + (a ^ {n}) % 7; }}\n")


# another computer, as far as this one can tell
FAR, FAR_ADDRESS = "dm-real", "10.77.0.2"
SERVE = """
import http.server, socket, threading
def sink():
    listener = socket.create_server(("0.0.0.0", 9000))
    while True:
        other, _ = listener.accept()
        while other.recv(1 << 20):
            pass
threading.Thread(target=sink, daemon=True).start()
http.server.test(http.server.SimpleHTTPRequestHandler, port=8000)
"""


def await_port(port: int) -> None:
    """Wait until the far computer takes connections; raises OSError."""
    for left in reversed(range(100)):
        try:
            socket.create_connection((FAR_ADDRESS, port), 1.0).close()
            return
        except OSError:
            if not left:
                raise
            time.sleep(0.1)


@contextmanager
def far_computer(folder: Path) -> Iterator[None]:
    """Serve the folder in a network namespace at the other end of a cable."""
    # what a run that was cut off left behind
    for words in (f"netns del {FAR}", "link del dm-real0"):
        subprocess.run(["ip", *words.split()], check=False, stderr=subprocess.DEVNULL)
    for words in (
        f"netns add {FAR}",
        f"link add dm-real0 type veth peer name dm-real1 netns {FAR}",
        "addr add 10.77.0.1/24 dev dm-real0",
        "link set dm-real0 up",
        f"-n {FAR} addr add {FAR_ADDRESS}/24 dev dm-real1",
        f"-n {FAR} link set dm-real1 up",
    ):
        subprocess.run(["ip", *words.split()], check=True)
    inside = ["ip", "netns", "exec", FAR, sys.executable, "-c", SERVE]
    server = subprocess.Popen(
        inside, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        for port in (8000, 9000):
            await_port(port)
        yield
    finally:
        server.kill()
        server.wait()
        subprocess.run(["ip", "netns", "del", FAR], check=False)


@contextmanager
def session(command: str, folder: Path) -> Iterator[subprocess.Popen[bytes]]:
    """Run a command of the shell in a session of its own, and kill all of it at the end."""
    child = subprocess.Popen(
        ["/bin/bash", "-c", command],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    try:
        yield child
    finally:
        subprocess.run(["pkill", "-KILL", "-s", str(child.pid)], check=False)
        child.wait()


def capture_now(folder: Path) -> Path:
    """Capture this computer for some seconds."""
    return run_capture(CaptureOptions(folder / "real.jsonl.gz", SAMPLED_S, 1.0, force=True))


def judged(case: Work, folder: Path) -> dict[str, object]:
    """Return what was said of one case."""
    with session(case.command.replace("{python}", sys.executable), folder) as child:
        time.sleep(case.warm_s)
        path = capture_now(folder)
        alive = child.poll() is None
    whole = judge(path)
    mine = [
        application
        for application in whole.series.applications
        if any(
            child.pid in (process.pid, *(parent.pid for parent in process.ancestors))
            for process in application.members
        )
    ]
    mine.sort(key=lambda application: -application.cores.mean())
    case_of = whole.cases.of(mine[0]) if mine else None
    doing = case_of.doing if case_of else []
    code = [item for item in doing if item.what == case.what]
    first_said = code[0] if code else None
    said = next((item for item in code if any(word in item.text for word in case.says)), None)
    said = said if case.says else first_said
    specific = [filled.step.action for filled in case_of.filled_steps] if case_of else []
    first = whole.triage.culprits[0].name if whole.triage.culprits else None
    kinds = [item.name for item in code if item.share and item.share >= 0.3] or [
        item.name for item in code[:1]
    ]
    return {
        "name": case.name,
        "unseen": case.unseen,
        "alive": alive,
        "application": mine[0].name if mine else None,
        "first_culprit": first,
        "what": case.what,
        "says": said.text if said else None,
        "kind_is_right": said is not None if case.says else bool(kinds) and kinds[0] in case.kinds,
        "step_is_there": case.step is None or case.step in specific,
        "step": case.step,
    }


def main(names: list[str]) -> int:
    """Run all cases or those named, write the result, and return 1 where one is wrong."""
    results = []
    with tempfile.TemporaryDirectory(prefix="dunmist-real-") as name, ExitStack() as computer:
        folder = Path(name)
        prepare(folder)
        computer.enter_context(far_computer(folder))
        for case in programs():
            if names and case.name not in names:
                continue
            if shutil.which(case.needs) is None:
                print(f"{case.name}: {case.needs} is not installed, left out", file=sys.stderr)
                continue
            result = judged(case, folder)
            results.append(result)
            print(json.dumps(result), flush=True)
    right = [bool(result["kind_is_right"] and result["step_is_there"]) for result in results]
    print(f"{sum(right)} of {len(right)} right")
    if not names:
        RESULT.write_text(json.dumps(results, indent=1) + "\n")
    return not all(right)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
