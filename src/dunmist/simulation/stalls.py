"""Time in which tasks waited for a resource, as the kernel accounts and averages it."""

import math
from dataclasses import dataclass, field

# Documentation/accounting/psi.rst
SPANS_S = (10.0, 60.0, 300.0)


@dataclass(slots=True)
class Stalls:
    """Totals in microseconds of time in which some and all tasks waited, and damped averages."""

    some_us: float = 0.0
    full_us: float = 0.0
    averages: list[float] = field(default_factory=lambda: [0.0, 0.0, 0.0])

    def add(self, some: float, full: float, step_s: float) -> None:
        """Account one step of which these shares were stalled."""
        self.some_us += some * step_s * 1e6
        self.full_us += full * step_s * 1e6
        for index, span_s in enumerate(SPANS_S):
            decay = math.exp(-step_s / span_s)
            self.averages[index] = self.averages[index] * decay + 100 * some * (1 - decay)
