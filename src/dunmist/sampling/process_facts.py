"""Read the constant facts of a process: identity, owner, program, group.

Read once when a process appears, and again when it becomes another program.
"""

from collections.abc import Callable

from dunmist.computer import (
    COMMAND_LINE_BYTES,
    PF_KTHREAD,
    Parsed,
    ProcessFacts,
    ProcessGroups,
    ProcessStat,
    Root,
    parse_cgroup,
    parse_cmdline,
    parse_login_uid,
    parse_owner,
    read_groups,
    read_users,
)


class FactsReader:
    """Reads the facts of processes; the names of users and groups are read once."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._names: dict[int, str] = {}
        for user in read_users(root):
            # of two names for one number the first is the one that the system uses
            self._names.setdefault(user.uid, user.name)
        self._groups = read_groups(root)

    def read(self, name: str, stat: ProcessStat) -> ProcessFacts:
        """Return the facts of a process of which the line of now is known."""
        directory = f"proc/{name}"
        owner = self._part(f"{directory}/status", parse_owner, "owner of processes")
        uid, gid = owner or (None, None)
        kernel = bool(stat.flags & PF_KTHREAD)
        command_line = self._root.parse(
            f"{directory}/cmdline",
            parse_cmdline,
            "command lines",
            may_be_absent=True,
            most_bytes=COMMAND_LINE_BYTES,
        )
        words = command_line or []
        groups = self._part(f"{directory}/cgroup", parse_cgroup, "control groups of processes")
        unit, cpu = groups or ProcessGroups(None, None)
        return ProcessFacts(
            pid=stat.pid,
            start_clk=stat.start_clk,
            ppid=stat.ppid,
            session=stat.session,
            name=stat.name,
            kernel=kernel,
            uid=uid,
            user=None if uid is None else self._names.get(uid, str(uid)),
            gid=gid,
            group=None if gid is None else self._groups.get(gid, str(gid)),
            command_line=words,
            executable=None if kernel else self._executable(directory),
            input=input_of(self._root, directory, words),
            cgroup=unit,
            cpu_cgroup=cpu if cpu != unit else None,
            login_uid=self._part(f"{directory}/loginuid", parse_login_uid, "login users"),
            tty=stat.tty,
            policy=stat.policy,
            rt_priority=stat.rt_priority,
        )

    def _part(self, name: str, parser: Callable[[bytes], Parsed], subject: str) -> Parsed | None:
        return self._root.parse(name, parser, subject, may_be_absent=True)

    def _executable(self, directory: str) -> str | None:
        try:
            return self._root.link(f"{directory}/exe")
        except PermissionError:
            self._root.note("executables of processes", "permission", directory)
            return None


def input_of(root: Root, directory: str, words: list[str]) -> str | None:
    """Return the file that is the standard input of a process whose command line names no other."""
    if not words or not _names_no_file(words):
        return None
    try:
        target = root.link(f"{directory}/fd/0")
    except PermissionError:
        return None  # its descriptors are counted as hidden where they are read
    # terminals, pipes and sockets have no file of their own
    is_file = target is not None and target.startswith("/") and not target.startswith("/dev/")
    return target if is_file else None


def _names_no_file(words: list[str]) -> bool:
    """Whether a command line names nothing that could be read but its standard input."""
    return "-s" in words or all(word.startswith(("-", "/dev/")) for word in words[1:])


def program_files(facts: ProcessFacts) -> tuple[str, ...]:
    """Return the files that a process runs: its executable, and what an interpreter reads."""
    # a script follows its interpreter, after at most an option
    scripts = (word for word in facts.command_line[1:3] if word.startswith("/"))
    return (*((facts.executable,) if facts.executable else ()), *scripts)
