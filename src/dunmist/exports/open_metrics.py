"""OpenMetrics 1.0 text: names with underscores and units, a family once, times in seconds."""

import re
from collections.abc import Iterable, Iterator, Mapping

from dunmist.exports.points import Metric, Value
from dunmist.harmless import harmless

NS_PER_S = 1_000_000_000
# UCUM units by the words that OpenMetrics puts at the end of a name
UNITS = {
    "1": "ratio",
    "By": "bytes",
    "Hz": "hertz",
    "Cel": "celsius",
    "W": "watts",
    "V": "volts",
    "rpm": "rpm",
    "s": "seconds",
}
_NO_NAME = re.compile(r"[^a-zA-Z0-9_]")


def open_metrics_text(resource: Mapping[str, Value], metrics: Iterable[Metric]) -> str:
    """Return the text of all metrics; the computer's name stands with each point."""
    by_name: dict[str, list[Metric]] = {}
    for metric in metrics:
        by_name.setdefault(metric.name, []).append(metric)
    lines: list[str] = []
    for same in by_name.values():
        lines += _family(same, str(resource.get("host.name", "")))
    return "\n".join([*lines, "# EOF", ""])


def _family(same: list[Metric], host: str) -> Iterator[str]:
    first = same[0]
    unit = UNITS.get(first.unit, "")
    name = _NO_NAME.sub("_", first.name) + (f"_{unit}" if unit else "")
    yield f"# TYPE {name} {first.kind}"
    if unit:
        yield f"# UNIT {name} {unit}"
    yield f"# HELP {name} {_escaped(first.about)}"
    for metric in same:
        words = {"host_name": host} | {
            _NO_NAME.sub("_", word): str(value) for word, value in metric.attributes.items()
        }
        labels = ",".join(f'{word}="{_escaped(value)}"' for word, value in words.items())
        suffix = "_total" if metric.kind == "counter" else ""
        for at_ns, value in zip(metric.at_ns, metric.values, strict=True):
            whole, rest = divmod(at_ns, NS_PER_S)
            yield f"{name}{suffix}{{{labels}}} {float(value)!r} {whole}.{rest:09d}"


def _escaped(text: str) -> str:
    # somebody may show the file on a terminal, and other readers split lines at \\r
    return harmless(text).replace("\\", "\\\\").replace('"', '\\"')
