"""What the texts and commands of steps are filled with: names, numbers, units, quoted commands."""

import shlex
from collections import defaultdict

from dunmist.advice.amounts import cores_text
from dunmist.advice.autostart_entries import disable_command, enable_command
from dunmist.advice.program_facts import About, search_words
from dunmist.advice.recognition import GUESSES, Recognised
from dunmist.advice.wording import ladder, wording
from dunmist.diagnosis import Diagnosis, Finding, ResourceWord, Thresholds
from dunmist.series import Application, Series

# a quota is a round figure that can be read out over the telephone
PERCENT_STEP = 10
HEAT_OF = ("processor", "board")


def application_filling(series: Series, about: About, diagnosis: Diagnosis) -> dict[str, str]:
    """Return what the steps of an application are filled with."""
    application = about.process.application
    name = application.distinct_name
    pids = [process.pid for process in application.living]
    words, kind = wording()["ladder"], about.recognised.kind if about.recognised else None
    entry = about.origin.entry
    percent = limit_percent(application, diagnosis.limits)
    processors = series.machine.logical_processors
    return {
        "name": name,
        "cause": cause_name(diagnosis, diagnosis.limiting),
        "normal": _normal_text(name, about.recognised),
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
        "file": entry.file if entry else "",
        "logged_in": _logged_in(series, about),
        "disable_entry": disable_command(entry) if entry else "",
        "enable_entry": enable_command(entry) if entry else "",
    }


def finding_filling(finding: Finding, diagnosis: Diagnosis, series: Series) -> dict[str, str]:
    """Return what the steps against a finding are filled with."""
    subject = subject_of(finding)
    quoted = shlex.quote(subject)
    return {
        "subject": subject,
        "subject_quoted": quoted,
        "unit": quoted,
        "timer_of": shlex.quote(timer_of(subject)),
        "name": subject,
        "systemctl": "systemctl",
        "cause": cause_name(diagnosis, effect_of(finding, diagnosis)),
        "sensor_modules": " ".join(map(shlex.quote, sensor_modules(series))),
    }


def sensor_modules(series: Series) -> list[str]:
    """Return the drivers that are installed, not loaded, and would show how hot the inside is."""
    missing = series.header.inventory.missing_drivers
    return [driver.module for driver in missing if driver.is_installed and driver.of in HEAT_OF]


def timer_of(unit: str) -> str:
    """Return the name of the timer that starts a unit, whether there is one or not."""
    return f"{unit.rpartition('.')[0]}.timer"


def subject_of(finding: Finding) -> str:
    """Return what a finding is about, as people call it."""
    name = finding.subject
    # where the kind says what it is about, its word stands in; a port has a number and a word
    template = wording()["subject"].get(finding.kind, "")
    if name is None or "{subject}" in template:
        return template.format(subject=name)
    return name


def effect_of(finding: Finding, diagnosis: Diagnosis) -> ResourceWord | None:
    """Return the resource whose lack a finding is an effect of, else the limiting one."""
    word: ResourceWord | None = ladder()["effect_of"].get(finding.kind, diagnosis.limiting)
    return word


def cause_name(diagnosis: Diagnosis, resource: ResourceWord | None) -> str:
    """Return what is to blame for the lack of a resource, as steps against its effects name it."""
    also = diagnosis.also
    if resource != diagnosis.limiting:
        driver = also.driver if also and also.state.resource == resource else None
        return driver.name if driver else wording()["ladder"]["cause-unknown"]
    if diagnosis.cause:
        return diagnosis.cause.name
    return (
        subject_of(diagnosis.external_cause)
        if diagnosis.external_cause
        else (wording()["ladder"]["cause-unknown"])
    )


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


def _normal_text(name: str, recognised: Recognised | None) -> str:
    words = wording()["ladder"]
    if recognised is None:
        return words["wait-unknown"].format(name=name)
    guess = words["guess"] if recognised.by in GUESSES else ""
    kind = recognised.kind
    return words["wait-known"].format(name=name, guess=guess, what=kind.what, normal=kind.normal)


def _systemctl(application: Application) -> str:
    user = application.manager_user
    return f"systemctl --user --machine={shlex.quote(user)}@" if user else "systemctl"


def _restore_nice(application: Application) -> str:
    """Return the command that gives every process the nice value it had."""
    by_nice: dict[int, list[str]] = defaultdict(list)
    for process in application.living:
        by_nice[process.last.nice if process.last else 0].append(str(process.pid))
    return "; ".join(
        f"for p in {' '.join(pids)}; do renice -n {nice} -p $(ls /proc/$p/task); done"
        for nice, pids in sorted(by_nice.items())
    )
