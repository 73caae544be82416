"""What would be free if an application were gone, from what it took while it was sampled.

Amounts are means over the capture, so that those of all applications add up to no more than what
was in use. Nobody can tell how many kelvin a computer is cooler without a program before it was
tried: for heat it is the CPU time that heats.
"""

from typing import Literal, NamedTuple

from dunmist.diagnosis.words import ResourceWord
from dunmist.series import Application

FreedUnit = Literal["cores", "bytes", "bytes/s", "share"]


class Freed(NamedTuple):
    """An amount of a resource, in SI units or shares."""

    resource: ResourceWord
    value: float
    unit: FreedUnit


def savings_of(application: Application, limiting: ResourceWord | None) -> Freed | None:
    """Return what of the limiting resource an application takes; None where nobody can tell.

    Where nothing limits it is CPU time.
    """
    if application.kernel:
        return None
    if limiting in (None, "cpu", "core", "heat"):
        return _some("cpu", application.cores.mean(), "cores")
    if limiting in ("memory", "swap"):
        return _some("memory", application.private_bytes.median() or 0.0, "bytes")
    if limiting == "disk":
        return _some("disk", application.disk_bytes_per_s.mean(), "bytes/s")
    if limiting == "link":
        return _some("link", application.network_bytes_per_s.mean(), "bytes/s")
    if limiting == "gpu":
        return _some("gpu", min(1.0, application.graphics.mean()), "share")
    return None


def _some(resource: ResourceWord, value: float, unit: FreedUnit) -> Freed | None:
    return Freed(resource, value, unit) if value > 0 else None
