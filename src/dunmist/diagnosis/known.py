"""What is known when findings are looked for, and what their rules have in common."""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.disk import DiskState
from dunmist.diagnosis.heat import Heat
from dunmist.diagnosis.lasting import lasting
from dunmist.diagnosis.one_core import Bound
from dunmist.diagnosis.records import Finding, ResourceState, Sign
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import Kind, Resource, Severity, is_strained
from dunmist.series import Series
from dunmist.series.naming import distinct_name
from dunmist.series.rates import Floats


class Known(NamedTuple):
    """States of the resources, processes bound by one processor, disks and heat judged."""

    states: list[ResourceState]
    bound: list[Bound]
    disks: list[DiskState]
    heat: Heat

    def is_strained(self, resource: Resource) -> bool:
        """Whether any resource of a kind holds up work."""
        return any(one.resource == resource and is_strained(one.level) for one in self.states)


def application_finding(
    kind: Kind, severity: Severity, series: Series, number: int, signs: list[Sign]
) -> Finding:
    """Return a finding about an application."""
    return Finding(kind, severity, distinct_name(series, number), signs, number)


def typical(series: Series, values: Floats, limits: Thresholds) -> float:
    """Return what lasted over the intervals."""
    return lasting(values, series.machine.interval_s, limits["lasting"]["share"])


def online(series: Series) -> float:
    """Return the number of logical processors."""
    return float(np.median(series.machine.online))
