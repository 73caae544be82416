"""One process and one application over a capture: who they are, and their figures on the time line.

A process is known by its identity, the number that the capture gave to process number and start
time together. All that is known of it hangs on its object; a process number leads to it by
``Series.living`` only. The figures are kept by ``processes`` in columns of all samples; an object
looks up its own when asked.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from dunmist.applications import Program, in_user_manager
from dunmist.applications import unit_of as unit_of_group
from dunmist.computer import ProcessDetail, ProcessFacts, ProcessSample
from dunmist.series.timeline import Level, Rate


class Thread(NamedTuple):
    """One watched thread: processors used, and time waited for one, a second.

    Both are unknown before it was watched.
    """

    tid: int
    name: str | None
    cores: Rate
    waiting: Rate


class ProcessFigures(NamedTuple):
    """Access to the samples of one process."""

    rate: Callable[[str], Rate]
    level: Callable[[str], Level]
    states: Callable[[], str]


@dataclass(eq=False, slots=True)
class Process:
    """One process over the capture."""

    identity: int  # PID and start time, numbered by the capture
    facts: ProcessFacts
    program: Program
    application: "Application"
    parent: "Process | None"
    first_row: int  # tick at which it was first seen
    ended_row: int | None  # tick at which it was no longer there, None while it lives
    started_inside: bool
    last: ProcessSample | None  # newest sample
    figures: ProcessFigures
    first_detail: ProcessDetail | None = None  # details read seldom, first and last
    detail: ProcessDetail | None = None
    cpu_s: float = 0.0  # over the capture
    children: list["Process"] = field(default_factory=list)
    threads: list[Thread] = field(default_factory=list)

    @property
    def pid(self) -> int:
        """Its process number, which another one may have had before or may get later."""
        return self.facts.pid

    @property
    def name(self) -> str:
        """Name of the program that it runs."""
        return self.program.name

    @property
    def is_alive(self) -> bool:
        """Whether it was there at the end of the capture."""
        return self.ended_row is None

    @property
    def state(self) -> str:
        """Its newest state, a letter of proc_pid_stat(5)."""
        return self.last.state if self.last else "?"

    @property
    def unit(self) -> str | None:
        """The service or scope that it belongs to."""
        return unit_of_group(self.facts.cgroup)

    def is_in(self, group: str) -> bool:
        """Whether it belongs to a control group, or to one below it."""
        return f"{self.facts.cgroup or ''}/".startswith(f"{group}/")

    @property
    def ancestors(self) -> list["Process"]:
        """The chain of parents that were seen, the nearest first."""
        chain: list[Process] = []
        parent = self.parent
        while parent is not None and parent not in chain:
            chain.append(parent)
            parent = parent.parent
        return chain

    @property
    def cores(self) -> Rate:
        """Logical CPUs used, unknown outside of its life."""
        return self.figures.rate("cores")

    @property
    def waiting(self) -> Rate:
        """Mean number of its threads that waited for a CPU (run-queue delay a second).

        Of all threads where they were watched, else of the first one.
        """
        return self.figures.rate("waiting")

    @property
    def io_waiting(self) -> Rate:
        """Mean number of its tasks that waited for storage."""
        return self.figures.rate("io_waiting")

    @property
    def read_bytes_per_s(self) -> Rate:
        """Bytes fetched from storage."""
        return self.figures.rate("read_bytes_per_s")

    @property
    def write_bytes_per_s(self) -> Rate:
        """Bytes caused to be written to storage."""
        return self.figures.rate("write_bytes_per_s")

    @property
    def major_faults_per_s(self) -> Rate:
        """Pages that had to be read from storage."""
        return self.figures.rate("major_faults_per_s")

    @property
    def rss_bytes(self) -> Level:
        """Its resident set, shared pages counted in full."""
        return self.figures.level("rss_bytes")

    @property
    def private_bytes(self) -> Level:
        """Its resident set without pages of files and shared memory."""
        return self.figures.level("private_bytes")

    @property
    def thread_count(self) -> Level:
        """Number of its threads."""
        return self.figures.level("threads")

    @property
    def states(self) -> str:
        """One letter of proc_pid_stat(5) a tick, a dot where it was not there."""
        return self.figures.states()


@dataclass(eq=False, slots=True)
class Application:
    """Processes that belong together, and their figures together.

    ``rates`` holds the figures by name that the properties below give. ``blocked`` are processes in
    state D by what they waited for at the tick. ``low_priority`` is the share of its time that it
    spent at a raised nice value. ``short_lived_programs`` counts by name those that it started and
    that were never seen.
    """

    number: int
    name: str
    unit: str | None
    kernel: bool
    observer: bool
    rates: Mapping[str, Rate]
    rss_bytes: Level
    private_bytes: Level
    blocked: Mapping[str, Level]
    low_priority: float
    short_lived_programs: Mapping[str, int]
    members: list[Process] = field(default_factory=list)
    has_namesakes: bool = False
    starts_generations: bool = False  # its short-lived children are among its members

    @property
    def own_cores(self) -> Rate:
        """Logical CPUs that its own processes used."""
        return self.rates["own_cores"]

    @property
    def short_lived_cores(self) -> Rate:
        """Logical CPUs used by children that were never or only partly seen."""
        return self.rates["short_lived_cores"]

    @property
    def cores(self) -> Rate:
        """Logical CPUs used in all."""
        return self.rates["cores"]

    @property
    def waiting(self) -> Rate:
        """Mean number of its tasks that waited for a CPU (run-queue delay a second)."""
        return self.rates["waiting"]

    @property
    def io_waiting(self) -> Rate:
        """Mean number of its tasks that waited for storage."""
        return self.rates["io_waiting"]

    @property
    def read_bytes_per_s(self) -> Rate:
        """Bytes fetched from storage."""
        return self.rates["read_bytes_per_s"]

    @property
    def write_bytes_per_s(self) -> Rate:
        """Bytes caused to be written to storage."""
        return self.rates["write_bytes_per_s"]

    @property
    def major_faults_per_s(self) -> Rate:
        """Pages that had to be read from storage."""
        return self.rates["major_faults_per_s"]

    @property
    def sent_bytes_per_s(self) -> Rate:
        """Bytes sent over TCP to other computers."""
        return self.rates["sent_bytes_per_s"]

    @property
    def received_bytes_per_s(self) -> Rate:
        """Bytes received over TCP from other computers."""
        return self.rates["received_bytes_per_s"]

    @property
    def graphics(self) -> Rate:
        """Seconds of graphics engines a second."""
        return self.rates["graphics"]

    @property
    def disk_bytes_per_s(self) -> Rate:
        """Bytes to and from storage."""
        return self.read_bytes_per_s + self.write_bytes_per_s

    @property
    def network_bytes_per_s(self) -> Rate:
        """Bytes over TCP to and from other computers."""
        return self.sent_bytes_per_s + self.received_bytes_per_s

    @property
    def living(self) -> list[Process]:
        """The members that were there at the end, the oldest first.

        Where some lived through the capture and others are gone in a second, these are left out: to
        stop one of their numbers stops nothing.
        """
        alive = sorted((process for process in self.members if process.is_alive), key=_age)
        if self.starts_generations:
            return [process for process in alive if not process.started_inside] or alive
        return alive

    @property
    def main(self) -> Process | None:
        """The oldest living process, or the oldest when none lives."""
        return min(self.living or self.members, key=_age, default=None)

    @property
    def distinct_name(self) -> str:
        """Its name, with the number of its main process where others share the name."""
        if not self.has_namesakes or self.main is None:
            return self.name
        return f"{self.name} (process {self.main.pid})"

    @property
    def users(self) -> list[str]:
        """The owners of its processes by name, those that have one."""
        return sorted(
            {process.facts.user for process in self.members if process.facts.user is not None}
        )

    @property
    def manager_user(self) -> str | None:
        """User whose service manager has its unit, None for the system's."""
        main = self.main
        if main is None or self.unit is None or not in_user_manager(main.facts.cgroup):
            return None
        return main.facts.user


def _age(process: Process) -> tuple[int, int]:
    return process.facts.start_clk, process.pid
