"""Topic ``links``: every network link."""

import numpy as np
import pandas as pd

from dunmist.series.load import Series
from dunmist.series.tables._means import mean


def link_table(series: Series) -> pd.DataFrame:
    """Return one row for each link, the one that carries the default route first."""
    weights = series.machine.interval_s
    rows = []
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
    rows.sort(key=lambda row: (not row["default_route"], not row["physical"]))
    return pd.DataFrame(rows)
