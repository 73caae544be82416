"""Answer a complaint from a capture.

The answer says one of three things. It was so, and why. It was not so while it was sampled, with
the figure. Or it could not be seen, and how to catch it. ``complaints.toml`` has the sentences.
"""

from collections.abc import Callable
from typing import NamedTuple

from dunmist.advice.amounts import cores_text, percent, size_text, span_text
from dunmist.advice.complaint_words import PROGRAM, complaint_words
from dunmist.advice.resource_words import resource_name
from dunmist.advice.template_values import finding_text
from dunmist.advice.wording import wording
from dunmist.diagnosis import Diagnosis, Kind, ResourceState, hours_left, is_strained
from dunmist.series import Application, LinkSeries, Series, plain_address

FREEZING: tuple[Kind, ...] = (
    "paging-storm",
    "oom-kill",
    "stuck-process",
    "group-frozen",
    "lock-wait",
    "memory-short",
    "disk-slow",
    "graphics-reset",
    "kernel-hung",
)
INODES: tuple[Kind, ...] = ("inodes-full",)
GROWING: tuple[Kind, ...] = ("memory-leak", "memory-growing")
KILLED: tuple[Kind, ...] = ("oom-kill", "killed-earlier")
DISK_FAULTS: tuple[Kind, ...] = (
    "drive-failing",
    "drive-warns",
    "file-system-damaged",
    "drive-resets",
    "drive-too-hot",
    "disk-slow",
    "drive-worn",
)
CRASHED: tuple[Kind, ...] = (
    "unclean-restart",
    "kernel-hung",
    "program-crashes",
    "memory-faulty",
    "hardware-fault",
    "graphics-reset",
    "oom-kill",
    "killed-earlier",
    "hot-earlier",
)
ODD: tuple[Kind, ...] = (
    "lookalike-name",
    "odd-location",
    "deleted-executable",
    "open-port",
    "other-user-load",
)
STARTING: tuple[Kind, ...] = ("slow-start", "autostart-heavy")
AT_REST: tuple[Kind, ...] = ("hot-while-idle",)
LOSING: tuple[Kind, ...] = ("link-errors", "radio-weak")
CUT_OFF: tuple[Kind, ...] = ("gateway-silent",)
# a start counts as recent for a quarter of an hour: services and the first login are over by then
START_S = 900.0
# less than this is nothing to speak of: cores, a share of the time, bytes a second
LEAST_CORES, LEAST_SHARE, LEAST_BYTES_PER_S = 0.05, 0.05, 10_000.0
# the same distance from which heat is worth a word (thresholds, heat.busy_kelvin)
NEAR_KELVIN = 15.0
UW_PER_W, S_PER_H = 1e6, 3600.0


def answer_to(complaint: str, series: Series, diagnosis: Diagnosis) -> str:
    """Return the answer of a capture to a complaint, in one to three sentences."""
    about = _About(series, diagnosis)
    if complaint.startswith(PROGRAM):
        return _program(about, complaint.removeprefix(PROGRAM))
    return ANSWERS[complaint](about)


class _About(NamedTuple):
    """Inputs of an answer."""

    series: Series
    diagnosis: Diagnosis

    def finding(self, kinds: tuple[Kind, ...]) -> str | None:
        """Return the finding of the foremost of these kinds as a sentence."""
        matching = [finding for finding in self.diagnosis.findings if finding.kind in kinds]
        foremost = min(matching, key=lambda finding: kinds.index(finding.kind), default=None)
        return None if foremost is None else finding_text(foremost)

    def most(self, amount: Callable[[Application], float], least: float) -> Application | None:
        """Return the application with the greatest amount, None if that is nothing much."""
        others = [
            application
            for application in self.series.applications
            if not (application.observer or application.kernel)
        ]
        first = max(others, key=amount, default=None)
        return first if first is not None and amount(first) >= least else None

    def cores(self, application: Application) -> str:
        """Return the CPU time of an application in words."""
        return cores_text(application.cores.mean(), self.series.machine.logical_processors)


def _say(complaint: str, answer: str, **values: str) -> str:
    return str(complaint_words()[complaint][answer]).format(**values)


def _slow(about: _About) -> str:
    if about.diagnosis.limiting:
        return _say("slow", "yes")
    fullest = max(about.diagnosis.resources, key=lambda state: state.pressure or 0.0)
    resource = resource_name(fullest.resource)
    held = f"tasks waited for {resource} {percent(fullest.pressure or 0.0)} of the time at most"
    return f"{_say('slow', 'no', fullest=held)} {_say('slow', 'unseen')}"


def _freezes(about: _About) -> str:
    series = about.series
    why = about.finding(FREEZING)
    if why is None and about.diagnosis.level == "choked" and about.diagnosis.limiting:
        why = f"{wording()['resource'][about.diagnosis.limiting]} is choked."
    if why:
        return _say("freezes", "yes", why=why)
    if series.line.gap_s:
        return _say("freezes", "gap", gap=span_text(series.line.gap_s))
    ticks = str(series.ticks)
    if series.late or series.missed_outside_gaps:
        late = str(series.late + series.missed_outside_gaps)
        said = _say("freezes", "late", late=late, ticks=ticks)
    else:
        said = _say("freezes", "no", ticks=ticks)
    return f"{said} {_say('freezes', 'unseen')}"


def _heater(about: _About) -> str:
    heater = about.most(lambda application: application.cores.mean(), LEAST_CORES)
    # no program heats a computer that is hot at rest
    if heater is None or about.finding(AT_REST):
        return _say("hot", "nobody")
    return _say("hot", "heater", name=heater.distinct_name, cores=about.cores(heater))


def _hot(about: _About) -> str:
    sensor, heater = about.series.processor_sensor, _heater(about)
    celsius = sensor.level.median() if sensor else None
    if sensor is not None and celsius is not None:
        point = sensor.critical or about.diagnosis.limits.heat.assumed_critical_celsius
        near = point - celsius <= NEAR_KELVIN
        return _say(
            "hot",
            "yes" if near else "no",
            sensor=sensor.name,
            celsius=f"{celsius:.0f} °C",
            margin=f"{point - celsius:.0f} K",
            heater=heater,
        )
    others = [
        (value, sensor)
        for sensor in about.series.devices.sensors
        if sensor.quantity == "temperature"
        and sensor.is_trusted
        and (value := sensor.shown.median()) is not None
    ]
    if not others:
        return _say("hot", "unseen", heater=heater)
    beyond = [(value - part.high, value, part) for value, part in others if part.high]
    excess, value, part = max(beyond, key=lambda item: item[0], default=(-1.0, 0.0, None))
    if part is not None and excess >= 0:
        limit = f"{part.high:.0f} °C"
        return _say("hot", "beyond", sensor=part.name, celsius=f"{value:.0f} °C", limit=limit)
    value, hottest = max(others, key=lambda item: item[0])
    return _say("hot", "other", sensor=hottest.name, celsius=f"{value:.0f} °C", heater=heater)


def _noisy(about: _About) -> str:
    speeds = [
        value
        for sensor in about.series.devices.sensors
        if sensor.quantity == "fan"
        and sensor.is_trusted
        and (value := sensor.shown.median()) is not None
    ]
    heat = _hot(about)
    if not speeds:
        return _say("noisy", "unseen", heat=heat)
    answer = "yes" if max(speeds) > 0 else "no"
    return _say("noisy", answer, speed=f"{max(speeds):,.0f}", heat=heat)


def _battery(about: _About) -> str:
    drainer = _heater(about).replace("heats it", "uses power")
    supplies = about.series.devices.supplies.values()
    batteries = [supply for supply in supplies if supply.kind == "battery"]
    if not batteries:
        return _say("battery", "unseen", drainer=drainer)
    drawn = next((battery for battery in batteries if battery.status == "discharging"), None)
    if drawn is None:
        return _say("battery", "no", drainer=drainer[0].lower() + drainer[1:])
    if not drawn.power_now:
        return _say("battery", "drawing", drainer=drainer)
    hours = hours_left(drawn)
    left = _say("battery", "unknown")
    if hours is not None:
        left = _say("battery", "lasts", left=span_text(hours * S_PER_H))
    power = f"{drawn.power_now / UW_PER_W:.1f} W"
    return _say("battery", "yes", power=power, left=left, drainer=drainer)


def _network(about: _About) -> str:
    mover, why = _mover(about), about.finding(LOSING)
    if (cut_off := about.finding(CUT_OFF)) and not _is_open(about):
        return _say("network", "cut-off", why=cut_off)
    if why:
        return _say("network", "errors", why=why, mover=mover)
    links = about.series.devices.outward_links
    if not links:
        return _say("network", "unseen", mover=mover)
    moved = max(links, key=lambda link: max(_both_ways(link)))
    if max(_both_ways(moved)) <= 0:
        return _say("network", "still")
    is_full = any(
        state.resource == "link" and is_strained(state.level) for state in about.diagnosis.resources
    )
    received, sent = _both_ways(moved)
    way = "receives" if received >= sent else "sends"
    amount = f"{size_text(max(received, sent))} a second"
    if moved.used is not None:
        amount += f", {percent(moved.used.mean())} of what it can"
    direction = _say("network", way, amount=amount)
    answer = "yes" if is_full else "no"
    return _say("network", answer, link=moved.name, direction=direction, mover=mover)


def _is_open(about: _About) -> bool:
    return any(gateway.state == "answers" for gateway in about.series.surveyed.gateways)


def _both_ways(link: LinkSeries) -> tuple[float, float]:
    return link.received_bytes_per_s.mean(), link.sent_bytes_per_s.mean()


def _mover(about: _About) -> str:
    mover = about.most(
        lambda application: application.network_bytes_per_s.mean(), LEAST_BYTES_PER_S
    )
    if mover is None:
        return _say("network", "quiet")
    return _say(
        "network",
        "mover",
        name=mover.distinct_name,
        sent=size_text(mover.sent_bytes_per_s.mean()),
        received=size_text(mover.received_bytes_per_s.mean()),
        peer=_peer(about.series, mover),
    )


def _peer(series: Series, application: Application) -> str:
    """Return the peer with which an application exchanged most."""
    own = {process.identity for process in application.members}
    sockets = [
        socket for socket in series.sockets if own & set(socket.owners) and not socket.is_loopback
    ]
    busiest = max(
        sockets,
        key=lambda socket: (socket.sent_bytes or 0) + (socket.received_bytes or 0),
        default=None,
    )
    if busiest is None or busiest.facts.remote is None:
        return "it cannot be seen with which computer"
    return f"with {plain_address(busiest.facts.remote)} port {busiest.facts.remote_port}"


def _start(about: _About) -> str:
    uptime_s = about.series.machine.uptime_s
    uptime = span_text(uptime_s) if uptime_s is not None else "an unknown time"
    why = about.finding(STARTING)
    if why:
        return _say("start", "yes", uptime=uptime, why=why)
    is_fresh = uptime_s is not None and uptime_s <= START_S
    last = about.series.surveyed.last
    if last and last.boot and (took_s := last.boot.whole_s):
        return _say("start", "took", uptime=uptime, took=span_text(took_s))
    return _say("start", "no" if is_fresh else "unseen", uptime=uptime)


def _stutters(about: _About) -> str:
    if about.diagnosis.limiting:
        return _say("stutters", "yes")
    waited = {state.resource: state.pressure or 0.0 for state in about.diagnosis.resources}
    said = _say(
        "stutters",
        "no",
        waited=percent(waited.get("cpu", 0.0)),
        blocked=percent(waited.get("disk", 0.0)),
    )
    return f"{said} {_say('stutters', 'unseen')}"


def _memory(about: _About) -> str:
    machine = about.series.machine
    states = {state.resource: state for state in about.diagnosis.resources}
    available = machine.memory_bytes("MemAvailable").median() or 0.0
    first = about.most(lambda application: application.private_bytes.median() or 0.0, 1.0)
    held = (first.private_bytes.median() or 0.0) if first else 0.0
    holder = (
        _say("memory", "holder", name=first.distinct_name, amount=size_text(held)) if first else ""
    )
    killed = about.finding(KILLED)
    used = states["swap"].used if "swap" in states else 0.0
    swap = "" if used < LEAST_SHARE else _say("memory", "swap", used=percent(used))
    is_short = any(is_strained(states[word].level) for word in ("memory", "swap") if word in states)
    said = _say(
        "memory",
        "yes" if is_short else "no",
        available=size_text(available),
        total=size_text(machine.managed_bytes),
        holder=holder,
        swap=swap,
        waited=percent(states["memory"].pressure or 0.0),
    )
    growing = about.finding(GROWING)
    if growing:
        said = f"{said} {growing}"
    return f"{_say('memory', 'killed', why=killed)} {said}" if killed else said


def _disk(about: _About) -> str:
    states = about.diagnosis.resources
    fault = about.finding(DISK_FAULTS)
    if fault:
        return _say("disk", "fault", why=fault)
    rooms = [state for state in states if state.resource == "storage"]
    fullest = max(rooms, key=lambda state: state.used, default=None)
    no_inodes = about.finding(INODES)
    if no_inodes:
        return _say("disk", "inodes", why=no_inodes)
    if fullest is not None and is_strained(fullest.level):
        return _say("disk", "full", point=fullest.name or "/", used=percent(fullest.used))
    disks = [state for state in states if state.resource == "disk"]
    slowest = max(disks, key=lambda state: state.pressure or 0.0, default=None)
    waited = percent((slowest.pressure or 0.0) if slowest else 0.0)
    if slowest is not None and is_strained(slowest.level):
        used = percent(slowest.used)
        return _say("disk", "yes", disk=slowest.name or "a disk", used=used, waited=waited)
    point, used = (fullest.name or "/", percent(fullest.used)) if fullest else ("/", "unknown")
    return f"{_say('disk', 'no', point=point, used=used, waited=waited)}{_disk_user(about, disks)}"


def _disk_user(about: _About, disks: list[ResourceState]) -> str:
    """Return the use of the busiest disk and the heaviest user; empty if all are idle."""
    busiest = max(disks, key=lambda state: state.used, default=None)
    user = about.most(lambda application: application.disk_bytes_per_s.mean(), LEAST_BYTES_PER_S)
    if busiest is None or busiest.used < LEAST_SHARE or user is None:
        return ""
    moved = size_text(user.disk_bytes_per_s.mean())
    name, disk = user.distinct_name, busiest.name or "a disk"
    return " " + _say("disk", "user", disk=disk, used=percent(busiest.used), name=name, moved=moved)


def _crash(about: _About) -> str:
    why = about.finding(CRASHED)
    return _say("crash", "yes", why=why) if why else _say("crash", "no")


def _security(about: _About) -> str:
    why = about.finding(ODD)
    return _say("security", "yes", why=why) if why else _say("security", "no")


def _program(about: _About, name: str) -> str:
    wanted = name.casefold()
    named = [
        application
        for application in about.series.applications
        if any(wanted in name.casefold() for name in _names(application))
    ]
    if not named:
        return _say("program", "unseen", name=name)
    application = max(
        named,
        key=lambda named_application: (
            named_application.cores.total() + named_application.waiting.total()
        ),
    )
    name, cause = application.distinct_name, about.diagnosis.cause
    waits, runs = _waits(application), about.cores(application)
    if cause and cause.application is application:
        # an application limited by a single CPU takes nothing from others
        answer = "bound" if about.diagnosis.limiting == "core" else "cause"
    elif waits:
        answer = "waits"
    else:
        answer = "idle" if application.cores.mean() < LEAST_CORES else "runs"
    return _say("program", answer, name=name, waits=" and ".join(waits), runs=runs)


def _names(application: Application) -> list[str]:
    return [application.distinct_name, *(member.facts.name for member in application.members)]


def _waits(application: Application) -> list[str]:
    """Return the resource that an application waited for, and its share of the time."""
    return [
        _say("program", kind, amount=percent(min(1.0, share)))
        for kind, share in (
            ("cpu", application.waiting.mean()),
            ("storage", application.io_waiting.mean()),
            ("lock", application.blocked["lock"].mean() if "lock" in application.blocked else 0.0),
        )
        if share >= LEAST_SHARE
    ]


ANSWERS: dict[str, Callable[[_About], str]] = {
    "slow": _slow,
    "freezes": _freezes,
    "stutters": _stutters,
    "hot": _hot,
    "noisy": _noisy,
    "battery": _battery,
    "network": _network,
    "memory": _memory,
    "disk": _disk,
    "start": _start,
    "crash": _crash,
    "security": _security,
}
