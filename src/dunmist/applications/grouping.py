"""Groups process identities into applications.

The first rule that applies decides: the sampler itself; a kernel task with those of its kind; the
service or desktop scope of its control group. Else it is the same program among the descendants of
the same ancestor: the topmost one below a launcher (a shell, a session, init).
"""

import posixpath
import re
from collections.abc import Hashable, Mapping
from dataclasses import dataclass, field

from dunmist.applications.launchers import SESSION_UNITS, UNIT
from dunmist.applications.programs import Program, program_of
from dunmist.computer import ProcessFacts
from dunmist.sampling import Observer

USER_MANAGER = "/user@"
SAMPLER = "dunmist"
# another sampler takes a few hundredths of a CPU: what takes more only has its name
OBSERVER_CORES_MOST = 0.25
_ESCAPED = re.compile(r"\\x([0-9a-fA-F]{2})")


@dataclass(slots=True)
class Group:
    """Processes that belong together."""

    name: str
    unit: str | None  # service or scope of its control group
    kernel: bool  # a thread of the kernel
    observer: bool  # Dunmist itself
    alike: bool = False  # has the name of the sampler and is another process, perhaps a forger
    members: list[int] = field(default_factory=list)  # identities of processes

    def samples(self, cores: float) -> bool:
        """Whether it samples, by its name and by how little of the CPUs it uses."""
        return self.observer or (self.alike and cores <= OBSERVER_CORES_MOST)


@dataclass(slots=True)
class _Member:
    facts: ProcessFacts
    program: Program
    parent: int | None


def unit_of(cgroup: str | None) -> str | None:
    """Return the innermost service or scope of a control group, None when it has none."""
    for part in reversed((cgroup or "").split("/")):
        if UNIT.match(part):
            return part
    return None


def unit_or_path(path: str) -> str:
    """Return the unit that a control group is of, or its path if it is a part of one."""
    last = path.rpartition("/")[2]
    return last if unit_of(path) == last else path


def in_user_manager(cgroup: str | None) -> bool:
    """Whether a control group is kept by a person's own service manager (``user@UID.service``)."""
    return USER_MANAGER in (cgroup or "")


class Grouping:
    """Assigns each identity, in the order in which they were first seen, to its application."""

    def __init__(self, observer: Observer | None) -> None:
        self.groups: list[Group] = []
        self.application_of: dict[int, int] = {}
        self._observer = (observer.pid, observer.start_clk) if observer else None
        self._members: dict[int, _Member] = {}
        self._by_pid: dict[int, int] = {}
        self._by_key: dict[Hashable, int] = {}

    def add(self, identity: int, facts: ProcessFacts) -> int:
        """Return the application of a process, making a new one when none fits."""
        program = program_of(facts)
        self._members[identity] = _Member(facts, program, self._by_pid.get(facts.ppid))
        self._by_pid[facts.pid] = identity
        return self._assign(identity)

    def replace(self, identity: int, facts: ProcessFacts) -> int:
        """Return the application of a process that now runs another program (execve(2))."""
        member = self._members.get(identity)
        if member is None:
            return self.add(identity, facts)
        self._members[identity] = _Member(facts, program_of(facts), member.parent)
        self.groups[self.application_of[identity]].members.remove(identity)
        return self._assign(identity)

    def facts(self, identity: int) -> ProcessFacts:
        """Return the newest facts of an identity; raises KeyError."""
        return self._members[identity].facts

    def program(self, identity: int) -> Program:
        """Return the program that an identity runs; raises KeyError."""
        return self._members[identity].program

    def parent(self, identity: int) -> int | None:
        """Return the identity of the parent, None when it was not seen."""
        return self._members[identity].parent

    def order_by_parent(self) -> None:
        """Assign all again once each parent is a member: a child may come before its parent."""
        pids = {member.facts.pid: identity for identity, member in self._members.items()}
        for member in self._members.values():
            if member.parent is None:
                parent = pids.get(member.facts.ppid)
                older = parent is not None and self._starts_before(parent, member)
                member.parent = parent if older else None
        self.groups.clear()
        self.application_of.clear()
        self._by_key.clear()
        for identity in sorted(self._members):
            self._assign(identity)

    def hand_over(self, adopted: Mapping[int, int]) -> dict[int, int]:
        """Give all members of some groups to another one each; return the new numbers of groups.

        A group that takes members keeps its name. Groups without members are gone.
        """
        final = {number: number for number in range(len(self.groups))} | {
            number: last_starter(number, adopted) for number in adopted
        }
        for number, starter in final.items():
            if number != starter:
                self.groups[starter].members += self.groups[number].members
        kept = [number for number in final if final[number] == number]
        renumbered = {number: index for index, number in enumerate(kept)}
        self.groups = [self.groups[number] for number in kept]
        renumbered |= {number: renumbered[final[number]] for number in adopted}
        self.application_of = {
            identity: renumbered[number] for identity, number in self.application_of.items()
        }
        return renumbered

    def _starts_before(self, identity: int, child: _Member) -> bool:
        return self._members[identity].facts.start_clk <= child.facts.start_clk

    def _assign(self, identity: int) -> int:
        member = self._members[identity]
        facts, program = member.facts, member.program
        observer = (facts.pid, facts.start_clk) == self._observer
        unit = unit_of(facts.cgroup)
        key: Hashable
        name = program.name
        if observer:
            key, unit = "observer", None
        elif facts.kernel:
            key, unit = program.key, None
        elif unit is not None and not SESSION_UNITS.match(unit):
            key = ("unit", facts.cgroup)
            if unit.endswith(".service"):
                name = _unescape(unit.removesuffix(".service"))
        else:
            key, unit = self._family_key(identity), None
        number = self._by_key.get(key)
        if number is None:
            number = len(self.groups)
            self._by_key[key] = number
            alike = not observer and program.name.partition(".")[0] == SAMPLER
            self.groups.append(Group(name, unit, facts.kernel, observer, alike))
        self.groups[number].members.append(identity)
        self.application_of[identity] = number
        return number

    def _family_key(self, identity: int) -> Hashable:
        top = identity
        seen = {identity}
        parent = self._members[top].parent
        while parent is not None and parent not in seen:
            if self._members[parent].program.launches or self._members[parent].facts.kernel:
                break
            seen.add(parent)
            top, parent = parent, self._members[parent].parent
        launcher = parent if parent is not None else -1
        return (self._members[identity].program.key, self._members[top].program.key, launcher)


def last_starter(number: int, adopted: Mapping[int, int]) -> int:
    """Return the final group of the members, where the taking group was taken itself."""
    seen = set()
    while number in adopted and number not in seen:
        seen.add(number)
        number = adopted[number]
    return number


def _unescape(unit: str) -> str:
    name = _ESCAPED.sub(lambda match: chr(int(match[1], 16)), unit)
    return posixpath.basename(name) or unit
