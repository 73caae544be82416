"""The pictures of a report with what they show in words."""

from functools import partial
from typing import TYPE_CHECKING

from dunmist.advice import Judged, doing_text, percent, size_text, span_text
from dunmist.compare import Unusual
from dunmist.reports.document import Figure
from dunmist.reports.shown_resource import pressure_name, shown_name, shown_state
from dunmist.series import Series, memory_breakdown

if TYPE_CHECKING:
    from matplotlib.figure import Figure as Canvas

# parts of a sum that a sentence names
PARTS_NAMED = 3


def report_figures(judged: Judged) -> dict[str, Figure]:
    """Return the pictures by the section they belong to."""
    words = {
        "why": limiting_words(judged),
        "cores": core_words(judged.series),
        "memory": memory_words(judged.series),
        "heat": heat_words(judged.series),
    }
    if text := work_words(judged):
        words["doing"] = text
    return {name: Figure(partial(_drawn, name, judged), text) for name, text in words.items()}


def _drawn(name: str, judged: Judged) -> "Canvas":
    from dunmist.reports.pictures import PICTURES, draw_limiting

    return (draw_limiting if name == "why" else PICTURES[name])(judged, None)


def work_words(judged: Judged) -> str:
    """Return the work of each culprit's code; empty if no code was sampled."""
    texts = [
        f"{culprit.name}: {does}"
        for culprit in judged.triage.culprits
        if (does := doing_text(culprit.doing))
    ]
    return f"{'; '.join(texts)}." if texts else ""


def normal_figure(unusual: Unusual) -> Figure:
    """Return the picture of a capture against those of good times."""

    def draw() -> "Canvas":
        from dunmist.reports.pictures import draw_against_normal

        return draw_against_normal(unusual)

    now = {state.resource: state.used for state in unusual.now.diagnosis.resources}
    named = ", ".join(f"{word} {percent(used)}" for word, used in now.items())
    return Figure(
        draw, f"Each resource now, over the {len(unusual.normal)} good captures: {named}."
    )


def limiting_words(judged: Judged) -> str:
    """Return in words what the picture of the limiting resource shows."""
    state = shown_state(judged.diagnosis)
    over = span_text(judged.series.duration_s)
    text = f"{shown_name(state)} over {over}: mostly {percent(state.used)} used"
    if state.pressure is not None:
        text += f", {pressure_name(state)} {percent(state.pressure)}"
    if judged.diagnosis.culprits:
        first = judged.diagnosis.culprits[0]
        text += f". Below, who has it: {first.name} with {percent(first.score)} is the first"
    return f"{text}."


def core_words(series: Series) -> str:
    """Return the mean load of each logical CPU."""
    each = [
        f"cpu{processor.number} {percent(processor.busy.mean())}"
        for processor in series.machine.processors
    ]
    return f"Mean load of each logical CPU: {', '.join(each)}."


def memory_words(series: Series) -> str:
    """Return the greatest parts of the memory at the end."""
    sizes = {name: held.last() or 0.0 for name, held in memory_breakdown(series.machine).items()}
    greatest = sorted(sizes, key=lambda name: -sizes[name])[:PARTS_NAMED]
    named = [f"{name} {size_text(sizes[name])}" for name in greatest]
    return f"Memory over the capture; at the end mostly {', '.join(named)}."


def heat_words(series: Series) -> str:
    """Return the range of the processor's temperature and its limit."""
    chosen = series.processor_sensor
    least, most = (chosen.level.least(), chosen.level.greatest()) if chosen else (None, None)
    if chosen is None or least is None or most is None:
        return "No temperature of the processor is published."
    limit = f", limit {chosen.critical:.0f} °C" if chosen.critical else ""
    return f"{chosen.name}: {least:.0f} to {most:.0f} °C{limit}."
