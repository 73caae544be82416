"""Small series made by hand: a time line, figures on it, applications, a whole examination."""

import dataclasses
from types import SimpleNamespace

import numpy as np

from dunmist.applications import Program
from dunmist.computer import ProcessFacts, ProcessSample
from dunmist.diagnosis import Examination, thresholds
from dunmist.series import (
    Application,
    DiskSeries,
    Level,
    LinkSeries,
    LogicalProcessor,
    Process,
    Rate,
    Thread,
    TimeLine,
)

RATES = (
    "own_cores",
    "short_lived_cores",
    "cores",
    "waiting",
    "io_waiting",
    "read_bytes_per_s",
    "write_bytes_per_s",
    "major_faults_per_s",
    "sent_bytes_per_s",
    "received_bytes_per_s",
    "graphics",
)
KINDS = ("user", "nice", "system", "idle", "iowait", "irq", "softirq", "steal")
GIB = float(1 << 30)
MOST_HZ = 3e9


def line(intervals=10, every_s=1.0):
    return TimeLine(np.arange(intervals + 1) * every_s)


def rate(values, on=None):
    on = on or line(len(values))
    return Rate(on, np.broadcast_to(np.asarray(values, dtype=float), (on.intervals,)).copy())


def level(values, on=None):
    on = on or line(len(values) - 1)
    return Level(on, np.broadcast_to(np.asarray(values, dtype=float), (on.ticks,)).copy())


def facts(pid, ppid=1, **more):
    more.setdefault("name", f"auk{pid}")
    more.setdefault("start_clk", pid)
    more.setdefault("session", 1)
    return ProcessFacts(pid=pid, ppid=ppid, **more)


def sample(identity, own_clk=0, children_clk=0, **more):
    made = ProcessSample(identity, "S", own_clk, 0, children_clk, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0)
    import msgspec

    return msgspec.structs.replace(made, **more)


def application(number, on, name=None, private=0.0, **figures):
    """An application with the given figures; what is not given is nought."""
    constant = {name: rate(figures.pop(name, 0.0), on) for name in RATES}
    return Application(
        number=number,
        name=name or f"auk{number}",
        unit=figures.pop("unit", None),
        kernel=figures.pop("kernel", False),
        observer=figures.pop("observer", False),
        rates=constant,
        rss_bytes=level(private, on),
        private_bytes=level(private, on),
        blocked={},
        low_priority=figures.pop("low_priority", 0.0),
        short_lived_programs={},
    )


def process(
    pid, of, on, threads=1, cores=0.0, waiting=0.0, private=0.0, shared=0.0, watched=(), **about
):
    """A process of an application that lives all the time; ``about`` are facts of it."""
    rates = dict.fromkeys(RATES, rate(0.0, on))
    rates |= {"cores": rate(cores, on), "waiting": rate(waiting, on)}
    levels = {
        "private_bytes": level(private, on),
        "rss_bytes": level(np.asarray(private) + shared, on),
    }
    figures = SimpleNamespace(
        rate=rates.__getitem__, level=levels.__getitem__, states=lambda: made.state * on.ticks
    )
    made = Process(
        identity=pid,
        facts=facts(pid, **about),
        program=Program(of.name, of.name, False),
        application=of,
        parent=None,
        first_row=0,
        ended_row=None,
        started_inside=False,
        last=sample(pid, threads=threads),
        figures=figures,
        cpu_s=rates["cores"].total(),
        threads=list(watched),
    )
    of.members.append(made)
    return made


def processors(on, count=4, clock=None, base=None, **shares):
    """Processors that all spend their time in the same way, the rest of it idle.

    ``clock`` is the share of their greatest clock at which they run, ``base`` that of the base
    clock.
    """
    clock_hz = None if clock is None else level(clock * MOST_HZ, on)
    place = (
        None
        if clock is None
        else SimpleNamespace(
            max_khz=MOST_HZ / 1e3, base_khz=base and base * MOST_HZ / 1e3, governor="shadow"
        )
    )
    spent = {kind: np.asarray(shares.get(kind, 0.0), dtype=float) for kind in KINDS}
    spent["idle"] = 1.0 - sum(spent.values())
    return [
        LogicalProcessor(
            number, place, {kind: rate(item, on) for kind, item in spent.items()}, clock_hz
        )
        for number in range(count)
    ]


@dataclasses.dataclass
class Machine:
    """What judges ask of a machine; memory in GiB."""

    line: TimeLine
    processors: list
    stalled: dict = dataclasses.field(default_factory=dict)
    memory: dict = dataclasses.field(default_factory=dict)
    paging: dict = dataclasses.field(default_factory=dict)
    runnable: Level = None
    uptime_s: float = 86_400.0
    logical_processors: float = 4.0
    managed_bytes: float = 8 * GIB

    def __post_init__(self):
        self.online = rate(float(len(self.processors)), self.line)
        self.busy_cores = Rate.total_of(
            self.line, [processor.busy for processor in self.processors]
        )
        self.used = self.busy_cores / self.online
        self.load_one = self.load_five = self.load_fifteen = self.tasks = Level.unknown(self.line)
        self.runnable = self.runnable or Level.unknown(self.line)
        self.forks_per_s = Rate.nothing(self.line)
        self.most_clock_hz = None

    @property
    def killed(self):
        kills = self.paging.get("oom_kill")
        return 0 if kills is None else round(kills.total())

    def memory_bytes(self, word):
        return (
            level(self.memory[word] * GIB, self.line)
            if word in self.memory
            else (Level.unknown(self.line))
        )

    def paging_per_s(self, *words):
        known = [rate(self.paging[word], self.line) for word in words if word in self.paging]
        return Rate.total_of(self.line, known)


def examination(machine, applications=(), processes=(), **devices):
    """An examination of a machine with applications, judged by the table's thresholds."""
    usual = {
        "groups": [],
        "physical_disks": [],
        "outward_links": [],
        "graphics": [],
        "throttled": {},
        "sensors": [],
        "links": [],
        "tcp": {},
        "supplies": {},
    }
    weights = {device.path: device for device in devices.pop("weights", ())}
    surveyed = SimpleNamespace(
        frozen_groups=[],
        task_limits=[],
        io_limits=[],
        storage=devices.pop("storage", []),
        scheduled=weights.get,
        autogroup=devices.pop("autogroup", False),
        deleted_files=devices.pop("deleted_files", []),
        gateways=[],
        radio={},
        filled_bytes=devices.pop("filled_bytes", {}).get,
        surveys=[SimpleNamespace(tick=0)],
    )
    series = SimpleNamespace(
        sampler=next((item for item in processes if item.application.observer), None),
        processor_cpu_s=devices.pop("processor_cpu_s", ()),
        line=machine.line,
        machine=machine,
        applications=list(applications),
        processes={item.identity: item for item in processes},
        living={item.pid: item for item in processes},
        devices=SimpleNamespace(**{**usual, **devices}),
        surveyed=surveyed,
        sockets=[],
        unix_connections=[],
        log_ends=[],
        terminals=[],
        header=SimpleNamespace(
            observer=None,
            machine=SimpleNamespace(clock_ticks_per_s=100),
            inventory=SimpleNamespace(disks=[]),
        ),
        package_power=None,
        complaints=[],
        processor_sensor=devices.get("sensor"),
        duration_s=machine.line.duration_s,
        ticks=machine.line.ticks,
        taken_share=1.0,
    )
    return Examination(series, thresholds())


def disk(on, busy=0.0, queue=0.0, latency_s=0.0, moved=0.0, name="sda", spins=None):
    """A physical disk; ``moved`` is bytes a second read from it."""
    about = None if spins is None else SimpleNamespace(spins=spins, removable=False)
    return DiskSeries(
        name,
        about,
        True,
        rate(moved, on),
        rate(0.0, on),
        rate(1.0, on),
        rate(0.0, on),
        rate(busy, on),
        rate(queue, on),
        rate(latency_s, on),
    )


def link(on, used=None, received=0.0, name="eth0", physical=True):
    """A link that leads to other computers, of 1 Gbit/s where ``used`` is given."""
    about = SimpleNamespace(
        loopback=False, physical=physical, speed_bits_per_s=1e9, addresses=[], signal_dbm=None
    )
    return LinkSeries(
        name,
        about,
        rate(received, on),
        rate(0.0, on),
        rate(0.0, on),
        rate(0.0, on),
        None if used is None else rate(used, on),
    )


def watched(on, cores, waiting=0.0, tid=1):
    """A thread that was watched all the time."""
    return Thread(tid, f"thread{tid}", rate(cores, on), rate(waiting, on))
