"""Format a figure by the unit of its column, for reports and views alike."""

import math
from collections.abc import Callable, Mapping
from datetime import UTC, tzinfo
from typing import Any

from dunmist.advice import percent, size_text, span_text
from dunmist.harmless import harmless
from dunmist.sparklines import curve_text
from dunmist.tables.declared import CURVES, Unit
from dunmist.timestamps import timestamp_text

EXACT_BELOW = 2**53  # whole numbers up to here are exact as floating point
UNKNOWN = "–"


def bits_text(bits_per_s: float) -> str:
    """Return a link speed as people write it."""
    for unit, factor in (("Gbit/s", 1e9), ("Mbit/s", 1e6), ("kbit/s", 1e3)):
        if bits_per_s >= factor:
            return f"{bits_per_s / factor:.3g} {unit}"
    return f"{bits_per_s:.0f} bit/s"


# from here on six digits would round whole units away
WHOLE_FROM = 1e6


def short_span_text(seconds: float) -> str:
    """Return a duration, in milliseconds where it is short."""
    return f"{1e3 * seconds:.2f} ms" if 0 < seconds < 1 else span_text(seconds)


def plain_text(value: float) -> str:
    """Return a figure without a unit."""
    if value.is_integer():
        return f"{value:.0f}"
    return f"{value:.2f}" if abs(value) < 100 else f"{value:.0f}"


_WRITTEN: Mapping[Unit, Callable[[float], str]] = {
    "share": lambda value: percent(value).replace("under ", "< "),
    "cores": lambda value: f"{value:.2f}",
    "bytes": size_text,
    "bytes/s": lambda value: f"{size_text(value)}/s" if value else "0",
    "bits/s": bits_text,
    "a second": lambda value: f"{value:.1f}",
    "Hz": lambda value: f"{value / 1e6:.0f} MHz",
    "s": short_span_text,
    "at": lambda value: f"{value:.1f} s",
    "moment": timestamp_text,
}


def number_text(unit: Unit, value: float) -> str:
    """Return a figure with its unit as a terminal shows it."""
    if math.isnan(value):
        return UNKNOWN
    return _WRITTEN.get(unit, plain_text)(value)


def cell_text(unit: Unit, value: object, zone: tzinfo = UTC) -> str:
    """Return a cell as people read it; timestamps are written in the given zone."""
    shown = plain(value)
    if shown is None:
        return UNKNOWN
    if isinstance(shown, list) and unit in CURVES:
        return curve_text(shown, 1.0 if unit == "curve of shares" else None)
    if isinstance(shown, bool):
        return "yes" if shown else "no"
    if unit == "moment" and isinstance(shown, int | float):
        return timestamp_text(float(shown), zone)
    if isinstance(shown, int | float):
        return number_text(unit, float(shown))
    return str(shown)


def plain(value: Any) -> Any:  # noqa: ANN401 - a cell may be anything
    """Return a cell as JSON has it: rounded, harmless, None for what is unknown."""
    if isinstance(value, dict):
        return {key: plain(part) for key, part in value.items()}
    if isinstance(value, list):
        return [plain(part) for part in value]
    if value is None:
        return None
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float):
        if not math.isfinite(value):
            return None
        if value.is_integer() and abs(value) < EXACT_BELOW:
            return int(value)
        # a timestamp since 1970 has ten digits, of which none may be lost
        return round(value) if abs(value) >= WHOLE_FROM else float(f"{value:.6g}")
    return harmless(value) if isinstance(value, str) else value
