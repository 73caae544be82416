"""Which columns of a table a terminal shows, and how each kind of figure is written.

Programs get every column (``--json``, ``--csv``); a terminal gets those listed here, all where a
table is not listed. A column's unit is the end of its name.
"""

import math
from collections.abc import Callable
from datetime import UTC, datetime

from dunmist.advice import percent, size_text, span_text

SHOWN = {
    "applications": (
        "application", "processes", "users", "cores_mean", "cores_max", "machine_share",
        "waiting_tasks", "private_bytes", "read_bytes_per_s", "write_bytes_per_s",
        "sent_bytes_per_s", "received_bytes_per_s",
    ),
    "processes": (
        "pid", "program", "user", "state", "threads", "nice", "cores_mean", "machine_share",
        "private_bytes", "read_bytes", "write_bytes", "descriptors", "waits_in", "command_line",
    ),
    "logical processors": (
        "cpu", "core", "package", "busy_mean", "busy_median", "busy_max", "user_share",
        "nice_share", "system_share", "iowait_share", "irq_share", "softirq_share", "steal_share",
        "clock_hz", "max_clock_hz", "governor",
    ),
    "modules": (
        "slot", "size_bytes", "kind", "form_factor", "rated_mtps", "configured_mtps", "maker",
    ),
    "sockets": (
        "protocol", "port", "local", "scope", "state", "pids", "programs", "users", "remote",
        "remote_port", "sent_bytes", "received_bytes",
    ),
    "disks": (
        "disk", "part_of", "model", "size_bytes", "spins", "busy_mean", "busy_max", "queue_mean",
        "latency_mean_s", "requests_per_s", "read_bytes_per_s", "write_bytes_per_s",
    ),
    "services": (
        "unit", "state", "detail", "starts_by_itself", "stuck", "restarts", "pids", "cpu_s",
        "rss_bytes", "read_bytes", "about",
    ),
    "what starts by itself": (
        "name", "kind", "when", "user", "enabled", "cpu_s", "rss_bytes", "read_bytes", "command",
    ),
}  # fmt: skip
SHARES = frozenset(("busy_mean", "busy_median", "busy_max", "share"))
TIME_KINDS = ("user", "nice", "system", "iowait", "irq", "softirq", "steal")
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
        return percent(value)
    if name in MOMENTS:
        return moment_text(value)
    if name == "bytes":
        return size_text(value)
    if name.startswith("cores_"):
        return f"{value:.2f}"
    return next((text(value) for end, text in _ENDINGS if name.endswith(end)), plain_text(value))


def heading_text(name: str) -> str:
    """Return a column's heading; what the unit says stands in the cells."""
    if name.removesuffix("_share") in TIME_KINDS:
        return name.removesuffix("_share")
    for end in ("_bits_per_s", "_bytes_per_s", "_bytes", "_hz", "_mtps"):
        name = name.removesuffix(end)
    if not name.endswith("_per_s"):
        name = name.removesuffix("_s")
    return name.replace("_per_s", " a second").replace("_", " ")
