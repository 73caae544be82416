"""Topic ``links``: every network link, and how TCP and UDP fared."""

import numpy as np
import pandas as pd

from dunmist.series.load import Series
from dunmist.series.tables._frames import frame_of, mean


def link_table(series: Series) -> pd.DataFrame:
    """Return one row for each link, the one that carries the default route first."""
    weights = series.machine.interval_s
    rows: list[dict[str, object]] = []
    for one in series.devices.links:
        about = one.about
        rows.append(
            {
                "link": one.name,
                "state": about.state if about else None,
                "default_route": about.is_default if about else None,
                "physical": about.physical if about else None,
                "wireless": about.wireless if about else None,
                "signal_dbm": about.signal_dbm if about else None,
                "speed_bits_per_s": about.speed_bits_per_s if about else None,
                "duplex": about.duplex if about else None,
                "received_bytes_per_s": mean(one.received_bytes_per_s, weights),
                "sent_bytes_per_s": mean(one.sent_bytes_per_s, weights),
                "used_share": None if one.used is None else mean(one.used, weights),
                "errors": float(np.nansum(one.errors)),
                "drops": float(np.nansum(one.drops)),
            }
        )
    return frame_of(rows, "default_route", "physical")


def transport_table(series: Series) -> pd.DataFrame:
    """Return the kernel's counters of TCP and UDP over the capture (RFC 4022 names)."""
    rows = [
        {"counter": word, "count": count, "times_per_s": count / series.duration_s}
        for word, count in series.devices.tcp.items()
        if word != "TcpCurrEstab"  # a level, not a counter
    ]
    return pd.DataFrame(rows)
