"""What the tables have in common: figures over the intervals of a capture, and their order."""

import numpy as np
import pandas as pd

from dunmist.series.rates import Floats


def mean(values: Floats, weights: Floats) -> float:
    """Return the mean over the known intervals, 0 when none is."""
    known = ~np.isnan(values)
    return float(np.average(values[known], weights=weights[known])) if known.any() else 0.0


def known_mean(values: Floats, weights: Floats) -> float | None:
    """Return the mean over the known intervals, None when none is."""
    return None if np.isnan(values).all() else mean(values, weights)


def greatest(values: Floats) -> float | None:
    """Return the greatest known value, None when none is."""
    return None if np.isnan(values).all() else float(np.nanmax(values))


def least(values: Floats) -> float | None:
    """Return the smallest known value, None when none is."""
    return None if np.isnan(values).all() else float(np.nanmin(values))


def frame_of(rows: list[dict[str, object]], *greatest_first: str) -> pd.DataFrame:
    """Return the rows as a frame, the greatest of the named columns first; unknown comes last."""
    frame = pd.DataFrame(rows)
    if frame.empty or not greatest_first:
        return frame
    return frame.sort_values(
        list(greatest_first), ascending=False, ignore_index=True, kind="stable", na_position="last"
    )
