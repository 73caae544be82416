"""List the processes that use a file now, for ``view process /path``."""

from typing import Any

from dunmist.tables.declared import Column, Table, Width
from dunmist.tables.shared_columns import COMMAND_LINE, PID, PROGRAM, USER

# its records are given: they are of now, and no capture holds them
FILE_USERS: Table[Any] = Table(
    "users of the file",
    "one row for each descriptor, mapping, working directory and executable",
    (
        PROGRAM,
        PID,
        USER,
        Column("manner", "text", "reads, writes, mapped, works in or runs", title="how"),
        Column("path", "text", "the file, where a directory was asked for", width=Width(most=60)),
        COMMAND_LINE,
    ),
    lambda judged: (),
)
