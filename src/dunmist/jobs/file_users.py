"""Find the processes that have a file open now, with owner and command line."""

import os
from pathlib import Path
from typing import NamedTuple

from dunmist.captures import mask_secrets
from dunmist.computer import Root, read_users
from dunmist.computer.open_files import read_file_uses
from dunmist.computer.processes import parse_cmdline
from dunmist.errors import UnknownName
from dunmist.fixing.live_processes import read_live


class FileUser(NamedTuple):
    """One use of the file by a process."""

    program: str
    pid: int
    user: str
    manner: str
    path: str
    command_line: str


class FileUsers(NamedTuple):
    """All uses that could be seen, and how many processes hide theirs."""

    path: str
    users: list[FileUser]
    hidden: int


def file_users(path: str) -> FileUsers:
    """Return the users of a file or directory; raises UnknownName if it does not exist."""
    # the way to the file is followed, as the kernel names files by where they are
    real = os.path.realpath(Path(path).expanduser())
    if not os.path.lexists(real):
        raise UnknownName(f"{path}: no such file or directory; give the path of one that exists")
    root = Root(Path("/"))
    uses = read_file_uses(root, real)
    live = read_live(root)
    names = {user.uid: user.name for user in reversed(read_users(root))}
    users = []
    for use in uses.uses:
        process = live.get(use.pid)
        if process is not None:
            words = mask_secrets(parse_cmdline(process.command))
            uid = process.uid
            owner = "unknown" if uid is None else names.get(uid, str(uid))
            name = process.masked_program.name
            users.append(FileUser(name, use.pid, owner, use.manner, use.path, " ".join(words)))
    return FileUsers(real, users, uses.hidden)
