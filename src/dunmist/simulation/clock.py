"""The clock of a model computer: waiting moves the model on, at once."""

from datetime import datetime, timedelta

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.tree import ComputerTree


class VirtualClock:
    """A sampler's clock in virtual time; a tick sees the tree as it is then."""

    frame_early_s: float | None = None

    def __init__(self, model: ModelComputer, tree: ComputerTree) -> None:
        self._model = model
        self._tree = tree

    def monotonic_s(self) -> float:
        """Return virtual seconds since the model was made."""
        return self._model.now_s

    def boottime_s(self) -> float:
        """Return the same: a model computer does not sleep."""
        return self._model.now_s

    def now(self) -> datetime:
        """Return the scenario's own date and time."""
        started = datetime.fromisoformat(self._model.scenario.machine.started)
        return started + timedelta(seconds=self._model.now_s)

    def sleep_until(self, monotonic_s: float) -> bool:
        """Move the model on and write its tree."""
        self._model.advance_to(monotonic_s)
        self._tree.refresh()
        return True
