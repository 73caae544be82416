"""Captures a model computer with the very code that captures a real one, in virtual time."""

import os
import tempfile
from pathlib import Path

from dunmist.jobs.capture import CaptureOptions, run_capture
from dunmist.simulation import ComputerTree, ModelComputer, Scenario, VirtualClock
from dunmist.simulation.model import SEED

MEMORY_DIRECTORY = "/dev/shm"  # noqa: S108 - only a new directory with a random name in it


def _memory_directory() -> str | None:
    """Return a directory for thousands of tiny files that no disk need see."""
    return MEMORY_DIRECTORY if os.access(MEMORY_DIRECTORY, os.W_OK) else None


def capture_patient(
    scenario: Scenario,
    path: Path,
    duration_s: float = 30.0,
    every_s: float = 1.0,
    *,
    force: bool = False,
    seed: int = SEED,
    clock: type[VirtualClock] = VirtualClock,
) -> Path:
    """Sample a patient into a file and return its path; raises OutputError.

    With another ``seed`` chance falls otherwise. Another ``clock`` may be late.
    """
    with tempfile.TemporaryDirectory(prefix="dunmist-", dir=_memory_directory()) as directory:
        model = ModelComputer(scenario, seed)
        tree = ComputerTree(model, Path(directory))
        try:
            options = CaptureOptions(
                path, duration_s, every_s, Path(directory), scenario.complaint, force=force
            )
            return run_capture(options, clock(model, tree))
        finally:
            tree.close()
