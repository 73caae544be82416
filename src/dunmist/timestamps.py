"""Points in time as people write them, on the clock of the computer that they belong to."""

from datetime import UTC, datetime, tzinfo

UNKNOWN = "unknown"


def timestamp_text(timestamp_s: float, zone: tzinfo | None = UTC) -> str:
    """Return seconds since 1970 as local date and time with the offset of the zone."""
    try:
        return datetime.fromtimestamp(timestamp_s, zone).strftime("%Y-%m-%d %H:%M %z")
    except (OverflowError, ValueError, OSError):
        return UNKNOWN


def started_text(started: str) -> str:
    """Return when a capture began, given as in its header, to the second."""
    return datetime.fromisoformat(started).strftime("%Y-%m-%d %H:%M:%S %z")
