"""Findings about single processes and applications: stuck, odd, leaking, restarting, others'."""

import re
from collections import Counter, defaultdict
from collections.abc import Iterator

from dunmist.computer import DELETED, is_person
from dunmist.diagnosis.known import Known, application_finding, online, typical
from dunmist.diagnosis.records import Finding, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Kind
from dunmist.series import Series
from dunmist.series.started import Started

# places that programs are not installed in (file-hierarchy(7))
ODD_PLACES = re.compile(r"/(?:tmp|var/tmp|dev/shm|run/shm)/|/\.(?:cache|Trash|thumbnails)[^/]*/")
# what people read as the same: pairs of letters that look like one
LOOKALIKES = (("rn", "m"), ("vv", "w"), ("cl", "d"), ("1", "l"), ("0", "o"), ("i", "l"))


def process_findings(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Return them."""
    return [
        *_defunct(series, limits),
        *_stuck(series, known),
        *_locks(series),
        *_descriptors(series, limits),
        *_restarting(series, limits),
        *_executables(series),
        *_lookalikes(series, limits),
        *_other_users(series, limits),
        *_autostart(series, limits),
        *_stuck_services(series),
    ]


def is_odd_place(path: str) -> bool:
    """Whether programs are not installed in the place of a path."""
    return ODD_PLACES.search(path) is not None


def _alive(series: Series) -> Iterator[int]:
    processes = series.processes
    return (one for one in processes.last if one not in processes.ended_tick)


def _defunct(series: Series, limits: Thresholds) -> list[Finding]:
    processes, grouping = series.processes, series.processes.grouping
    ended = [one for one in _alive(series) if processes.last[one].state == "Z"]
    if len(ended) < limits["findings"]["defunct"]:
        return []
    signs = [Sign("defunct", float(len(ended)), "processes", "/proc/PID/stat")]
    ((parent_pid, count),) = Counter(grouping.facts(one).ppid for one in ended).most_common(1)
    parent = next((one for one in _alive(series) if grouping.facts(one).pid == parent_pid), None)
    if parent is None:
        return [Finding("defunct-pile", "note", "processes", signs)]
    name = grouping.program(parent).name
    signs.append(Sign("defunct-parent", float(count), "processes", "/proc/PID/stat",
                      of=float(parent_pid), name=name))  # fmt: skip
    return [Finding("defunct-pile", "note", name, signs, grouping.application_of[parent])]


def _stuck(series: Series, known: Known) -> list[Finding]:
    """Processes that did nothing but wait uninterruptibly, or are stopped."""
    processes = series.processes
    if known.is_strained("memory") or known.is_strained("disk"):
        return []  # those who wait for pages or the disk are victims, not stuck
    found = []
    for identity in _alive(series):
        sample = processes.last[identity]
        facts = processes.grouping.facts(identity)
        idle = processes.process_cpu_s[identity] == 0
        if sample.state not in ("D", "T", "t") or not idle or facts.kernel:
            continue
        if processes.first_tick.get(identity) != 0 or (sample.state == "D" and series.ticks < 5):
            continue
        signs = [Sign(f"state-{sample.state.upper()}", float(facts.pid), "process number",
                      "/proc/PID/stat", name=sample.waits_in)]  # fmt: skip
        name = processes.grouping.program(identity).name
        number = processes.grouping.application_of[identity]
        found.append(Finding("stuck-process", "concern", name, signs, number))
    return found


def _locks(series: Series) -> list[Finding]:
    """Processes that waited for the same file lock at the beginning and at the end."""
    if len(series.surveys) < 2:
        return []
    grouping = series.processes.grouping
    by_pid = {grouping.facts(one).pid: one for one in _alive(series)}
    waits = [{(one.waiter, one.holder) for one in survey.locks} for survey in series.surveys]
    waiters: dict[tuple[int, int], int] = Counter(
        (grouping.application_of[by_pid[waiter]], holder)
        for waiter, holder in sorted(waits[0] & waits[-1])
        if waiter in by_pid
    )
    found = []
    for (number, holder), count in waiters.items():
        name = grouping.program(by_pid[holder]).name if holder in by_pid else "an unseen one"
        signs = [Sign("lock-held", float(holder), "process number", "/proc/locks", name=name)]
        if count > 1:
            signs.append(Sign("lock-waiters", float(count), "processes", "/proc/locks"))
        found.append(application_finding("lock-wait", "concern", series, number, signs))
    return found


def _descriptors(series: Series, limits: Thresholds) -> list[Finding]:
    table, grouping = limits["findings"], series.processes.grouping
    found = []
    for identity, (first, last) in series.processes.details.items():
        if first.descriptors is None or last.descriptors is None:
            continue
        number = grouping.application_of[identity]
        if grouping.applications[number].observer:
            continue
        name = grouping.program(identity).name
        sign = Sign("descriptors", float(last.descriptors), "descriptors", "/proc/PID/fd",
                    of=float(last.descriptor_limit or 0))  # fmt: skip
        rise = (last.descriptors - first.descriptors) / series.duration_s
        if rise >= table["descriptor_rise_per_s"]:
            grew = Sign("descriptors-rise", rise, "per second", "/proc/PID/fd")
            found.append(Finding("descriptor-leak", "concern", name, [grew, sign], number))
        limit = last.descriptor_limit
        if limit and last.descriptors / limit >= table["limit_near"]:
            found.append(Finding("limit-near", "concern", name, [sign], number))
    return found


def _restarting(series: Series, limits: Thresholds) -> list[Finding]:
    """Services whose main program was started anew several times, or that say so themselves."""
    processes, grouping = series.processes, series.processes.grouping
    found = []
    for number, application in enumerate(grouping.applications):
        if not (application.unit or "").endswith(".service"):
            continue
        programs = Counter(
            grouping.program(one).key
            for one in application.members
            if processes.first_tick.get(one, 0) > 0 and grouping.facts(one).ppid == 1
        )
        restarts = max(programs.values(), default=0)
        restarts = max(restarts, _counted_restarts(series, application.unit or ""))
        if restarts >= limits["findings"]["restarts"]:
            sign = Sign("restarts", float(restarts), "times", "/proc/PID/stat")
            found.append(
                application_finding("service-restarting", "concern", series, number, [sign])
            )
    return found


def _counted_restarts(series: Series, unit: str) -> int:
    counts = [
        one.restarts
        for survey in series.surveys
        for one in survey.units
        if one.name == unit and one.restarts is not None
    ]
    return counts[-1] - counts[0] if counts else 0


def _stuck_services(series: Series) -> list[Finding]:
    if len(series.surveys) < 2:
        return []
    first = {unit.name: unit for unit in series.surveys[0].units}
    found = []
    for unit in series.surveys[-1].units:
        before = first.get(unit.name)
        same = before is not None and (before.active, before.since_s) == (unit.active, unit.since_s)
        if same and unit.active in ("activating", "deactivating") and unit.sub != "auto-restart":
            sign = Sign("service-state", 1.0, "", "org.freedesktop.systemd1(5)", name=unit.active)
            found.append(Finding("service-stuck", "concern", unit.name, [sign]))
    return found


def _executables(series: Series) -> list[Finding]:
    grouping = series.processes.grouping
    odd: dict[tuple[Kind, int], int] = {}
    for identity in _alive(series):
        path = grouping.facts(identity).executable or ""
        number = grouping.application_of[identity]
        if grouping.applications[number].observer:
            continue
        if is_odd_place(path):
            odd["odd-location", number] = identity
        if path.endswith(DELETED) and not path.startswith(("/memfd:", "/dev/zero")):
            odd["deleted-executable", number] = identity
    found = []
    for (kind, number), identity in odd.items():
        facts = grouping.facts(identity)
        sign = Sign("executable", float(facts.pid), "process number", "/proc/PID/exe",
                    name=facts.executable)  # fmt: skip
        found.append(application_finding(kind, "note", series, number, [sign]))
    return found


def _lookalikes(series: Series, limits: Thresholds) -> list[Finding]:
    """Programs whose name reads like that of another one that runs here, but is not the same."""
    grouping = series.processes.grouping
    names: dict[str, int] = {}
    for identity in _alive(series):
        if not grouping.facts(identity).kernel:
            names.setdefault(grouping.program(identity).name, identity)
    by_shape: dict[str, list[str]] = defaultdict(list)
    for name in names:
        if len(name) >= limits["findings"]["name_least"]:
            by_shape[_shape(name)].append(name)
    found = []
    for same in by_shape.values():
        # the one with the fewer ordinary signs of being installed is the odd one
        for name in sorted(same, key=lambda one: _is_installed(series, names[one]))[:-1]:
            identity = names[name]
            others = ", ".join(one for one in same if one != name)
            sign = Sign("lookalike", float(grouping.facts(identity).pid), "process number",
                        "/proc/PID/stat", name=others)  # fmt: skip
            number = grouping.application_of[identity]
            found.append(Finding("lookalike-name", "concern", name, [sign], number))
    return found


def _shape(name: str) -> str:
    shape = name.lower()
    for pair, one in LOOKALIKES:
        shape = shape.replace(pair, one)
    return shape


def _is_installed(series: Series, identity: int) -> tuple[bool, bool, bool]:
    facts = series.processes.grouping.facts(identity)
    path = facts.executable or ""
    packaged = {one.executable for survey in series.surveys for one in survey.packages}
    return (not is_odd_place(path), path in packaged, not path.endswith(DELETED))


def _other_users(series: Series, limits: Thresholds) -> list[Finding]:
    """People who are not at the screen, and load the computer."""
    survey, grouping = series.last_survey, series.processes.grouping
    here = {one.user for one in survey.sessions if one.graphical} if survey else set()
    if not here:
        return []
    found, processors = [], online(series)
    for number, application in enumerate(grouping.applications):
        owners = {grouping.facts(one).user: grouping.facts(one).uid for one in application.members}
        people = {user for user, uid in owners.items() if is_person(uid)}
        if not people or people & here:
            continue
        cores = typical(series, series.processes.all_cores[:, number], limits)
        if cores / processors >= limits["findings"]["other_user"]:
            signs = [Sign("app-cores-typical", cores, "cores", "/proc/PID/stat",
                          of=processors, name=", ".join(filter(None, people)))]  # fmt: skip
            found.append(application_finding("other-user-load", "concern", series, number, signs))
    return found


def _autostart(series: Series, limits: Thresholds) -> list[Finding]:
    about, table = series.header.machine, limits["findings"]
    if not series.surveys:
        return []
    started = Started(series.processes, about.clock_ticks_per_s, about.page_bytes)
    grouping = series.processes.grouping
    by_pid = {grouping.facts(one).pid: grouping.application_of[one] for one in _alive(series)}
    applications = {
        by_pid[pid]
        for entry in series.surveys[0].autostart
        if entry.enabled
        for pid in started.of_entry(entry).pids
        if pid in by_pid
    }
    cores = {one: typical(series, series.processes.all_cores[:, one], limits)
             for one in applications}  # fmt: skip
    busy = [one for one, used in cores.items() if used >= table["steady_cores"]]
    total = sum(cores.values())
    if (
        len(busy) < table["autostart_least"]
        or total / online(series) < table["autostart_cores_share"]
    ):
        return []
    signs = [
        Sign("autostart-cores", total, "cores", "/proc/PID/stat", of=online(series)),
        Sign("autostart-count", float(len(busy)), "programs", "/etc/xdg/autostart"),
    ]
    return [Finding("autostart-heavy", "concern", "programs started at login", signs)]
