"""Topics ``services`` and ``autostart``: what runs or starts by itself, and what it has cost."""

from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.series import BETWEEN_STARTS, Cost, cost_of_entry, cost_of_unit
from dunmist.tables.declared import Column, Row, Table, Width
from dunmist.tables.shared_columns import PIDS

STALLS = ("cpu", "memory", "io")
CPU_S = Column("cpu_s", "s", "CPU time since it was started")
COST_RSS = Column("rss_bytes", "bytes", "resident set of what lives of it")
COST_READ = Column("read_bytes", "bytes", "read from storage since it was started")


def _services(judged: Judged) -> Iterator[Row]:
    series = judged.series
    for unit in series.surveyed.units:
        cost = cost_of_unit(series, unit)
        yield {
            "unit": unit.name,
            # where no service manager answered, processes in its group show that it runs
            "state": unit.active or ("active" if cost.processes else None),
            "detail": unit.sub,
            "starts_by_itself": unit.starts,
            "stuck": series.surveyed.is_stuck(unit),
            "failed": unit.active == "failed",
            "restarting": unit.sub == BETWEEN_STARTS,
            "restarts": unit.restarts,
            "pids": " ".join(map(str, cost.pids)) or None,
            **_amounts(cost),
            "since_s": unit.since_s,
            "result": unit.result,
            "schedule": unit.schedule,
            "last_run_s": unit.last_run_s,
            "next_run_s": unit.next_run_s,
            "triggers": unit.triggers,
            "about": unit.about,
        }


SERVICES = Table(
    "services",
    "those in trouble first, then the dearest",
    (
        Column("unit", "text", "service or timer", Width(), ("name", "service")),
        Column("state", "text", "what the service manager says", answers=("state",)),
        Column("detail", "text", "the same more exactly"),
        Column("starts_by_itself", "text", "whether it is enabled"),
        Column("stuck", "flag", "on the way to another state all the time"),
        Column("failed", "flag", "whether it ended in failure"),
        Column("restarting", "flag", "ended, and waits to be started again"),
        Column("restarts", "number", "how often it was started anew"),
        PIDS,
        CPU_S,
        COST_RSS,
        COST_READ,
        Column("since_s", "moment", "when it came into its state"),
        Column("result", "text", "how it ended last"),
        Column("schedule", "text", "when a timer starts something"),
        Column("last_run_s", "moment", "when a timer did last"),
        Column("next_run_s", "moment", "when a timer will next"),
        Column("triggers", "text", "what a timer starts"),
        Column("about", "text", "what its unit file says of it", Width(most=44)),
    ),
    _services,
    shown=(
        "unit",
        "state",
        "detail",
        "starts_by_itself",
        "stuck",
        "restarts",
        "cpu_s",
        "rss_bytes",
        "read_bytes",
        "pids",
        "about",
    ),
    order=("stuck", "failed", "restarting", "restarts", "cpu_s"),
)


def _autostart(judged: Judged) -> Iterator[Row]:
    series = judged.series
    for entry in series.surveyed.autostart:
        yield {
            "name": entry.name,
            "kind": entry.kind,
            "when": entry.when,
            "user": entry.user or "everybody",
            "enabled": entry.enabled,
            **_amounts(cost_of_entry(series, entry)),
            "command": entry.command,
            "file": entry.file,
        }
    for unit in series.surveyed.units:
        if series.surveyed.starts_at_boot(unit.name):
            is_timer = unit.name.endswith(".timer")
            yield {
                "name": unit.name,
                "kind": "timer" if is_timer else "service",
                "when": (unit.schedule or "timer") if is_timer else "boot",
                "user": "everybody",
                "enabled": True,
                **_amounts(cost_of_unit(series, unit)),
                "command": unit.triggers,
                "file": None,
            }


AUTOSTART = Table(
    "what starts by itself",
    "the dearest first; what has ended has taken its counters with it",
    (
        Column("name", "text", "what it is called", Width(), ("name", "service")),
        Column("kind", "text", "desktop entry, job, service or timer"),
        Column("when", "text", "login, boot or a schedule"),
        Column("user", "text", "for whom", answers=("owner",)),
        Column("enabled", "flag", "whether it is switched on"),
        CPU_S,
        COST_RSS,
        COST_READ,
        Column("command", "text", "what it runs, secrets masked", Width(most=60)),
        Column("file", "text", "where that is written", Width()),
    ),
    _autostart,
    shown=(
        "name",
        "kind",
        "when",
        "user",
        "enabled",
        "cpu_s",
        "rss_bytes",
        "read_bytes",
        "command",
    ),
    order=("cpu_s",),
)


def _groups(judged: Judged) -> Iterator[Row]:
    for group in judged.series.devices.groups:
        yield {
            "group": group.path,
            "quota_cores": group.quota_cores,
            "limited_share": group.limited.known_mean(),
            **{
                f"stalled_{name}_share": stalled.known_mean()
                for name, stalled in group.stalled.items()
            },
        }


GROUPS = Table(
    "control groups",
    "the busiest, and those with a quota",
    (
        Column("group", "text", "path of the group", Width(most=70)),
        Column("quota_cores", "figure", "CPUs that it may use"),
        Column("limited_share", "share", "share of the quota's periods in which it ran out"),
        *(
            Column(f"stalled_{name}_share", "share", f"time in which a task waited for {name}")
            for name in STALLS
        ),
    ),
    _groups,
)


def _amounts(cost: Cost) -> Row:
    # what has ended has taken its counters with it
    ran = bool(cost.processes)
    return {
        "cpu_s": cost.cpu_s if ran else None,
        "rss_bytes": cost.rss_bytes if ran else None,
        "read_bytes": cost.read_bytes,
    }
