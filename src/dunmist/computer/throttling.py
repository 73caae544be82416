"""How often heat cut the clock: ``Documentation/ABI/testing/sysfs-devices-system-cpu``.

The counters are those of ``thermal_throttle`` (x86): of each core, and of its package, which every
processor of the package repeats.
"""

import msgspec

from dunmist.computer.parsing import parse_number
from dunmist.computer.root import Root

SUBJECT = "throttle counts"
_FILE = "sys/devices/system/cpu/cpu{}/thermal_throttle/{}_throttle_count"


class ThrottleSample(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Throttle counts of one logical processor's core and package since boot."""

    processor: int
    core: int | None
    package: int | None


def find_throttling(root: Root, processors: list[int]) -> list[int]:
    """Return the processors that publish throttle counts; notes when none does."""
    found = [number for number in processors if root.exists(_FILE.format(number, "core"))]
    if not found:
        root.note(SUBJECT, "absent")
    return found


def read_throttling(root: Root, processors: list[int]) -> list[ThrottleSample]:
    """Return the counts of each processor that is still online."""
    samples = []
    for number in processors:
        core, package = (
            root.parse(
                _FILE.format(number, part), parse_number, SUBJECT, again=True, may_be_absent=True
            )
            for part in ("core", "package")
        )
        if core is not None or package is not None:
            samples.append(ThrottleSample(number, core, package))
    return samples
