"""Long series in few points, for tiny curves and strips: what a row of a table has room for."""

import numpy as np

from dunmist.series.rates import Floats


def curve(values: Floats, points: int) -> list[float | None]:
    """Return the means of at most so many equal stretches, None for a stretch that is unknown."""
    count = min(points, len(values))
    return [
        None if np.isnan(part).all() else float(np.nanmean(part))
        for part in np.array_split(values, count)
    ]


def peaks(values: Floats, points: int) -> list[float | None]:
    """Return the greatest of at most so many equal stretches, None for one that is unknown."""
    count = min(points, len(values))
    return [
        None if np.isnan(part).all() else float(np.nanmax(part))
        for part in np.array_split(values, count)
    ]
