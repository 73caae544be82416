"""The figures that decide: typed defaults with unit and reason, a module a subject.

The user's own ``thresholds.toml`` may change single figures. A name that is not declared here is an
error, so that a slip does not go unseen. docs/thresholds.md lists all of them.
"""

import tomllib
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from dunmist.errors import SettingsError
from dunmist.thresholds.advice import AdviceLimits, CodeLimits
from dunmist.thresholds.comparing import CompareLimits, EffectLimits, ProveLimits
from dunmist.thresholds.cpu import Lasting
from dunmist.thresholds.culprits import CoverageLimits, CulpritLimits, SignLimits
from dunmist.thresholds.disks import DriveLimits
from dunmist.thresholds.findings import FindingLimits, StartLimits
from dunmist.thresholds.kernel_messages import KERNEL_MESSAGES, KernelMessageLimits
from dunmist.thresholds.resources import ResourceLimits
from dunmist.thresholds.verdicts import BadWindowLimits, ConfidenceLimits, SureLimits
from dunmist.trusted_paths import read_settings

# no threshold is near it
GREATEST = 1e18


class Thresholds(ResourceLimits, frozen=True):
    """All figures by subject."""

    lasting: Lasting = Lasting()
    complaints: dict[str, KernelMessageLimits] = msgspec.field(
        default_factory=lambda: dict(KERNEL_MESSAGES)
    )
    drives: DriveLimits = DriveLimits()
    start: StartLimits = StartLimits()
    culprit: CulpritLimits = CulpritLimits()
    coverage: CoverageLimits = CoverageLimits()
    findings: FindingLimits = FindingLimits()
    confidence: ConfidenceLimits = ConfidenceLimits()
    signs: SignLimits = SignLimits()
    advice: AdviceLimits = AdviceLimits()
    code: CodeLimits = CodeLimits()
    effect: EffectLimits = EffectLimits()
    prove: ProveLimits = ProveLimits()
    sure: SureLimits = SureLimits()
    stretch: BadWindowLimits = BadWindowLimits()
    compare: CompareLimits = CompareLimits()


@cache
def thresholds() -> Thresholds:
    """Return the defaults."""
    return Thresholds()


def load_thresholds(path: Path) -> Thresholds:
    """Return the defaults with the figures of a file in their place; raises SettingsError."""
    try:
        text = read_settings(path)
        if text is None:
            return thresholds()
        changes = tomllib.loads(text)
    except (OSError, ValueError) as error:
        raise SettingsError(
            f"{path}: no table of thresholds ({error}); mend it, or move it away"
        ) from error
    merged = _changed(path, msgspec.to_builtins(thresholds()), changes, "")
    return msgspec.convert(merged, Thresholds)


def _changed(
    path: Path, defaults: dict[str, Any], changes: dict[str, Any], above: str
) -> dict[str, Any]:
    """Return the defaults with changes in their place; raises SettingsError for any other."""
    changed = dict(defaults)
    for name, value in changes.items():
        usual, where = defaults.get(name), f"{above}{name}"
        if isinstance(usual, dict) and isinstance(value, dict):
            changed[name] = _changed(path, usual, value, f"{where}.")
            continue
        is_number = isinstance(value, int | float) and not isinstance(value, bool)
        # neither "not a number" nor infinity is below a bound
        is_sane = is_number and abs(value) <= GREATEST
        if usual is None or isinstance(usual, dict) or not is_sane:
            raise SettingsError(
                f"{path}: unknown threshold or impossible value '{where}'; "
                f"docs/thresholds.md lists them"
            )
        if isinstance(usual, int) and value != int(value):
            raise SettingsError(f"{path}: '{where}' counts, so it is a whole number; mend it")
        changed[name] = type(usual)(value)
    return changed
