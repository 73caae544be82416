"""Load averages with what they mean here, and how many processes are in which state."""

from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.tables.declared import Column, Table, Width

# load for each logical CPU, and what it means from there on
MEANINGS = (
    (1.5, "more tasks want to run than there are CPUs, or tasks wait for a disk"),
    (1.0, "all CPUs have work; some tasks wait"),
    (0.7, "most CPUs have work"),
    (0.0, "CPUs are free"),
)
# proc_pid_stat(5)
STATES = {
    "R": "running or ready to run",
    "S": "sleeping",
    "I": "idle (tasks of the kernel)",
    "D": "waiting uninterruptibly, mostly for a disk",
    "T": "stopped",
    "t": "stopped by a debugger",
    "Z": "exited, not yet collected by its parent",
}


class LoadAverage(NamedTuple):
    """The load average over some minutes, and its meaning here."""

    minutes: int
    load: float
    for_each_cpu: float
    meaning: str


def _load(judged: Judged) -> Iterator[LoadAverage]:
    machine = judged.series.machine
    for minutes, level in (
        (1, machine.load_one),
        (5, machine.load_five),
        (15, machine.load_fifteen),
    ):
        load = level.last()
        if load is not None:
            each = load / machine.logical_processors
            meaning = next(text for least, text in MEANINGS if each >= least)
            yield LoadAverage(minutes, load, each, meaning)


LOAD: Table[LoadAverage] = Table(
    "load average",
    "at the end of the capture; it counts tasks that run, wait for a CPU or wait for a disk",
    (
        Column("minutes", "number", "damped over so many minutes"),
        Column("load", "figure", "tasks"),
        Column("for_each_cpu", "figure", "tasks for each logical CPU"),
        Column("meaning", "text", "what that means for this many CPUs", width=Width(most=70)),
    ),
    _load,
)


class InState(NamedTuple):
    """Number of processes in one state."""

    state: str
    meaning: str
    processes: int
    threads: int


def _states(judged: Judged) -> Iterator[InState]:
    processes: Counter[str] = Counter()
    threads: Counter[str] = Counter()
    for process in judged.series.living.values():
        if process.last is not None:
            processes[process.last.state] += 1
            threads[process.last.state] += process.last.threads
    for state in sorted(processes, key=lambda letter: -processes[letter]):
        meaning = STATES.get(state, "another state")
        yield InState(state, meaning, processes[state], threads[state])


PROCESS_STATES: Table[InState] = Table(
    "states",
    "how many processes were in which state at the end of the capture",
    (
        Column("state", "text", "letter of proc_pid_stat(5)"),
        Column("meaning", "text", "its meaning here", width=Width(most=50)),
        Column("processes", "number", "processes whose first thread was in this state"),
        Column("threads", "number", "threads of these processes"),
    ),
    _states,
)
