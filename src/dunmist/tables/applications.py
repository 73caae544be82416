"""Topic ``processes``: the applications, each with all that its processes did together."""

from collections.abc import Iterable, Iterator, Mapping

from dunmist.advice import Judged
from dunmist.series import Application
from dunmist.tables.declared import CURVE_POINTS, Column, Row, Table, Width
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


def application_rows(
    judged: Judged, applications: Iterable[Application] | None = None
) -> Iterator[Row]:
    """Yield a row for each application, or for each of the given ones."""
    series = judged.series
    ports = ports_of_each(series)
    for application in series.applications if applications is None else applications:
        cores, private = application.cores, application.private_bytes
        main = application.main
        facts = [process.facts for process in application.members]
        yield {
            "label": label_of(application),
            "application": application.name,
            "pid": main.pid if main else None,
            "application_number": application.number,
            "processes": len(application.members),
            "users": " ".join(
                sorted({process.facts.user or "unknown" for process in application.members})
            ),
            "uids": _joined(fact.uid for fact in facts),
            "groups": _joined(fact.group for fact in facts),
            "unit": application.unit,
            "cores_mean": cores.mean(),
            "cores_median": cores.median(),
            "cores_max": cores.greatest(),
            "cores_curve": cores.curve(CURVE_POINTS),
            "machine_share": cores.mean() / series.machine.logical_processors,
            "short_lived_cores": application.short_lived_cores.mean(),
            "waiting_tasks": application.waiting.mean(),
            "private_bytes": private.median(),
            "change_bytes": private.change(),
            "rss_bytes": application.rss_bytes.median(),
            "read_bytes_per_s": application.read_bytes_per_s.mean(),
            "write_bytes_per_s": application.write_bytes_per_s.mean(),
            "disk_bytes_per_s": application.disk_bytes_per_s.mean(),
            "network_bytes_per_s": application.network_bytes_per_s.mean(),
            "sent_bytes_per_s": application.sent_bytes_per_s.mean(),
            "received_bytes_per_s": application.received_bytes_per_s.mean(),
            "io_waiting_tasks": application.io_waiting.mean(),
            **{
                f"blocked_{kind}": application.blocked[kind].mean()
                if kind in application.blocked
                else 0.0
                for kind in BLOCKED
            },
            "short_lived_programs": _counted(application.short_lived_programs),
            "major_faults_per_s": application.major_faults_per_s.mean(),
            "ports": ports_text(ports, application.members),
            "command_line": " ".join(main.facts.command_line) or None if main else None,
            "observer": application.observer,
            "role": judged.diagnosis.role_of(application),
        }


APPLICATIONS = Table(
    "applications",
    "the greatest use first",
    (
        Column(
            "label",
            "text",
            "its name, and what it runs where others have the same name",
            Width(24),
            ("name",),
            "application",
        ),
        APPLICATION,
        Column("pid", "number", "main process: the oldest that lives"),
        APPLICATION_NUMBER,
        Column("processes", "number", "how many processes it had"),
        USERS,
        UIDS,
        GROUPS,
        UNIT,
        CORES_MEAN,
        Column("cores_median", "cores", "logical CPUs used, median"),
        CORES_MAX,
        CORES_CURVE,
        MACHINE_SHARE,
        Column("short_lived_cores", "figure", "of that by children that were never seen"),
        Column("waiting_tasks", "figure", "mean number that waited for a CPU"),
        PRIVATE_BYTES,
        CHANGE_BYTES,
        RSS_BYTES,
        Column("read_bytes_per_s", "bytes/s", "from storage"),
        Column("write_bytes_per_s", "bytes/s", "to storage"),
        DISK_BYTES,
        NETWORK_BYTES,
        Column("sent_bytes_per_s", "bytes/s", "over TCP to other computers"),
        Column("received_bytes_per_s", "bytes/s", "over TCP from other computers"),
        Column("io_waiting_tasks", "figure", "mean number that waited for storage"),
        *(
            Column(f"blocked_{kind}", "figure", f"processes seen waiting for {what}, on average")
            for kind, what in zip(
                BLOCKED, ("storage", "pages", "a lock in the kernel", "something else"), strict=True
            )
        ),
        Column("short_lived_programs", "text", "names and counts of those never seen"),
        Column("major_faults_per_s", "a second", "pages read from storage"),
        PORTS,
        COMMAND_LINE,
        Column("observer", "flag", "whether it is Dunmist itself"),
        ROLE,
    ),
    application_rows,
    shown=(
        "label",
        "pid",
        "cores_mean",
        "private_bytes",
        "disk_bytes_per_s",
        "network_bytes_per_s",
        "users",
        "role",
        "processes",
        "machine_share",
        "cores_curve",
        "waiting_tasks",
        "change_bytes",
        "cores_max",
        "read_bytes_per_s",
        "write_bytes_per_s",
        "sent_bytes_per_s",
        "received_bytes_per_s",
        "command_line",
    ),
    order=("cores_mean",),
)


def label_of(application: Application) -> str:
    """Return its name; of several with one name, with the file or word that tells it apart."""
    main = application.main
    if not application.has_namesakes or main is None:
        return application.name
    words = [word for word in main.facts.command_line[1:] if not word.startswith("-")]
    told = words[0].rpartition("/")[2] if words else ""
    return f"{application.name} {told or main.pid}"


def _joined(values: Iterable[object]) -> str:
    return " ".join(sorted({str(value) for value in values if value is not None}))


def _counted(programs: Mapping[str, int]) -> str | None:
    most = sorted(programs.items(), key=lambda item: -item[1])[:SHORT_LIVED_SHOWN]
    return " ".join(f"{name}:{count}" for name, count in most) or None
