"""Topic ``processes``: the applications, each with all that its processes did together."""

from collections.abc import Iterator, Mapping

from dunmist.advice import Judged
from dunmist.tables.declared import CURVE_POINTS, Column, Row, Table
from dunmist.tables.ports import ports_of_each, ports_text
from dunmist.tables.shared_columns import (
    APPLICATION,
    APPLICATION_NUMBER,
    CHANGE_BYTES,
    CORES_CURVE,
    CORES_MAX,
    CORES_MEAN,
    MACHINE_SHARE,
    PORTS,
    PRIVATE_BYTES,
    ROLE,
    RSS_BYTES,
    UNIT,
    USERS,
)

BLOCKED = ("storage", "pages", "lock", "other")
SHORT_LIVED_SHOWN = 5


def _applications(judged: Judged) -> Iterator[Row]:
    series = judged.series
    ports = ports_of_each(series)
    for application in series.applications:
        cores, private = application.cores, application.private_bytes
        yield {
            "application": application.name,
            "application_number": application.number,
            "processes": len(application.members),
            "users": " ".join(
                sorted({process.facts.user or "unknown" for process in application.members})
            ),
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
            "observer": application.observer,
            "role": judged.diagnosis.role_of(application),
        }


APPLICATIONS = Table(
    "applications",
    "the greatest use first",
    (
        APPLICATION,
        APPLICATION_NUMBER,
        Column("processes", "number", "how many processes it had"),
        USERS,
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
        Column("observer", "flag", "whether it is Dunmist itself"),
        ROLE,
    ),
    _applications,
    shown=(
        "application",
        "processes",
        "cores_mean",
        "machine_share",
        "cores_max",
        "cores_curve",
        "role",
        "waiting_tasks",
        "private_bytes",
        "change_bytes",
        "read_bytes_per_s",
        "write_bytes_per_s",
        "sent_bytes_per_s",
        "received_bytes_per_s",
        "users",
    ),
    order=("cores_mean",),
)


def _counted(programs: Mapping[str, int]) -> str | None:
    most = sorted(programs.items(), key=lambda item: -item[1])[:SHORT_LIVED_SHOWN]
    return " ".join(f"{name}:{count}" for name, count in most) or None
