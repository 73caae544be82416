"""Topic ``boot``: how long each part of the start took, and the units that delayed others."""

from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import Boot, StartedUnit
from dunmist.tables.declared import Column, Table, Width


def boot_of(judged: Judged) -> Boot | None:
    """Return the facts of the start, None if none is recorded."""
    last = judged.series.surveyed.last
    return last.boot if last else None


class Phase(NamedTuple):
    """One part of the start."""

    phase: str
    took_s: float


def _phases(judged: Judged) -> Iterator[Phase]:
    boot = boot_of(judged)
    if boot is None:
        return
    for phase, took_s in (
        ("firmware", boot.firmware_s),
        ("boot loader", boot.loader_s),
        ("kernel", boot.kernel_s),
        ("initial file system", boot.initrd_s),
        ("services", boot.services_s),
    ):
        if took_s is not None:
            yield Phase(phase, took_s)


BOOT: Table[Phase] = Table(
    "phases",
    "of the start, in order",
    (
        Column("phase", "text", "what the computer was busy with"),
        Column("took_s", "s", "how long it took"),
    ),
    _phases,
)


# stands for the unit where none accounts for a time
NO_UNIT = "(no unit)"


class BootUnit(NamedTuple):
    """One unit of the start, and whether everything after it waited for it."""

    start: StartedUnit
    waited_for: bool


def _units(judged: Judged) -> Iterator[BootUnit]:
    boot = boot_of(judged)
    if boot is None:
        return
    waited_for = {unit.name for unit in boot.chain}
    by_name = {unit.name: unit for unit in (*boot.slowest, *boot.chain)}
    units = [BootUnit(unit, unit.name in waited_for) for unit in by_name.values()]
    for gap in boot.gaps:
        empty = StartedUnit(NO_UNIT, gap.began_s, gap.began_s + gap.took_s)
        units.append(BootUnit(empty, waited_for=True))
    yield from sorted(units, key=lambda unit: unit.start.began_s)


BOOT_UNITS: Table[BootUnit] = Table(
    "units",
    "the slowest, and the chain that the rest waited for; only where services took long. "
    f"`{NO_UNIT}` is a time of the chain that none accounts for",
    (
        Column("unit", "text", "service, mount, target or device", lambda row: row.start.name,
            width=Width(20, 60), answers=("name", "service")),
        Column("began_s", "at", "when it began, after the kernel started",
            lambda row: row.start.began_s, title="began"),
        Column("ready_s", "at", "when it was ready", lambda row: row.start.ready_s, title="ready"),
        Column("took_s", "s", "how long that took", lambda row: row.start.took_s),
        Column("waited_for", "flag", "whether everything after it waited for it"),
    ),
    _units,
)
