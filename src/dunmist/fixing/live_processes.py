"""Read the current processes: descendants, and processes that came back.

The capture is older than the act; what matters for not doing harm is read again from proc(5).
"""

import os
from collections import defaultdict
from typing import NamedTuple

from dunmist.advice import Target
from dunmist.applications import Program, program_of
from dunmist.captures import mask_secrets
from dunmist.computer import COMMAND_LINE_BYTES, ProcessFacts, ProcessStat, Root, parse_cmdline
from dunmist.fixing.pidfd import read_stat
from dunmist.sampling import input_of


class Live(NamedTuple):
    """One process now, with what it runs."""

    stat: ProcessStat
    uid: int | None
    command: bytes
    executable: str | None
    input: str | None

    @property
    def program(self) -> Program:
        """Its program, as captures name it."""
        return self._program(parse_cmdline(self.command))

    @property
    def masked_program(self) -> Program:
        """Its program, by the masked command line of a capture."""
        return self._program(mask_secrets(parse_cmdline(self.command)))

    def _program(self, words: list[str]) -> Program:
        return program_of(
            ProcessFacts(
                self.stat.pid,
                self.stat.start_clk,
                self.stat.ppid,
                self.stat.session,
                self.stat.name,
                command_line=words,
                executable=self.executable,
                input=self.input,
            )
        )

    @property
    def target(self) -> Target:
        """The identity of the process."""
        return Target(self.stat.pid, self.stat.start_clk, self.stat.name, self.uid)


def read_live(root: Root) -> dict[int, Live]:
    """Return all processes by number."""
    live = {}
    for name in root.names("proc"):
        if name.isdigit():
            process = read_one(root, int(name))
            if process:
                live[int(name)] = process
    return live


def read_one(root: Root, pid: int) -> Live | None:
    """Return one process, None when it has ended."""
    stat = read_stat(root, pid)
    if stat is None:
        return None
    try:
        uid: int | None = os.stat(root.full(f"proc/{pid}")).st_uid  # noqa: PTH116 - text
        command = root.read_start(f"proc/{pid}/cmdline", COMMAND_LINE_BYTES)
    except OSError:
        return None  # it ended between two reads
    try:
        executable = root.link(f"proc/{pid}/exe")
    except PermissionError:
        executable = None
    given = input_of(root, f"proc/{pid}", parse_cmdline(command))
    return Live(stat, uid, command, executable, given)


def descendants(live: dict[int, Live], pids: set[int]) -> list[Live]:
    """Return all that descend from the given processes, without these."""
    children: dict[int, list[Live]] = defaultdict(list)
    for process in live.values():
        children[process.stat.ppid].append(process)
    members: list[Live] = []
    wanted = list(pids)
    seen = set(pids)
    while wanted:
        for child in children[wanted.pop()]:
            if child.stat.pid not in seen:
                seen.add(child.stat.pid)
                members.append(child)
                wanted.append(child.stat.pid)
    return members


def family(live: dict[int, Live], targets: list[Target]) -> list[Target]:
    """Return those that descend from the targets, run the same programs, and are not among them.

    A file manager's documents descend from it as well, but are applications of their own. Processes
    of another owner are left out: who was asked about the others was not asked about them.
    """
    pids = {target.pid for target in targets}
    programs = {live[pid].program.key for pid in pids}
    owners = {live[pid].uid for pid in pids}
    return [
        process.target
        for process in descendants(live, pids)
        if process.program.key in programs and process.uid in owners
    ]


def ancestors(live: dict[int, Live], pid: int) -> set[int]:
    """Return a process and all that it runs under."""
    chain: set[int] = set()
    while pid in live and pid not in chain:
        chain.add(pid)
        pid = live[pid].stat.ppid
    return chain


def came_back(before: dict[int, Live], now: dict[int, Live], ended: list[int]) -> list[Live]:
    """Return new processes that run what the ended ones ran, by command line and owner."""
    gone = {(before[pid].command, before[pid].uid) for pid in ended if pid in before}
    known = {(process.stat.pid, process.stat.start_clk) for process in before.values()}
    return [
        process
        for process in now.values()
        if (process.command, process.uid) in gone
        and (process.stat.pid, process.stat.start_clk) not in known
    ]
