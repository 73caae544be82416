"""Takes one capture: root, plan and clock to the sampler, its records to a file.

Nothing imported here is heavy; this is the path that runs on the patient's computer.
"""

import os
import re
import resource
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, nullcontext
from datetime import datetime
from itertools import chain
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist import __version__
from dunmist.captures import FORMAT, VERSION, CaptureWriter, Footer, Header, Unseen, load_rules
from dunmist.computer import Inventory, Machine, Root, Unread, read_inventory, read_machine
from dunmist.errors import UnreadableComputer, WrongUsage
from dunmist.jobs.graceful_shutdown import BrokenOff, Ending, ended_by_signals
from dunmist.jobs.interim_verdict import FIRST_S, InterimJudge, InterimVerdict
from dunmist.jobs.settings import settings_directory
from dunmist.output import STANDARD, check_output
from dunmist.sampling import (
    Clock,
    Event,
    Observer,
    Plan,
    Record,
    SystemClock,
    Tick,
    find_observer,
    sample,
)

# gets what is sampled and by which user, returns the receiver of each record
RecordSink = Callable[[Record | InterimVerdict], None]
Follower = Callable[[Plan, Observer | None, Machine], AbstractContextManager[RecordSink]]


class CaptureOptions(NamedTuple):
    """Options of a capture."""

    output: Path | None  # None for a name made of host and time
    duration_s: float
    every_s: float
    root: Path = Path("/")
    note: str | None = None
    force: bool = False
    keeps_when_stopped: bool = True  # Ctrl-C ends early and keeps; otherwise it gives the job up
    complaints: tuple[str, ...] = ()
    until_sure: bool = False  # end when more would hardly change the verdict
    with_code: bool = True  # sample which code the busiest programs run
    with_files: bool = True  # and along which files those move that move most


class SampledBy(NamedTuple):
    """The process that reads for us: its number, and whether it is administrator."""

    pid: int
    is_privileged: bool


class Subject(NamedTuple):
    """Sampled computer: the machine, its sampler, and its constant facts."""

    machine: Machine
    observer: Observer | None
    inventory: Inventory


def follow_nothing(
    plan: Plan, observer: Observer | None, machine: Machine
) -> AbstractContextManager[RecordSink]:
    """Follow a capture without showing anything."""
    del plan, observer, machine
    return nullcontext(lambda record: None)


def run_capture(
    options: CaptureOptions,
    clock: Clock | None = None,
    follow: Follower = follow_nothing,
    sampled_by: SampledBy | None = None,
    root: Root | None = None,
) -> Path:
    """Sample as wished and return the path of the capture.

    Raises WrongUsage, UnreadableComputer or OutputError. With a clock of its own (a model
    computer's) no signal is caught; raises KeyboardInterrupt where a signal gives up the job.
    ``sampled_by`` is who reads in our place, ``root`` what is read instead of the options' own.
    """
    if options.every_s > options.duration_s:
        raise WrongUsage(
            f"--every {options.every_s:g} s is longer than --for {options.duration_s:g} s, "
            f"so there would be one tick; make it shorter"
        )
    if options.output:
        check_output(options.output, force=options.force)
    root = root or Root(options.root)
    try:
        system = SystemClock() if clock is None else None
        stop = system.stop if system and options.keeps_when_stopped else None
        with (
            InterimJudge() if _may_be_sure(options) and system else nullcontext() as judge_so_far,
            ended_by_signals(stop) if system else nullcontext(Ending(stop)) as ending,
        ):
            followers = _Followers(follow, ending, judge_so_far, system, sampled_by)
            return _write(options, root, clock or system or SystemClock(), followers)
    finally:
        root.close()


def _may_be_sure(options: CaptureOptions) -> bool:
    """Whether a capture can be judged while it is taken, and is long enough for it."""
    is_file = str(options.output) != STANDARD
    return options.until_sure and is_file and options.duration_s > FIRST_S


class _Followers(NamedTuple):
    """Followers of a capture: its end, and the check whether it is certain enough."""

    follow: Follower
    ending: Ending
    judge_so_far: InterimJudge | None
    system: SystemClock | None
    sampled_by: SampledBy | None = None


def _write(options: CaptureOptions, root: Root, clock: Clock, followers: _Followers) -> Path:
    follow, ending, judge_so_far, system, sampled_by = followers
    plan = Plan(options.duration_s, options.every_s)
    rules = load_rules(settings_directory() / "secrets.toml")
    started = clock.now()
    try:
        with ending.reading():
            subject = read_subject(root, sampled_by)
            machine, observer, inventory = subject
            records = sample(
                root,
                machine,
                inventory,
                plan,
                clock,
                with_code=options.with_code,
                with_files=options.with_files,
            )
            # the file is opened once there is a tick to keep, so that a failure leaves nothing
            first = list(_until_tick(records))
    except BrokenOff:
        first = []
    if not first:
        raise UnreadableComputer(f"{root.path}: stopped before the first tick; nothing was kept")
    output = options.output or Path(_file_name(machine, started.strftime("%Y%m%d-%H%M%S")))
    header = msgspec.structs.replace(
        header_of(root, subject, plan, started, sampled_by),
        note=options.note,
        complaints=list(options.complaints),
    )
    ticks = missed = 0
    with (
        follow(plan, observer, machine) as sink,
        CaptureWriter(output, force=options.force, rules=rules) as writer,
    ):
        writer.write(header)
        for record in chain(first, until_broken_off(records, ending)):
            writer.write(record)
            sink(record)
            if isinstance(record, Tick):
                interim = judge_so_far.tick(record.at_s, output) if judge_so_far else None
                if interim is not None:
                    sink(interim)
                    if interim.is_sure and system is not None:
                        system.stop()
                ending.kept = "standard output" if str(output) == STANDARD else str(output)
                ticks += 1
            elif isinstance(record, Event) and record.what == "gap":
                missed += record.count or 0
        writer.write(
            Footer(
                ended=clock.now().isoformat(timespec="milliseconds"),
                ticks=ticks,
                missed=missed,
                ended_early=ticks + missed < plan.intervals + 1,
                own_cpu_s=round(_used_s(), 4),
                blind_spots=_blind_spots(root.unread),
            )
        )
    return output


def read_subject(root: Root, sampled_by: SampledBy | None = None) -> Subject:
    """Return the sampled process and its user."""
    observer = find_observer(root, sampled_by.pid if sampled_by else None)
    return Subject(read_machine(root), observer, read_inventory(root))


def header_of(
    root: Root, subject: Subject, plan: Plan, started: datetime, sampled_by: SampledBy | None = None
) -> Header:
    """Return the first line of a capture that begins now."""
    return Header(
        format=FORMAT,
        version=VERSION,
        made_by=f"dunmist {__version__}",
        started=started.isoformat(timespec="milliseconds"),
        live=root.is_this_computer,
        privileged=sampled_by.is_privileged if sampled_by else os.geteuid() == 0,
        by_shell=sampled_by is not None,
        machine=subject.machine,
        plan=plan,
        inventory=subject.inventory,
        observer=subject.observer,
        blind_spots=_blind_spots(root.unread),
    )


def until_broken_off(records: Iterator[Record], ending: Ending) -> Iterator[Record]:
    """Yield records until a signal breaks off what is being read."""
    while True:
        try:
            with ending.reading():
                record = next(records, None)
        except BrokenOff:
            return
        if record is None:
            return
        yield record


def _until_tick(records: Iterator[Record]) -> Iterator[Record]:
    for record in records:
        yield record
        if isinstance(record, Tick):
            return


def _blind_spots(unread: dict[Unread, set[str]]) -> list[Unseen]:
    return [Unseen(spot.subject, spot.reason, len(names)) for spot, names in sorted(unread.items())]


def _file_name(machine: Machine, timestamp: str) -> str:
    host = re.sub(r"[^A-Za-z0-9._-]+", "-", machine.host or "computer").strip("-.") or "computer"
    return f"{host[:64]}-{timestamp}.jsonl.gz"


def _used_s() -> float:
    """Return the CPU time of the program and of children, which ask file systems for it."""
    return sum(
        used.ru_utime + used.ru_stime
        for used in map(resource.getrusage, (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    )
