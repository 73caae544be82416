"""Columns that several tables have."""

from typing import Any

from dunmist.tables.declared import Column, Width

APPLICATION: Column[Any] = Column("application", "text", "what the processes together are called",
    width=Width(24), answers=("name",))
APPLICATION_NUMBER: Column[Any] = Column("application_number", "number",
    "its number in the capture")
PID: Column[Any] = Column("pid", "number", "process number", answers=("pid",))
PIDS: Column[Any] = Column("pids", "text", "process numbers", answers=("pid",))
PROGRAM: Column[Any] = Column("program", "text", "name of its program", width=Width(),
    answers=("name",))
USER: Column[Any] = Column("user", "text", "owner", answers=("owner",))
USERS: Column[Any] = Column("users", "text", "owners", width=Width(), answers=("owner",))
UNIT: Column[Any] = Column("unit", "text", "service or scope that it belongs to", width=Width(),
    answers=("name", "service"))
STATE: Column[Any] = Column("state", "text", "a letter of proc_pid_stat(5), or ended",
    answers=("state",))
ROLE: Column[Any] = Column("role", "text", "cause, symptom, victim, or observer (Dunmist itself)",
    answers=("role",))
CORES_MEAN: Column[Any] = Column("cores_mean", "cores", "logical CPUs used, mean",
    answers=("least",))
CORES_MAX: Column[Any] = Column("cores_max", "cores", "logical CPUs used, most in an interval")
CORES_CURVE: Column[Any] = Column("cores_curve", "curve", "logical CPUs used over the capture")
MACHINE_SHARE: Column[Any] = Column("machine_share", "share", "share of all logical CPUs")
RSS_BYTES: Column[Any] = Column("rss_bytes", "bytes", "resident set, shared pages in full",
    title="resident")
PRIVATE_BYTES: Column[Any] = Column(
    "private_bytes", "bytes", "memory not shared with other processes"
)
CHANGE_BYTES: Column[Any] = Column("change_bytes", "bytes", "change over the capture")
DISK_BYTES: Column[Any] = Column("disk_bytes_per_s", "bytes/s", "to and from storage", title="disk")
NETWORK_BYTES: Column[Any] = Column("network_bytes_per_s", "bytes/s",
    "over TCP to and from other computers", title="network")
UIDS: Column[Any] = Column("uids", "text", "numbers of their owners", answers=("owner",))
GROUPS: Column[Any] = Column("groups", "text", "effective groups of its processes", width=Width(),
    answers=("owner",))
PORTS: Column[Any] = Column("ports", "text", "local ports of its sockets", answers=("port",))
COMMAND_LINE: Column[Any] = Column("command_line", "text", "arguments, secrets masked",
    width=Width(most=60))
