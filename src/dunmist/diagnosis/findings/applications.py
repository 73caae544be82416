"""Findings about what a program is and whose: odd places, names that read alike, other people's."""

import re
from collections import defaultdict

from dunmist.computer import DELETED, is_person
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.records import Finding, figure
from dunmist.diagnosis.strained_resources import application_finding
from dunmist.diagnosis.words import Kind
from dunmist.series import Application, Process

# places that programs are not installed in (file-hierarchy(7))
ODD_PLACES = re.compile(r"/(?:tmp|var/tmp|dev/shm|run/shm)/|/\.(?:cache|Trash|thumbnails)[^/]*/")
# executables that never were files: memfd_create(2), and shared memory of a process
NO_FILES = ("/memfd:", "/dev/zero")
# pairs of letters that look alike to a reader
LOOKALIKES = (("rn", "m"), ("vv", "w"), ("cl", "d"), ("1", "l"), ("0", "o"), ("i", "l"))


# tasks of the kernel's own, as it names them; no program has reason to
KERNEL_NAMES = re.compile(
    r"(?:kworker|ksoftirqd|migration|cpuhp|irq|jbd2)/|\[.+\]\Z|"
    r"(?:kswapd\d+|kcompactd\d+|kthreadd|khugepaged|kauditd|kdevtmpfs|oom_reaper|rcu_\w+)\Z"
)
# services for logins and system upkeep, which are installed only in the directories of packages
SYSTEM_PROGRAMS = frozenset(
    (
        "systemd",
        "init",
        "sshd",
        "login",
        "sudo",
        "su",
        "cron",
        "crond",
        "dbus-daemon",
        "agetty",
        "systemd-journald",
        "systemd-logind",
        "systemd-udevd",
        "rsyslogd",
        "polkitd",
        "NetworkManager",
    )
)
PEOPLES_PLACES = re.compile(r"/(?:home|root|tmp|var/tmp|dev/shm|media|mnt)/")


def is_unusual_path(path: str) -> bool:
    """Whether programs are not installed in the place of a path."""
    return ODD_PLACES.search(path) is not None


@finds("deleted-executable", "odd-location")
def _executables(exam: Examination) -> list[Finding]:
    odd: dict[tuple[Kind, Application], Process] = {}
    for process in exam.series.living.values():
        path, application = process.facts.executable or "", process.application
        if application.observer:
            continue
        if is_unusual_path(path):
            odd["odd-location", application] = process
        if path.endswith(DELETED) and not path.startswith(NO_FILES):
            odd["deleted-executable", application] = process
    return [
        application_finding(
            kind,
            "note",
            application,
            [figure("executable", float(process.pid), path=process.facts.executable)],
        )
        for (kind, application), process in odd.items()
    ]


@finds("lookalike-name")
def _lookalikes(exam: Examination) -> list[Finding]:
    """Programs whose name reads like that of another one that runs here, but is not the same."""
    names: dict[str, Process] = {}
    for process in exam.series.living.values():
        if not process.facts.kernel:
            names.setdefault(process.name, process)
    by_shape: dict[str, list[str]] = defaultdict(list)
    for name in names:
        if len(name) >= exam.limits.findings.name_least:
            by_shape[name_shape(name)].append(name)
    findings = []
    for same in by_shape.values():
        # the one with the fewer ordinary evidence of being installed is the odd one
        for name in sorted(same, key=lambda candidate: _is_installed(exam, names[candidate]))[:-1]:
            process, others = names[name], [other for other in same if other != name]
            evidence = [figure("lookalike", float(process.pid), others=others)]
            findings.append(
                Finding("lookalike-name", "concern", name, evidence, process.application)
            )
    return findings


def name_shape(name: str) -> str:
    """Return the reading of a name, equal for names that are easily mistaken for one another."""
    shape = name.lower()
    for pair, letter in LOOKALIKES:
        shape = shape.replace(pair, letter)
    return shape


def _is_installed(exam: Examination, process: Process) -> tuple[bool, bool, bool]:
    path = process.facts.executable or ""
    packaged = exam.series.surveyed.package_of_file(path) is not None
    return (not is_unusual_path(path), packaged, not path.endswith(DELETED))


@finds("lookalike-name")
def _impostors(exam: Examination) -> list[Finding]:
    """Programs that call themselves a task of the kernel, or are a system program elsewhere."""
    findings = []
    for process in exam.series.living.values():
        facts, path = process.facts, process.facts.executable or ""
        if facts.kernel or process.application.observer:
            continue
        called = (facts.name, *facts.command_line[:1])
        is_task = any(KERNEL_NAMES.match(name) for name in called)
        is_copy = path.rpartition("/")[2] in SYSTEM_PROGRAMS and PEOPLES_PLACES.match(path)
        if is_task or is_copy:
            evidence = figure(
                "impostor", float(process.pid), name=facts.name, path=path or "unknown"
            )
            name = facts.name if is_task else path.rpartition("/")[2]
            findings.append(
                Finding("lookalike-name", "concern", name, [evidence], process.application)
            )
    return findings


@finds("other-user-load")
def _other_users(exam: Examination) -> list[Finding]:
    """People who are not at the screen, and load the computer."""
    here = exam.series.surveyed.people_at_screen
    if not here:
        return []
    findings = []
    for application in exam.applications:
        people = {
            process.facts.user for process in application.members if is_person(process.facts.uid)
        }
        if not people or people & here:
            continue
        cores = exam.typical(application.cores)
        if cores / exam.processors >= exam.limits.findings.other_user:
            evidence = [figure("app-cores-typical", cores, of=exam.processors)]
            findings.append(
                application_finding("other-user-load", "concern", application, evidence)
            )
    return findings
