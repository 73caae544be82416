"""An incident of the flight recorder as one line."""

from datetime import datetime

from dunmist.recorder import Kept


def line_of(kept: Kept) -> str:
    """Return an incident in a line: when, how long, what set it off, and the verdict."""
    began = datetime.fromisoformat(kept.began)
    span_s = (datetime.fromisoformat(kept.ended) - began).total_seconds()
    if kept.limiting is not None:
        by = f", by {kept.culprit}" if kept.culprit else ""
        what = f"{kept.limiting} {kept.level}{by}"
    else:
        what = (kept.headline or "not judged yet").partition(". ")[0]
    words = f' "{kept.words}"' if kept.words else ""
    return (
        f"{began:%Y-%m-%d %H:%M:%S %z}  {span_s:4.0f} s  {', '.join(kept.set_off)}{words}: {what}"
    )
