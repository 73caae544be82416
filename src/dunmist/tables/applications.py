"""Topic ``processes``: the applications, each with all that its processes did together."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import ProcessFacts
from dunmist.series import Application
from dunmist.tables.declared import CURVE_POINTS, Column, Table, Width
from dunmist.tables.ports import ports_of_each, ports_text
from dunmist.tables.shared_columns import (
    APPLICATION,
    APPLICATION_NUMBER,
    CHANGE_BYTES,
    COMMAND_LINE,
    CORES_CURVE,
    CORES_MAX,
    CORES_MEAN,
    DISK_BYTES,
    GROUPS,
    MACHINE_SHARE,
    NETWORK_BYTES,
    PORTS,
    PRIVATE_BYTES,
    ROLE,
    RSS_BYTES,
    UIDS,
    UNIT,
    USERS,
)

BLOCKED = ("storage", "pages", "lock", "other")
SHORT_LIVED_SHOWN = 5


class OneApplication(NamedTuple):
    """One application, with the local ports of all processes."""

    application: Application
    judged: Judged
    ports: Mapping[int, set[int]]

    @property
    def facts(self) -> list[ProcessFacts]:
        """Facts of its processes."""
        return [process.facts for process in self.application.members]


def applications_of(
    judged: Judged, applications: Iterable[Application] | None = None
) -> Iterator[OneApplication]:
    """Yield each application, or each of the given ones."""
    ports = ports_of_each(judged.series)
    for application in judged.series.applications if applications is None else applications:
        yield OneApplication(application, judged, ports)


def _machine_share(row: OneApplication) -> float:
    return row.application.cores.mean() / row.judged.series.machine.logical_processors


def _command_line(row: OneApplication) -> str | None:
    main = row.application.main
    return " ".join(main.facts.command_line) or None if main else None


def _blocked(kind: str) -> Callable[[OneApplication], float]:
    def mean(row: OneApplication) -> float:
        blocked = row.application.blocked.get(kind)
        return 0.0 if blocked is None else blocked.mean()

    return mean


APPLICATIONS: Table[OneApplication] = Table(
    "applications",
    "the greatest use first",
    (
        Column("label", "text", "its name, with its program if others have the same name",
            lambda row: label_of(row.application), width=Width(24), answers=("name",),
            title="application"),
        APPLICATION.of(lambda row: row.application.name),
        Column("pid", "number", "main process: the oldest that lives",
            lambda row: row.application.main and row.application.main.pid),
        APPLICATION_NUMBER.of(lambda row: row.application.number),
        Column("processes", "number", "how many processes it had",
            lambda row: len(row.application.members)),
        USERS.of(lambda row: _joined(fact.user or "unknown" for fact in row.facts)),
        UIDS.of(lambda row: _joined(fact.uid for fact in row.facts)),
        GROUPS.of(lambda row: _joined(fact.group for fact in row.facts)),
        UNIT.of(lambda row: row.application.unit),
        CORES_MEAN.of(lambda row: row.application.cores.mean()),
        Column("cores_median", "cores", "logical CPUs used, median",
            lambda row: row.application.cores.median()),
        CORES_MAX.of(lambda row: row.application.cores.greatest()),
        CORES_CURVE.of(lambda row: row.application.cores.curve(CURVE_POINTS)),
        MACHINE_SHARE.of(_machine_share),
        Column("short_lived_cores", "figure", "of that by children that were never seen",
            lambda row: row.application.short_lived_cores.mean()),
        Column("waiting_tasks", "figure", "mean number that waited for a CPU",
            lambda row: row.application.waiting.mean()),
        PRIVATE_BYTES.of(lambda row: row.application.private_bytes.median()),
        CHANGE_BYTES.of(lambda row: row.application.private_bytes.change()),
        RSS_BYTES.of(lambda row: row.application.rss_bytes.median()),
        Column("read_bytes_per_s", "bytes/s", "from storage",
            lambda row: row.application.read_bytes_per_s.mean()),
        Column("write_bytes_per_s", "bytes/s", "to storage",
            lambda row: row.application.write_bytes_per_s.mean()),
        DISK_BYTES.of(lambda row: row.application.disk_bytes_per_s.mean()),
        NETWORK_BYTES.of(lambda row: row.application.network_bytes_per_s.mean()),
        Column("sent_bytes_per_s", "bytes/s", "over TCP to other computers",
            lambda row: row.application.sent_bytes_per_s.mean()),
        Column("received_bytes_per_s", "bytes/s", "over TCP from other computers",
            lambda row: row.application.received_bytes_per_s.mean()),
        Column("io_waiting_tasks", "figure", "mean number that waited for storage",
            lambda row: row.application.io_waiting.mean()),
        *(
            Column(f"blocked_{kind}", "figure", f"processes seen waiting for {what}, on average",
                _blocked(kind))
            for kind, what in zip(
                BLOCKED, ("storage", "pages", "a lock in the kernel", "something else"), strict=True
            )
        ),
        Column("short_lived_programs", "text", "names and counts of those never seen",
            lambda row: _counted(row.application.short_lived_programs)),
        Column("major_faults_per_s", "a second", "pages read from storage",
            lambda row: row.application.major_faults_per_s.mean()),
        PORTS.of(lambda row: ports_text(row.ports, row.application.members)),
        COMMAND_LINE.of(_command_line),
        Column("observer", "flag", "whether it is Dunmist itself",
            lambda row: row.application.observer),
        ROLE.of(lambda row: row.judged.diagnosis.role_of(row.application)),
    ),
    applications_of,
    shown=("label", "pid", "cores_mean", "private_bytes", "disk_bytes_per_s", "network_bytes_per_s",
        "users", "role", "processes", "machine_share", "cores_curve", "waiting_tasks",
        "change_bytes", "cores_max", "read_bytes_per_s", "write_bytes_per_s", "sent_bytes_per_s",
        "received_bytes_per_s", "command_line"),
    order=("cores_mean",),
)


def label_of(application: Application) -> str:
    """Return its name; of several with one name, with the file or word that tells it apart."""
    main = application.main
    if not application.has_namesakes or main is None:
        return application.name
    words = [word for word in main.facts.command_line[1:] if not word.startswith("-")]
    program = words[0].rpartition("/")[2] if words else ""
    return f"{application.name} {program or main.pid}"


def _joined(values: Iterable[object]) -> str:
    return " ".join(sorted({str(value) for value in values if value is not None}))


def _counted(programs: Mapping[str, int]) -> str | None:
    most = sorted(programs.items(), key=lambda item: -item[1])[:SHORT_LIVED_SHOWN]
    return " ".join(f"{name}:{count}" for name, count in most) or None
