"""What to call an application of a capture, and which of its processes stands for it."""

from dunmist.series.load import Series


def main_identity(series: Series, application: int) -> int | None:
    """Return the oldest living process of an application, or the oldest when none lives."""
    processes = series.processes
    members = processes.grouping.applications[application].members
    alive = [one for one in members if one not in processes.ended_tick]
    return min(
        alive or members,
        key=lambda one: (
            processes.grouping.facts(one).start_clk,
            processes.grouping.facts(one).pid,
        ),
        default=None,
    )


def distinct_name(series: Series, application: int) -> str:
    """Return an application's name, with the number of its main process where others share it."""
    applications = series.processes.grouping.applications
    name = applications[application].name
    twins = sum(one.name == name for one in applications)
    identity = main_identity(series, application) if twins > 1 else None
    if identity is None:
        return name
    return f"{name} (process {series.processes.grouping.facts(identity).pid})"
