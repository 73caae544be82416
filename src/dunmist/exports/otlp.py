"""OTLP as JSON: ``ExportMetricsServiceRequest`` of OpenTelemetry's protocol 1 as proto3 maps it.

64-bit numbers are strings there, names in lowerCamelCase. The same body goes into a file and over
HTTP.
"""

import json
from collections.abc import Iterable, Mapping
from typing import Any

from dunmist import __version__
from dunmist.exports.points import Metric, Value

CUMULATIVE = 2  # AggregationTemporality


def otlp_text(resource: Mapping[str, Value], metrics: Iterable[Metric]) -> str:
    """Return the request as text."""
    by_name: dict[str, list[Metric]] = {}
    for metric in metrics:
        by_name.setdefault(metric.name, []).append(metric)
    scope = {"name": "dunmist", "version": __version__}
    request = {
        "resourceMetrics": [
            {
                "resource": {"attributes": _attributes(resource)},
                "scopeMetrics": [
                    {"scope": scope, "metrics": [_metric(same) for same in by_name.values()]}
                ],
            }
        ]
    }
    # plain ASCII: no character of a name reaches a terminal on which somebody shows the file
    return json.dumps(request).replace("\x7f", "\\u007f")


def _metric(same: list[Metric]) -> dict[str, Any]:
    first = same[0]
    points = [point for metric in same for point in _points(metric)]
    data: dict[str, Any] = {"dataPoints": points}
    if first.kind == "counter":
        data |= {"aggregationTemporality": CUMULATIVE, "isMonotonic": True}
    return {
        "name": first.name,
        "unit": first.unit,
        "description": first.about,
        "sum" if first.kind == "counter" else "gauge": data,
    }


def _points(metric: Metric) -> list[dict[str, Any]]:
    attributes = _attributes(metric.attributes)
    return [
        {
            "startTimeUnixNano": str(metric.start_ns),
            "timeUnixNano": str(at_ns),
            "asDouble": float(value),
            "attributes": attributes,
        }
        for at_ns, value in zip(metric.at_ns, metric.values, strict=True)
    ]


def _attributes(words: Mapping[str, Value]) -> list[dict[str, Any]]:
    return [
        {
            "key": word,
            "value": {"intValue": str(value)} if isinstance(value, int) else {"stringValue": value},
        }
        for word, value in words.items()
    ]
