"""Columns that several tables have."""

from dunmist.tables.declared import Column, Width

APPLICATION = Column(
    "application", "text", "what the processes together are called", Width(24), ("name",)
)
APPLICATION_NUMBER = Column("application_number", "number", "its number in the capture")
PID = Column("pid", "number", "process number", answers=("pid",))
PIDS = Column("pids", "text", "process numbers", answers=("pid",))
PROGRAM = Column("program", "text", "what its program is called", Width(), ("name",))
USER = Column("user", "text", "owner", answers=("owner",))
USERS = Column("users", "text", "owners", Width(), ("owner",))
UNIT = Column("unit", "text", "service or scope that it belongs to", Width(), ("name", "service"))
STATE = Column("state", "text", "a letter of proc_pid_stat(5), or ended", answers=("state",))
ROLE = Column(
    "role", "text", "cause, symptom, victim, or observer (Dunmist itself)", answers=("role",)
)
CORES_MEAN = Column("cores_mean", "cores", "logical CPUs used, mean", answers=("least",))
CORES_MAX = Column("cores_max", "cores", "logical CPUs used, most in an interval")
CORES_CURVE = Column("cores_curve", "curve", "logical CPUs used over the capture")
MACHINE_SHARE = Column("machine_share", "share", "share of all logical CPUs")
RSS_BYTES = Column("rss_bytes", "bytes", "resident set, shared pages in full", title="resident")
PRIVATE_BYTES = Column("private_bytes", "bytes", "memory that nobody shares")
CHANGE_BYTES = Column("change_bytes", "bytes", "change over the capture")
DISK_BYTES = Column("disk_bytes_per_s", "bytes/s", "to and from storage", title="disk")
NETWORK_BYTES = Column(
    "network_bytes_per_s", "bytes/s", "over TCP to and from other computers", title="network"
)
UIDS = Column("uids", "text", "numbers of their owners", answers=("owner",))
GROUPS = Column("groups", "text", "effective groups of its processes", Width(), ("owner",))
PORTS = Column("ports", "text", "local ports of its sockets", answers=("port",))
COMMAND_LINE = Column("command_line", "text", "arguments, secrets masked", Width(most=60))
