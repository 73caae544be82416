"""Fill the texts and commands of steps: names, numbers, units, quoted commands."""

import re
import shlex
from collections import defaultdict

from dunmist.advice.amounts import cores_text, size_text, span_text
from dunmist.advice.autostart_entries import disable_command, enable_command
from dunmist.advice.program_facts import About, search_words
from dunmist.advice.recognition import GUESSES
from dunmist.advice.wording import ladder, wording
from dunmist.computer import FileSystem, StartEntry
from dunmist.diagnosis import Diagnosis, Finding, ResourceWord, Thresholds
from dunmist.series import Application, Series

# a quota is a round figure that can be read out over the telephone
PERCENT_STEP = 10
MOUNTS_SHOWN = 3
HEAT_OF = ("processor", "board")
# options of chrt(1) by policy, sched(7)
REAL_TIME_FLAGS = {1: "-f", 2: "-r"}
NO_ENTRY = {"file": "", "disable_entry": "", "enable_entry": ""}


def application_filling(series: Series, about: About, diagnosis: Diagnosis) -> dict[str, str]:
    """Return the template values of steps against an application."""
    application = about.process.application
    name = application.distinct_name
    pids = [process.pid for process in application.living]
    words, kind = wording()["ladder"], about.recognised.kind if about.recognised else None
    entry = about.origin.entry
    percent = limit_percent(application, diagnosis.limits)
    processors = series.machine.logical_processors
    return {
        "name": name,
        "cause": cause_name(diagnosis, diagnosis.limiting) or "",
        "normal": _normal_text(name, about, series),
        "wait_first": _wait_first(about, series),
        "hint": words["hint"].format(trouble=kind.trouble) if kind else "",
        "search": words["search"].format(words=search_words(about)),
        "protection": wording()["protected"][about.protection] if about.protection else "",
        "pids": " ".join(map(str, pids)),
        "pid": str(pids[0]) if pids else "",
        "unit": shlex.quote(application.unit or ""),
        "timer": shlex.quote(about.origin.name or ""),
        "systemctl": _systemctl(application),
        "percent": str(percent),
        "quota": _quota_before(series, application),
        "limit_cores": cores_text(percent / 100.0, processors),
        "package": about.package.name if about.package else "",
        "restore_nice": _restore_nice(application),
        "restore_real_time": _restore_real_time(application),
        "logged_in": _logged_in(series, about),
    } | (entry_filling(entry) if entry else NO_ENTRY)


def finding_filling(finding: Finding, diagnosis: Diagnosis, series: Series) -> dict[str, str]:
    """Return the template values of steps against a finding."""
    subject = subject_of(finding)
    return name_filling(subject) | {
        "disk": disk_text(subject, series),
        "copy_target": _copy_target(subject, series),
        "cause": cause_name(diagnosis, effect_of(finding, diagnosis)) or "",
        "sensor_modules": " ".join(map(shlex.quote, sensor_modules(series))),
        "freeze_file": _freeze_file(finding),
    }


def _freeze_file(finding: Finding) -> str:
    files = (figure.slots["file"] for figure in finding.evidence if figure.key == "frozen-group")
    return shlex.quote(str(next(files, "")))


def name_filling(name: str) -> dict[str, str]:
    """Return the template values of steps against a unit or an entry without a process."""
    quoted = shlex.quote(name)
    return {
        "subject": name,
        "subject_quoted": quoted,
        "name": name,
        "unit": quoted,
        "timer": quoted,
        "timer_of": shlex.quote(timer_of(name)),
        "systemctl": "systemctl",
    }


def entry_filling(entry: StartEntry) -> dict[str, str]:
    """Return the template values of steps against a start entry."""
    return {
        "file": entry.file,
        "disable_entry": disable_command(entry),
        "enable_entry": enable_command(entry),
    }


def deleted_filling(finding: Finding) -> dict[str, str]:
    """Return the application that holds a large deleted file open, if any."""
    held = next((figure for figure in finding.evidence if figure.key == "deleted-held"), None)
    if held is None:
        return {}
    return {
        "deleted-holder": str(held.slots["name"]),
        "deleted-size": size_text(held.value),
        "deleted-fds": f"/proc/{held.slots['pid']}/fd",
    }


def disk_text(name: str, series: Series) -> str:
    """Return a disk with what people know it by: its model, and where it is mounted."""
    about = next((disk for disk in series.header.inventory.disks if disk.name == name), None)
    known = [about.model] if about and about.model else []
    mounts = [mount.point for mount in _mounts_on(name, series)]
    known += [f"mounted at {' and '.join(mounts[:MOUNTS_SHOWN])}"] if mounts else []
    return f"{name} ({', '.join(known)})" if known else name


def _copy_target(name: str, series: Series) -> str:
    """Return another drive with the most room, where one is mounted."""
    words = wording()["ladder"]
    rooms = [
        (mount.available_bytes or 0, disk.name)
        for disk in series.header.inventory.disks
        if disk.name != name and not disk.disks_below
        for mount in _mounts_on(disk.name, series)
        if not mount.read_only
    ]
    if not rooms:
        return words["other-drive"]
    free_bytes, other = max(rooms)
    return words["that-drive"].format(disk=disk_text(other, series), free=size_text(free_bytes))


def _mounts_on(disk: str, series: Series) -> list[FileSystem]:
    survey = series.surveyed.last
    # partitions are called sda1, nvme0n1p2
    device = re.compile(rf"/dev/{re.escape(disk)}(?:p?\d+)?\Z")
    return [mount for mount in survey.file_systems if device.match(mount.source)] if survey else []


def sensor_modules(series: Series) -> list[str]:
    """Return the drivers that are installed, not loaded, and would show how hot the inside is."""
    missing = series.header.inventory.missing_drivers
    return [driver.module for driver in missing if driver.is_installed and driver.of in HEAT_OF]


def timer_of(unit: str) -> str:
    """Return the name of the timer that starts a unit, whether there is one or not."""
    return f"{unit.rpartition('.')[0]}.timer"


def subject_of(finding: Finding) -> str:
    """Return the common name of a finding's subject."""
    name = finding.subject
    # the declared word stands in for the subject of its kind; a port has a number and a word
    template = wording()["subject"].get(finding.kind, "")
    if name is None or "{subject}" in template:
        return template.format(subject=name)
    return name


def finding_text(finding: Finding) -> str:
    """Return a finding in one sentence."""
    other = next(
        (figure.slots["name"] for figure in finding.evidence if "name" in figure.slots), None
    )
    full = (figure.slots.get("full") for figure in finding.evidence)
    full_s = next((value for value in full if isinstance(value, float)), 0.0)
    words = wording()["ladder"]
    is_own = any(figure.key == "lock-held-own" for figure in finding.evidence)
    somebody = words["own-process" if is_own else "somebody-else"]
    return wording()["finding"][finding.kind].format(
        subject=subject_of(finding), other=other or somebody, full=span_text(full_s)
    )


def effect_of(finding: Finding, diagnosis: Diagnosis) -> ResourceWord | None:
    """Return the resource whose lack a finding is an effect of, else the limiting one."""
    word: ResourceWord | None = ladder()["effect_of"].get(finding.kind, diagnosis.limiting)
    return word


def cause_name(diagnosis: Diagnosis, resource: ResourceWord | None) -> str | None:
    """Return the cause of the lack of a resource; None if unknown."""
    also = diagnosis.also
    if resource != diagnosis.limiting:
        driver = also.driver if also and also.state.resource == resource else None
        return driver.name if driver else None
    if diagnosis.cause:
        return diagnosis.cause.name
    return subject_of(diagnosis.external_cause) if diagnosis.external_cause else None


def limit_percent(application: Application, limits: Thresholds) -> int:
    """Return the limit that leaves an application a share of what it takes, of one CPU."""
    table = limits.advice
    share = 100.0 * table.limit_share * float(application.cores.values.mean())
    return max(int(table.limit_least_percent), round(share / PERCENT_STEP) * PERCENT_STEP)


def _logged_in(series: Series, about: About) -> str:
    """Return where the owner of a program is logged in, as a sentence; nothing where nowhere."""
    words = wording()["ladder"]
    sessions = series.surveyed.last.sessions if series.surveyed.last else []
    own = [session for session in sessions if session.user == about.owner]
    if not own:
        return words["not-logged-in"].format(user=about.owner or "somebody") + " "
    places = [
        " from ".join(filter(None, (login.terminal or "a terminal", login.origin))) for login in own
    ]
    return words["logged-in"].format(user=about.owner, places=", ".join(places)) + " "


def _quota_before(series: Series, application: Application) -> str:
    """Return the quota that a unit has already, as its manager takes it; nothing without one."""
    quotas = (
        group.quota_cores
        for group in series.devices.groups
        if application.unit and group.path.rpartition("/")[2] == application.unit
    )
    cores = next((quota for quota in quotas if quota is not None), None)
    return "" if cores is None else f"{100 * cores:.0f}%"


def _normal_text(name: str, about: About, series: Series) -> str:
    words, recognised = wording()["ladder"], about.recognised
    if recognised is None:
        return words["wait-unknown"].format(name=name)
    cpu_s = used_cpu_s(about, series)
    return words["wait-past" if is_past_normal(about, series) else "wait-known"].format(
        name=name,
        guess=words["guess"] if recognised.by in GUESSES else "",
        what=recognised.kind.what,
        normal=recognised.kind.normal,
        trouble=recognised.kind.trouble,
        safe=recognised.kind.safe,
        running=span_text(about.running_s or cpu_s),
        cpu=span_text(cpu_s),
    )


def _wait_first(about: About, series: Series) -> str:
    """Return the first question, in the form that follows "ask"."""
    words = wording()["ladder"]
    # 0 if the start lies in the future of a clock that was set back
    if is_past_normal(about, series) and about.running_s:
        return words["ask-past"].format(running=span_text(about.running_s))
    return words["ask-expected"]


def used_cpu_s(about: About, series: Series) -> float:
    """Return the CPU time that the living processes of an application used since they started."""
    living = [process.last for process in about.process.application.living if process.last]
    used_clk = sum(sample.user_clk + sample.system_clk for sample in living)
    return used_clk / series.header.machine.clock_ticks_per_s


def is_past_normal(about: About, series: Series) -> bool:
    """Whether background work has used more CPU time than is normal for its kind."""
    most_s = about.recognised.kind.normal_most_s if about.recognised else None
    return most_s is not None and used_cpu_s(about, series) > most_s


def _systemctl(application: Application) -> str:
    user = application.manager_user
    return f"systemctl --user --machine={shlex.quote(user)}@" if user else "systemctl"


def _restore_real_time(application: Application) -> str:
    """Return the command that gives each process the real-time priority that it had."""
    facts = [process.facts for process in application.living]
    return "; ".join(
        f"chrt -a {REAL_TIME_FLAGS[each.policy]} -p {each.rt_priority} {each.pid}"
        for each in facts
        if each.policy in REAL_TIME_FLAGS
    )


def _restore_nice(application: Application) -> str:
    """Return the command that gives every process the nice value it had."""
    by_nice: dict[int, list[str]] = defaultdict(list)
    for process in application.living:
        by_nice[process.last.nice if process.last else 0].append(str(process.pid))
    return "; ".join(
        f"for p in {' '.join(pids)}; do renice -n {nice} -p $(ls /proc/$p/task); done"
        for nice, pids in sorted(by_nice.items())
    )
