"""OTLP as JSON: ``ExportMetricsServiceRequest`` of OpenTelemetry's protocol 1 as proto3 maps it.

64-bit numbers are strings there, names in lowerCamelCase. The same body goes into a file and over
HTTP.
"""

import json
import urllib.error
import urllib.request
from collections.abc import Iterable, Mapping
from typing import Any
from urllib.parse import urlsplit

from dunmist import __version__
from dunmist.errors import OutputError, WrongUsage
from dunmist.exports.points import Metric, Value

CUMULATIVE = 2  # AggregationTemporality
TIMEOUT_S = 20.0
SCHEMES = ("http", "https")


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
    return json.dumps(request, ensure_ascii=False)


def _metric(same: list[Metric]) -> dict[str, Any]:
    first = same[0]
    points = [point for metric in same for point in _points(metric)]
    data: dict[str, Any] = {"dataPoints": points}
    if first.kind == "counter":
        data |= {"aggregationTemporality": CUMULATIVE, "isMonotonic": True}
    return {
        "name": first.name, "unit": first.unit, "description": first.about,
        "sum" if first.kind == "counter" else "gauge": data,
    }  # fmt: skip


def _points(metric: Metric) -> list[dict[str, Any]]:
    attributes = _attributes(metric.attributes)
    return [
        {
            "startTimeUnixNano": str(metric.start_ns), "timeUnixNano": str(at_ns),
            "asDouble": float(value), "attributes": attributes,
        }
        for at_ns, value in zip(metric.at_ns, metric.values, strict=True)
    ]  # fmt: skip


def _attributes(words: Mapping[str, Value]) -> list[dict[str, Any]]:
    return [
        {"key": word, "value": {"intValue": str(value)} if isinstance(value, int)
         else {"stringValue": value}}
        for word, value in words.items()
    ]  # fmt: skip


def check_address(address: str) -> None:
    """Raise WrongUsage unless it is an address of the web."""
    found = urlsplit(address)
    if found.scheme not in SCHEMES or not found.hostname:
        raise WrongUsage(f"'{address}' is no address; write http://host:4318/v1/metrics")


def send(address: str, text: str) -> None:
    """Send a request over HTTP; raises OutputError with what was answered."""
    request = urllib.request.Request(
        address, data=text.encode(), headers={"Content-Type": "application/json"}
    )
    try:
        with urllib.request.urlopen(request, timeout=TIMEOUT_S) as answer:
            body = answer.read(1 << 16)
    except urllib.error.HTTPError as error:
        said = f"answered {error.code} {error.reason}; nothing was kept there"
        raise OutputError(f"{address}: {said}") from error
    except (OSError, ValueError) as error:
        reason = getattr(error, "reason", error)
        raise OutputError(f"{address}: {reason}; is a receiver of OTLP there?") from error
    refused = _refused(body)
    if refused:
        raise OutputError(f"{address}: {refused}")


def _refused(body: bytes) -> str:
    """Return what a receiver says it did not take, nothing where it took all."""
    try:
        partial = json.loads(body or b"{}").get("partialSuccess", {})
    except (ValueError, AttributeError):
        return ""
    count = int(partial.get("rejectedDataPoints", 0) or 0)
    return f"{count} points were refused: {partial.get('errorMessage', '')}" if count else ""
