"""The tables of one topic as frames: those of ``series``, with what only a diagnosis can tell."""

from collections.abc import Mapping

import pandas as pd

from dunmist.diagnosis import LEVELS, Diagnosis
from dunmist.series import Series, tables

NUMBER = "application_number"


def topic_frames(
    topic: str, series: Series, diagnosis: Diagnosis, form: str | None = None
) -> dict[str, pd.DataFrame]:
    """Return the tables of a topic by name; ``form`` is each, flat or tree, for processes."""
    if topic == "processes" and form in ("each", "flat"):
        frame = _with_roles(tables.process_table(series), series, diagnosis)
        return {"processes": _unfolded(frame) if form == "each" else frame}
    if topic == "processes" and form == "tree":
        return {"family": tables.tree_table(series)}
    frames = {name: make(series) for name, make in tables.TOPICS[topic]}
    if topic == "processes":
        frames["applications"] = _with_roles(frames["applications"], series, diagnosis)
    if topic == "timeline":
        return {"levels": level_table(series, diagnosis), **frames}
    return frames


def level_table(series: Series, diagnosis: Diagnosis) -> pd.DataFrame:
    """Return one row for each resource and interval: how full it was, and its level there."""
    at_s = series.machine.at_s[1:]
    rows = []
    for state in diagnosis.resources:
        if state.trace is None:
            continue
        for row, moment_s in enumerate(at_s):
            pressure = state.trace.pressure
            rows.append(
                {
                    "resource": state.resource,
                    "name": state.name,
                    "at_s": round(float(moment_s), 3),
                    "used": float(state.trace.used[row]),
                    "pressure": None if pressure is None else float(pressure[row]),
                    "level": LEVELS[int(state.trace.levels[row])],
                }
            )
    return pd.DataFrame(rows)


def roles_of(series: Series, diagnosis: Diagnosis) -> Mapping[int, str]:
    """Return the role of each application that has one: of the ranking, or the sampler itself."""
    applications = series.processes.grouping.applications
    roles = {number: "observer" for number, one in enumerate(applications) if one.observer}
    return roles | {one.application: one.role for one in diagnosis.culprits}


def _unfolded(frame: pd.DataFrame) -> pd.DataFrame:
    """Return the processes below one another by application, the greatest application first."""
    use = frame.groupby(NUMBER)["cores_mean"].transform("sum")
    ordered = frame.assign(use=use).sort_values(
        ["use", NUMBER, "cores_mean"], ascending=[False, True, False], ignore_index=True
    )
    return ordered.drop(columns="use")


def _with_roles(frame: pd.DataFrame, series: Series, diagnosis: Diagnosis) -> pd.DataFrame:
    roles = roles_of(series, diagnosis)
    named = pd.Series([roles.get(int(number)) for number in frame[NUMBER]], dtype=object)
    return frame.assign(role=named)
