"""Which columns of a table a terminal shows, and how each kind of figure is written.

Programs get every column (``--json``, ``--csv``); a terminal gets those listed here, all where a
table is not listed. A column's unit is the end of its name.
"""

import math
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import pandas as pd

from dunmist.advice import percent, size_text, span_text
from dunmist.harmless import harmless

EXACT_BELOW = 2**53  # whole numbers up to here are exact as floating point
SHOWN = {
    "applications": (
        "application", "processes", "cores_mean", "machine_share", "cores_max", "cores_curve",
        "role", "waiting_tasks", "private_bytes", "change_bytes", "read_bytes_per_s",
        "write_bytes_per_s", "sent_bytes_per_s", "received_bytes_per_s", "users",
    ),
    "processes": (
        "application", "pid", "program", "user", "state", "cores_mean", "machine_share",
        "cores_max", "cores_curve", "role", "threads", "nice", "private_bytes", "read_bytes",
        "write_bytes", "descriptors", "waits_in", "command_line",
    ),
    "family": (
        "family", "pid", "user", "state", "family_cores", "cores_mean", "family_bytes",
        "private_bytes", "command_line",
    ),
    "logical processors": (
        "cpu", "core", "package", "busy_mean", "busy_max", "busiest_application", "busiest_cores",
        "clock_hz", "max_clock_hz", "user_share", "nice_share", "system_share", "iowait_share",
        "irq_share", "softirq_share", "steal_share", "governor",
    ),
    "installed memory": ("part", "bytes", "share", "change_bytes", "share_curve"),
    "holders": (
        "application", "private_bytes", "share", "change_bytes", "private_curve_bytes",
        "processes", "rss_bytes", "proportional_bytes", "swap_bytes",
    ),
    "modules": (
        "slot", "size_bytes", "kind", "form_factor", "rated_mtps", "configured_mtps", "maker",
    ),
    "sensors": (
        "sensor", "least", "greatest", "last", "unit", "critical", "margin", "curve", "median",
        "high", "remark",
    ),
    "sockets": (
        "port", "protocol", "scope", "state", "pids", "programs", "users", "unit", "local",
        "remote", "remote_port", "sent_bytes", "received_bytes", "unknown_owner",
    ),
    "disks": (
        "disk", "busy_mean", "busy_max", "read_bytes_per_s", "write_bytes_per_s",
        "latency_mean_s", "queue_mean", "requests_per_s", "spins", "size_bytes", "part_of", "model",
    ),
    "file systems": (
        "mounted_on", "used_share", "available_bytes", "used_bytes", "size_bytes", "inodes_share",
        "type", "source", "read_only",
    ),
    "links": (
        "link", "used_share", "received_bytes_per_s", "sent_bytes_per_s", "speed_bits_per_s",
        "errors", "drops", "state", "default_route", "wireless", "signal_dbm", "duplex",
    ),
    "services": (
        "unit", "state", "detail", "starts_by_itself", "stuck", "restarts", "cpu_s", "rss_bytes",
        "read_bytes", "pids", "about",
    ),
    "what starts by itself": (
        "name", "kind", "when", "user", "enabled", "cpu_s", "rss_bytes", "read_bytes", "command",
    ),
    "levels": ("resource", "name", "level", "used", "pressure"),
}  # fmt: skip
SHARES = frozenset(("busy_mean", "busy_median", "busy_max", "share", "used", "pressure"))
# where the name without its unit would be that of another column
HEADINGS = {"family_bytes": "family memory"}
TIME_KINDS = ("user", "nice", "system", "iowait", "irq", "softirq", "steal")
# seconds since the first tick, not a stretch of time
AT = frozenset(("at_s", "seconds"))
MOMENTS = frozenset(("since_s", "started_s", "boot_time_s", "last_run_s", "next_run_s"))


def bits_text(bits_per_s: float) -> str:
    """Return a link speed as people write it."""
    for unit, factor in (("Gbit/s", 1e9), ("Mbit/s", 1e6)):
        if bits_per_s >= factor:
            return f"{bits_per_s / factor:g} {unit}"
    return f"{bits_per_s:.0f} bit/s"


def moment_text(seconds: float) -> str:
    """Return a moment since 1970 as a date in UTC."""
    try:
        return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%MZ")
    except (OverflowError, ValueError, OSError):
        return "unknown"


def short_span_text(seconds: float) -> str:
    """Return a stretch of time, in milliseconds where it is short."""
    return f"{1e3 * seconds:.2f} ms" if 0 < seconds < 1 else span_text(seconds)


def plain_text(value: float) -> str:
    """Return a figure without a unit."""
    if value.is_integer():
        return f"{value:.0f}"
    return f"{value:.2f}" if abs(value) < 100 else f"{value:.0f}"


# the first ending that fits
_ENDINGS: tuple[tuple[str, Callable[[float], str]], ...] = (
    ("_bits_per_s", bits_text),
    ("_bytes_per_s", lambda value: f"{size_text(value)}/s" if value else "0"),
    ("_per_s", lambda value: f"{value:.1f}"),
    ("_bytes", size_text),
    ("_hz", lambda value: f"{value / 1e6:.0f} MHz"),
    ("_s", short_span_text),
)


def number_text(name: str, value: float) -> str:
    """Return a figure of a column as a terminal shows it."""
    if math.isnan(value):
        return "–"
    if name in SHARES or name.endswith("_share"):
        return percent(value).replace("under ", "< ")
    if name in AT:
        return f"{value:.1f} s"
    if name in MOMENTS:
        return moment_text(value)
    if name == "bytes":
        return size_text(value)
    if name.startswith("cores_") or name in ("busiest_cores", "family_cores"):
        return f"{value:.2f}"
    return next((text(value) for end, text in _ENDINGS if name.endswith(end)), plain_text(value))


def heading_text(name: str) -> str:
    """Return a column's heading; what the unit says stands in the cells."""
    if name in HEADINGS:
        return HEADINGS[name]
    if name.removesuffix("_share") in TIME_KINDS:
        return name.removesuffix("_share")
    if name.endswith("curve") or name.endswith("curve_bytes"):
        return "over time"
    for end in ("_bits_per_s", "_bytes_per_s", "_bytes", "_hz", "_mtps"):
        name = name.removesuffix(end)
    if not name.endswith("_per_s"):
        name = name.removesuffix("_s")
    return name.replace("_per_s", " a second").replace("_", " ")


def cell_text(name: str, value: object) -> str:
    """Return a cell of a column as people read it."""
    shown = plain(value)
    if shown is None:
        return "–"
    if isinstance(shown, bool):
        return "yes" if shown else "no"
    if isinstance(shown, int | float):
        return number_text(name, float(shown))
    return str(shown)


def plain(value: Any) -> Any:  # noqa: ANN401 - a cell may be anything
    """Return a cell as JSON has it: rounded, harmless, None for what is unknown."""
    if isinstance(value, dict):
        return {key: plain(one) for key, one in value.items()}
    if isinstance(value, list):
        return [plain(one) for one in value]
    if value is pd.NA or value is None:
        return None
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float):
        if not math.isfinite(value):
            return None
        if value.is_integer() and abs(value) < EXACT_BELOW:
            return int(value)
        return float(f"{value:.6g}")
    return harmless(value) if isinstance(value, str) else value
