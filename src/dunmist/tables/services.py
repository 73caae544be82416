"""Topics ``services`` and ``autostart``: services and autostart entries, and their cost."""

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from dunmist.advice import Judged
from dunmist.computer import Unit
from dunmist.series import BETWEEN_STARTS, Cost, GroupSeries, cost_of_entry, cost_of_unit
from dunmist.tables.declared import Column, Table, Width
from dunmist.tables.shared_columns import PIDS

STALLS = ("cpu", "memory", "io")


class OneService(NamedTuple):
    """One service or timer, and its cost."""

    unit: Unit
    cost: Cost
    is_stuck: bool


def _services(judged: Judged) -> Iterator[OneService]:
    series = judged.series
    for unit in series.surveyed.units:
        yield OneService(unit, cost_of_unit(series, unit), series.surveyed.is_stuck(unit))


class Entry(NamedTuple):
    """One autostart entry, and its cost."""

    name: str
    kind: str
    when: str | None
    user: str
    enabled: bool
    command: str | None
    file: str | None
    cost: Cost


def _cpu_s(row: OneService | Entry) -> float | None:
    # an exited process has taken its counters with it
    return row.cost.cpu_s if row.cost.processes else None


def _rss_bytes(row: OneService | Entry) -> float | None:
    return row.cost.rss_bytes if row.cost.processes else None


def _state(row: OneService) -> str | None:
    # without a service manager, processes in its group show that it runs
    return row.unit.active or ("active" if row.cost.processes else None)


CPU_S: Column[Any] = Column("cpu_s", "s", "CPU time since it was started", _cpu_s)
COST_RSS: Column[Any] = Column("rss_bytes", "bytes", "resident set of what lives of it", _rss_bytes)
COST_READ: Column[Any] = Column("read_bytes", "bytes", "read from storage since it was started",
    lambda row: row.cost.read_bytes)
SERVICES: Table[OneService] = Table(
    "services",
    "those in trouble first, then by CPU time",
    (
        Column("unit", "text", "service or timer", lambda row: row.unit.name, width=Width(),
            answers=("name", "service")),
        Column("state", "text", "what the service manager says", _state, answers=("state",)),
        Column("detail", "text", "the same more exactly", lambda row: row.unit.sub),
        Column("starts_by_itself", "text", "whether it is enabled", lambda row: row.unit.starts),
        Column("stuck", "flag", "on the way to another state all the time",
            lambda row: row.is_stuck),
        Column("failed", "flag", "whether it ended in failure",
            lambda row: row.unit.active == "failed"),
        Column("restarting", "flag", "ended, and waits to be started again",
            lambda row: row.unit.sub == BETWEEN_STARTS),
        Column("restarts", "number", "how often it was restarted",
            lambda row: row.unit.restarts),
        PIDS.of(lambda row: " ".join(map(str, row.cost.pids)) or None),
        CPU_S,
        COST_RSS,
        COST_READ,
        Column("since_s", "moment", "when it came into its state", lambda row: row.unit.since_s),
        Column("result", "text", "how it ended last", lambda row: row.unit.result),
        Column("schedule", "text", "when a timer starts something", lambda row: row.unit.schedule),
        Column("last_run_s", "moment", "when a timer did last", lambda row: row.unit.last_run_s),
        Column("next_run_s", "moment", "when a timer will next", lambda row: row.unit.next_run_s),
        Column("triggers", "text", "what a timer starts", lambda row: row.unit.triggers),
        Column("about", "text", "description in its unit file", lambda row: row.unit.about,
            width=Width(most=44)),
    ),
    _services,
    shown=("unit", "state", "detail", "starts_by_itself", "stuck", "restarts", "cpu_s", "rss_bytes",
        "read_bytes", "pids", "about"),
    order=("stuck", "failed", "restarting", "restarts", "cpu_s"),
)


def _autostart(judged: Judged) -> Iterator[Entry]:
    series = judged.series
    for entry in series.surveyed.autostart:
        yield Entry(
            entry.name,
            entry.kind,
            entry.when,
            entry.user or "everybody",
            entry.enabled,
            entry.command,
            entry.file,
            cost_of_entry(series, entry),
        )
    for unit in series.surveyed.units:
        if series.surveyed.starts_at_boot(unit.name):
            is_timer = unit.name.endswith(".timer")
            yield Entry(
                unit.name,
                "timer" if is_timer else "service",
                (unit.schedule or "timer") if is_timer else "boot",
                user="everybody",
                enabled=True,
                command=unit.triggers,
                file=None,
                cost=cost_of_unit(series, unit),
            )


AUTOSTART: Table[Entry] = Table(
    "what starts by itself",
    "by CPU time; the counters of what has ended are gone",
    (
        Column("name", "text", "its name", width=Width(), answers=("name", "service")),
        Column("kind", "text", "desktop entry, job, service or timer"),
        Column("when", "text", "login, boot or a schedule"),
        Column("user", "text", "user that it starts for", answers=("owner",)),
        Column("enabled", "flag", "whether it is switched on"),
        CPU_S,
        COST_RSS,
        COST_READ,
        Column("command", "text", "its command line, secrets masked", width=Width(most=60)),
        Column("file", "text", "where that is written", width=Width()),
    ),
    _autostart,
    shown=("name", "kind", "when", "user", "enabled", "cpu_s", "rss_bytes", "read_bytes",
        "command"),
    order=("cpu_s",),
)


def _stalled_share(name: str) -> Callable[[GroupSeries], float | None]:
    return lambda row: row.stalled[name].known_mean() if name in row.stalled else None


GROUPS: Table[GroupSeries] = Table(
    "control groups",
    "the busiest, and those with a quota",
    (
        Column("group", "text", "path of the group", lambda row: row.path, width=Width(most=70)),
        Column("quota_cores", "figure", "CPUs that it may use"),
        Column("limited_share", "share", "share of the quota's periods in which it ran out",
            lambda row: row.limited.known_mean()),
        *(
            Column(f"stalled_{name}_share", "share", f"time in which a task waited for {name}",
                _stalled_share(name))
            for name in STALLS
        ),
    ),
    lambda judged: judged.series.devices.groups,
)
