"""The pictures of a report with what they show in words."""

from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from dunmist.advice import percent, size_text, span_text
from dunmist.diagnosis import Diagnosis, ResourceState
from dunmist.reports.document import Figure
from dunmist.series import Series, processor_sensor
from dunmist.series.memory_breakdown import memory_breakdown

if TYPE_CHECKING:
    from matplotlib.figure import Figure as Canvas


def report_figures(series: Series, diagnosis: Diagnosis) -> dict[str, Figure]:
    """Return the pictures by the section they belong to."""
    words = {
        "why": limiting_words(series, diagnosis),
        "cores": core_words(series),
        "memory": memory_words(series),
        "heat": heat_words(series),
    }
    return {
        name: Figure(partial(_drawn, name, series, diagnosis), text) for name, text in words.items()
    }


def _drawn(name: str, series: Series, diagnosis: Diagnosis) -> "Canvas":
    from dunmist.reports.pictures import PICTURES, draw_limiting

    return (draw_limiting if name == "why" else PICTURES[name])(series, diagnosis, None)


def shown_state(diagnosis: Diagnosis) -> ResourceState:
    """Return the state of the limiting resource, or of the fullest one that was traced."""
    traced = [one for one in diagnosis.resources if one.trace is not None]
    limiting = [one for one in traced if one.resource == diagnosis.limiting]
    return max(limiting or traced, key=lambda one: (one.pressure or 0.0, one.used))


def limiting_words(series: Series, diagnosis: Diagnosis) -> str:
    """Return in words what the picture of the limiting resource shows."""
    state = shown_state(diagnosis)
    name = " ".join(filter(None, (state.resource, state.name)))
    text = f"{name} over {span_text(series.duration_s)}: mostly {percent(state.used)} used"
    if state.pressure is not None:
        lost = "clock lost" if state.resource == "heat" else "work held up"
        text += f", {lost} {percent(state.pressure)}"
    if diagnosis.culprits:
        first = diagnosis.culprits[0]
        text += f". Below, who has it: {first.name} with {percent(first.score)} is the first"
    return f"{text}."


def core_words(series: Series) -> str:
    """Return the mean load of each logical processor."""
    machine = series.machine
    each = [
        f"cpu{number} {percent(_mean(machine.busy[:, column]))}"
        for column, number in enumerate(machine.numbers)
    ]
    return f"Mean load of each logical processor: {', '.join(each)}."


def memory_words(series: Series) -> str:
    """Return the greatest parts of the memory at the end."""
    parts = memory_breakdown(series.machine)
    greatest = sorted(parts, key=lambda name: -float(parts[name][-1]))[:3]
    named = [f"{name} {size_text(float(parts[name][-1]))}" for name in greatest]
    return f"Memory over the capture; at the end mostly {', '.join(named)}."


def heat_words(series: Series) -> str:
    """Return the range of the processor's temperature and its limit."""
    chosen = processor_sensor(series.devices.sensors)
    if chosen is None or np.isnan(chosen.values).all():
        return "No temperature of the processor is published."
    least, most = float(np.nanmin(chosen.values)), float(np.nanmax(chosen.values))
    limit = f", limit {chosen.critical:.0f} °C" if chosen.critical else ""
    return f"{chosen.name}: {least:.0f} to {most:.0f} °C{limit}."


def _mean(values: "np.ndarray[tuple[int], np.dtype[np.float64]]") -> float:
    return float(np.nanmean(values)) if not np.isnan(values).all() else 0.0
