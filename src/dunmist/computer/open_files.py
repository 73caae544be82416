"""Find the processes that use a file: descriptors, mappings, directories, executables.

Sources: proc_pid_fd(5), proc_pid_fdinfo(5), proc_pid_maps(5), proc_pid_cwd(5), proc_pid_exe(5).
Only links and text are read; the file itself is never opened, so a dead server makes nobody wait.
"""

import re
from collections.abc import Iterator
from typing import Literal, NamedTuple

from dunmist.computer.root import Root

Manner = Literal["reads", "writes", "reads and writes", "mapped", "works in", "runs"]
# the lowest two bits of the flags of open(2)
_MANNERS: tuple[Manner, ...] = ("reads", "writes", "reads and writes", "reads and writes")
_FLAGS = re.compile(rb"^flags:\s+([0-7]{1,12})$", re.M)
_DELETED = " (deleted)"
# a program with very many libraries has some thousand mappings of a hundred bytes
MAPS_MOST_BYTES = 4 << 20


class FileUse(NamedTuple):
    """One way in which a process uses a file; of a directory, any file in it."""

    pid: int
    manner: Manner
    path: str
    descriptor: int | None = None


class FileUses(NamedTuple):
    """All uses that could be seen, and how many processes hide theirs."""

    uses: list[FileUse]
    hidden: int


def read_file_uses(root: Root, path: str) -> FileUses:
    """Return the users of a file, or of a directory with its contents, by absolute path."""
    uses: list[FileUse] = []
    hidden = 0
    for name in root.names("proc"):
        if name.isdigit():
            try:
                uses.extend(dict.fromkeys(_uses(root, int(name), path)))
            except PermissionError:
                hidden += 1
            except OSError:
                continue  # it ended meanwhile
    return FileUses(uses, hidden)


def _uses(root: Root, pid: int, path: str) -> Iterator[FileUse]:
    directory = f"proc/{pid}"
    links: tuple[tuple[str, Manner], ...] = (("cwd", "works in"), ("exe", "runs"))
    for link, manner in links:
        target = root.link(f"{directory}/{link}")
        if target is not None and _is_below(target, path):
            yield FileUse(pid, manner, target)
    for number, target in root.links_in(f"{directory}/fd"):
        if target is not None and _is_below(target, path):
            flags = _FLAGS.search(root.read(f"{directory}/fdinfo/{number}"))
            manner = _MANNERS[int(flags[1], 8) & 3] if flags else "reads"
            yield FileUse(pid, manner, target, int(number))
    for line in root.read_start(f"{directory}/maps", MAPS_MOST_BYTES).splitlines():
        # address, rights, offset, device, inode, path
        fields = line.split(maxsplit=5)
        if len(fields) > 5:
            target = fields[5].decode(errors="surrogateescape")
            if _is_below(target, path):
                yield FileUse(pid, "mapped", target)


def _is_below(target: str, path: str) -> bool:
    plain = target.removesuffix(_DELETED)
    return plain == path or plain.startswith(path.rstrip("/") + "/")
