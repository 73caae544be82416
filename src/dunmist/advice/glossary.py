"""Explain the terms on a screen, with the figure of this computer if there is one.

The words are in ``glossary.toml``. The kinds of finding and the columns of tables explain
themselves where they are declared, so they are not repeated there.
"""

import tomllib
from collections.abc import Callable
from functools import cache
from importlib.resources import files
from typing import Any, NamedTuple

from dunmist.advice.amounts import cores_text, percent, size_text, span_text
from dunmist.diagnosis import Diagnosis
from dunmist.series import Series

HZ_PER_GHZ = 1e9


class Explanation(NamedTuple):
    """A word and what it means; ``others`` are other spellings of it."""

    word: str
    text: str
    others: list[str]


@cache
def glossary() -> dict[str, Any]:
    """Return the table of words."""
    text = (files("dunmist.advice") / "glossary.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


@cache
def _by_spelling() -> dict[str, str]:
    """Return the word for each spelling, in small letters."""
    spellings = {word: word for word in glossary()}
    for word, entry in glossary().items():
        spellings |= dict.fromkeys(entry.get("also", ()), word)
    return spellings


def spellings() -> list[str]:
    """Return all words and their other spellings."""
    return list(_by_spelling())


def explain(word: str) -> Explanation | None:
    """Return the meaning of a word in any case; None if unknown."""
    known = _by_spelling().get(word.strip().lower())
    if known is None:
        return None
    entry = glossary()[known]
    return Explanation(known, entry["text"], entry.get("also", []))


def figure_of(word: str, series: Series, diagnosis: Diagnosis) -> str | None:
    """Return the figure of a word in a capture; None if it has none."""
    find = _FIGURES.get(word)
    return find(series, diagnosis) if find else None


def _share(name: str) -> Callable[[Series, Diagnosis], str]:
    def find(series: Series, diagnosis: Diagnosis) -> str:
        del diagnosis
        shares = [cpu.share(name).mean() for cpu in series.machine.processors]
        return f"{percent(sum(shares) / len(shares))} of the CPU time" if shares else "unknown"

    return find


def _resource(word: str) -> Callable[[Series, Diagnosis], str | None]:
    def find(series: Series, diagnosis: Diagnosis) -> str | None:
        del series
        states = [state for state in diagnosis.resources if state.resource == word]
        if not states:
            return None
        state = max(states, key=lambda state: (state.pressure or 0.0, state.used))
        name = f"{state.name}: " if state.name else ""
        waited = f", tasks waited {percent(state.pressure)}" if state.pressure is not None else ""
        return f"{name}{state.level}, {percent(state.used)} used{waited}"

    return find


def _memory(name: str) -> Callable[[Series, Diagnosis], str | None]:
    def find(series: Series, diagnosis: Diagnosis) -> str | None:
        del diagnosis
        held = series.machine.memory_bytes(name).median()
        whole = size_text(series.machine.managed_bytes)
        return None if held is None else f"{size_text(held)} of {whole}"

    return find


def _cores(series: Series, diagnosis: Diagnosis) -> str:
    del diagnosis
    machine = series.machine
    return f"in use: {cores_text(machine.busy_cores.mean(), machine.logical_processors)}"


def _temperature(series: Series, diagnosis: Diagnosis) -> str | None:
    del diagnosis
    sensor = series.processor_sensor
    celsius = sensor.level.median() if sensor else None
    if sensor is None or celsius is None:
        return None
    limit = f", limit {sensor.critical:.0f} °C" if sensor.critical else ""
    return f"{sensor.name}: {celsius:.0f} °C{limit}"


def _uptime(series: Series, diagnosis: Diagnosis) -> str | None:
    del diagnosis
    uptime_s = series.machine.uptime_s
    return None if uptime_s is None else span_text(uptime_s)


def _load(series: Series, diagnosis: Diagnosis) -> str | None:
    del diagnosis
    load, count = series.machine.load_one.median(), series.machine.logical_processors
    return None if load is None else f"{load:.2f}, {load / count:.2f} for each logical CPU"


def _pressure(series: Series, diagnosis: Diagnosis) -> str:
    del series
    known = [
        f"{' '.join(filter(None, (state.resource, state.name)))} {percent(state.pressure)}"
        for state in diagnosis.resources
        if state.pressure is not None
    ]
    return ", ".join(known) or "unknown"


_FIGURES: dict[str, Callable[[Series, Diagnosis], str | None]] = {
    "steal": _share("steal"),
    "iowait": _share("iowait"),
    "idle": _share("idle"),
    "user": _share("user"),
    "system": _share("system"),
    "nice": _share("nice"),
    "available": _memory("MemAvailable"),
    "free": _memory("MemFree"),
    "dirty": _memory("Dirty"),
    "slab": _memory("Slab"),
    "cache": _memory("Cached"),
    "committed": _memory("Committed_AS"),
    "swap": _resource("swap"),
    "disk": _resource("disk"),
    "network": _resource("link"),
    "gpu": _resource("gpu"),
    "core": _resource("core"),
    "file system": _resource("storage"),
    "cores": _cores,
    "logical cpu": _cores,
    "temperature": _temperature,
    "uptime": _uptime,
    "pressure": _pressure,
    "load": _load,
}
