"""A capture under examination: its series, the figures that decide, and what was found once.

Rules of resources, findings and ranking take an ``Examination``. What several of them need is a
function of it that is asked through ``once``, so that it is found once whoever asks first.
"""

from collections.abc import Callable
from typing import Any, TypeVar, cast

from dunmist.history.past import Past
from dunmist.series import Application, Process, Rate, Series
from dunmist.thresholds import Thresholds

Result = TypeVar("Result")


class Examination:
    """A capture's series with the thresholds by which it is judged."""

    def __init__(self, series: Series, limits: Thresholds, past: Past | None = None) -> None:
        self.series = series
        self.limits = limits
        self.past = past  # earlier records, None without a history
        self._found: dict[Callable[..., Any], Any] = {}

    def once(self, find: "Callable[[Examination], Result]") -> Result:
        """Return the result of a function on this capture, computed at the first call."""
        if find not in self._found:
            self._found[find] = find(self)
        return cast("Result", self._found[find])

    def typical(self, rate: Rate) -> float:
        """Return the lasting value: the greatest that held for the share of time that counts."""
        return rate.quantile(1.0 - self.limits.lasting.share)

    def steady(self, rate: Rate) -> float:
        """Return the value that held nearly all the time."""
        return rate.quantile(1.0 - self.limits.core.bound_share)

    def age_s(self, process: Process) -> float | None:
        """Return the age of a process at the end of the capture."""
        uptime_s = self.series.machine.uptime_s
        if uptime_s is None:
            return None
        return uptime_s - process.facts.start_clk / self.series.header.machine.clock_ticks_per_s

    @property
    def applications(self) -> list[Application]:
        """All applications, the sampler and the kernel's tasks among them."""
        return self.series.applications

    @property
    def processors(self) -> float:
        """Number of logical CPUs."""
        return self.series.machine.logical_processors
