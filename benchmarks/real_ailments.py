"""Starts real programs that slow this computer down, or do not, and judges the triage of each.

The case itself measures the truth by the kernel's own counters: the culprit is the process of its
session with the largest use. Judged are the limiting resource, the culprit, the first step, and
that no healthy computer is ill. If the load filled no CPU by these counters, nothing has to be
named. Needs the administrator. A program that is not installed is installed by the package manager
where there is one, else its cases are left out.

    python benchmarks/real_ailments.py [NAME...]
"""

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import tomllib
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import Literal, NamedTuple

import msgspec
from live import ALWAYS, LOGGED
from real_programs import WARM_S, capture_now, far_computer, prepare, session

from dunmist.jobs.judge import judge

TABLE = Path(__file__).with_suffix(".toml")
RESULT = TABLE.parent.parent / "docs" / "real_ailments.json"
# of a program with another name
PACKAGES = {"ab": "apache2-utils", "redis-server": "redis", "node": "nodejs", "xz": "xz-utils"}
QUIET_S = 3.0
FULL = 0.9  # of a CPU, or of all CPUs
# in the place of a resource, if no task waits
NOTHING = "nothing"
LINE = "dm-real0"  # to the other computer of real_programs
# true of a program that is only busy: no claim that the computer is ill
BUSY = {"core-bound", "steady-transfer", "open-port"}


class Ailment(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One program, or several, that slow the computer down."""

    name: str
    needs: str  # program that has to be installed
    command: str  # of the shell, in a folder of its own
    limiting: list[str]  # any of them is right; "nothing" for a program that nothing waits for
    first: list[str]  # steps, any of which may come first
    of: Literal["cpu", "disk", "sole"] = "cpu"  # the use by which the culprit is known
    warm_s: float = WARM_S
    line_mbit: float | None = None  # of the line to the other computer


class Healthy(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One program with which a computer is well."""

    name: str
    needs: str
    command: str
    warm_s: float = WARM_S


class Tables(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """All cases."""

    ailment: list[Ailment]
    healthy: list[Healthy]


class Use(NamedTuple):
    """Counters of one process of a session."""

    cpu_clk: int
    moved_bytes: int


def uses_of(session: int) -> dict[int, Use]:
    """Return the counters of the processes of a session, as proc_pid_stat(5) has them."""
    uses = {}
    for directory in Path("/proc").glob("[0-9]*"):
        with suppress(FileNotFoundError, ProcessLookupError):
            fields = (directory / "stat").read_text().rpartition(")")[2].split()
            if int(fields[3]) != session:
                continue
            io = dict(line.split(": ") for line in (directory / "io").read_text().splitlines())
            moved = int(io["read_bytes"]) + int(io["write_bytes"])
            # its own time, and that of children it waited for
            uses[int(directory.name)] = Use(sum(map(int, fields[11:15])), moved)
    return uses


def busy_share() -> tuple[int, int]:
    """Return the busy time of all CPUs and all of their time, as proc_stat(5) has them."""
    clks = [int(word) for word in Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:9]]
    return sum(clks) - clks[3] - clks[4], sum(clks)


def largest_user(before: dict[int, Use], after: dict[int, Use], of: str) -> int | None:
    """Return the process that used most between two readings; None if it was none."""
    index = 1 if of == "disk" else 0
    grown = {pid: after[pid][index] - before[pid][index] for pid in before if pid in after}
    if of == "sole":
        return next(iter(grown), None)
    pid = max(grown, key=lambda each: grown[each], default=None)
    return pid if pid is not None and grown[pid] > 0 else None


def is_installed(program: str) -> bool:
    """Whether a program is there, after an attempt to install it."""
    if shutil.which(program) is None and shutil.which("apt-get"):
        command = ["apt-get", "install", "-qy", "--no-install-recommends"]
        subprocess.run([*command, PACKAGES.get(program, program)], check=False, capture_output=True)
    return shutil.which(program) is not None


def shape_line(mbit: float | None) -> None:
    """Set the speed of the line to the other computer, or take the limit away."""
    subprocess.run(["tc", "qdisc", "del", "dev", LINE, "root"], check=False, capture_output=True)
    if mbit is not None:
        shape = f"tbf rate {mbit:g}mbit burst 32kb limit 100kb"
        command = ["tc", "qdisc", "add", "dev", LINE, "root", *shape.split()]
        subprocess.run(command, check=True)


def judged(case: Ailment | Healthy, folder: Path) -> dict[str, object]:
    """Return the verdict of one case and the kernel's own figures."""
    of = case.of if isinstance(case, Ailment) else "cpu"
    shape_line(case.line_mbit if isinstance(case, Ailment) else None)
    with session(case.command, folder) as child:
        time.sleep(case.warm_s)
        before, busy_before = uses_of(child.pid), busy_share()
        path = capture_now(folder)
        after, busy_after = uses_of(child.pid), busy_share()
    whole = judge(path)
    largest = largest_user(before, after, of)
    diagnosis, verdict = whole.diagnosis, whole.triage.verdict
    culprits = diagnosis.partners or diagnosis.culprits[:1]
    named = [culprit.application for culprit in culprits]
    case_of = whole.cases.of_culprit(culprits[0]) if culprits else None
    steps = case_of.filled_steps if case_of else []
    if not named:
        # a program that fills the CPUs while nothing waits for them is in a finding
        told = [each for each in diagnosis.findings if each.application and each.severity != "note"]
        named = [finding.application for finding in told[:1]]
        steps = whole.cases.of_finding(told[0]) if told else []
    is_right = any(
        largest in (process.pid, *(parent.pid for parent in process.ancestors))
        for application in named
        for process in application.members
    )
    members = {pid for pid in after if pid in before}
    return {
        "name": case.name,
        "healthy": isinstance(case, Healthy),
        "began": bool(members),
        "limiting": verdict.limiting,
        "busy_share": round((busy_after[0] - busy_before[0]) / (busy_after[1] - busy_before[1]), 2),
        "largest_share": _share_of_core(before, after, largest, busy_after[1] - busy_before[1]),
        "named": [application.name for application in named],
        "culprit_is_right": is_right,
        "first": steps[0].step.action if steps else None,
        "confidence": round(verdict.confidence, 2),
        "findings": sorted(
            {finding.kind for finding in diagnosis.findings if finding.severity != "note"}
            - ALWAYS
            - LOGGED
        ),
    }


def _share_of_core(
    before: dict[int, Use], after: dict[int, Use], pid: int | None, whole_clk: int
) -> float:
    if pid is None:
        return 0.0
    used_clk = after[pid].cpu_clk - before[pid].cpu_clk
    return round(used_clk * (os.cpu_count() or 1) / whole_clk, 2)


def errors_of(case: Ailment | Healthy, result: dict[str, object]) -> list[str]:
    """Return what is wrong with a verdict."""
    wrong = [] if result["began"] else ["the program did not run"]
    if isinstance(case, Healthy):
        findings = set(result["findings"]) - BUSY  # type: ignore[call-overload]
        wrong += [f"false alarm: {result['limiting']}"] if result["limiting"] else []
        return wrong + [f"false finding: {kind}" for kind in sorted(findings)]
    if case.of == "cpu" and not result["limiting"] and _is_nothing_full(result):
        return wrong
    if (result["limiting"] or NOTHING) not in case.limiting:
        wrong.append(f"limiting {result['limiting']} instead of {' or '.join(case.limiting)}")
    if not result["culprit_is_right"]:
        wrong.append("another culprit than by the kernel's counters")
    if result["first"] not in case.first:
        wrong.append(f"first step {result['first']}")
    return wrong


def _is_nothing_full(result: dict[str, object]) -> bool:
    """Whether by the kernel's counters neither a CPU nor all of them were full."""
    shares = result["busy_share"], result["largest_share"]
    return all(isinstance(share, float) and share < FULL for share in shares)


def main(names: list[str]) -> int:
    """Run all cases or those named, write the result, and return 1 if one is wrong."""
    tables = msgspec.convert(tomllib.loads(TABLE.read_text(encoding="utf-8")), Tables)
    results = []
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    with tempfile.TemporaryDirectory(prefix="dunmist-real-") as name, ExitStack() as computer:
        folder = Path(name)
        prepare(folder)
        folder.chmod(0o755)  # servers that give up their rights read there
        computer.enter_context(far_computer(folder))
        for case in (*tables.ailment, *tables.healthy):
            if names and case.name not in names:
                continue
            if not is_installed(case.needs):
                print(f"{case.name}: {case.needs} is not installed, left out", file=sys.stderr)
                continue
            result = judged(case, folder)
            result["wrong"] = errors_of(case, result)
            results.append(result)
            print(json.dumps(result), flush=True)
            time.sleep(QUIET_S)
    right = sum(not result["wrong"] for result in results)
    print(f"{right} of {len(results)} right")
    kept = json.loads(RESULT.read_text()) if names and RESULT.exists() else []
    newer = {result["name"] for result in results}
    order = [case.name for case in (*tables.ailment, *tables.healthy)]
    kept = [each for each in kept if each["name"] in order and each["name"] not in newer]
    every = [*kept, *results]
    every.sort(key=lambda result: order.index(result["name"]))
    RESULT.write_text(json.dumps(every, indent=1) + "\n")
    return right < len(results)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
