"""Topic ``boot``: how long each part of the start took, and who kept others waiting."""

from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.computer import Boot
from dunmist.tables.declared import Column, Row, Table, Width


def boot_of(judged: Judged) -> Boot | None:
    """Return how the start went, None where nobody told."""
    last = judged.series.surveyed.last
    return last.boot if last else None


def _phases(judged: Judged) -> Iterator[Row]:
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
            yield {"phase": phase, "took_s": took_s}


BOOT = Table(
    "phases",
    "of the start, in order",
    (
        Column("phase", "text", "what the computer was busy with"),
        Column("took_s", "s", "how long it took"),
    ),
    _phases,
)


def _units(judged: Judged) -> Iterator[Row]:
    boot = boot_of(judged)
    if boot is None:
        return
    waited_for = {unit.name for unit in boot.chain}
    by_name = {unit.name: unit for unit in (*boot.slowest, *boot.chain)}
    for unit in sorted(by_name.values(), key=lambda unit_start: unit_start.began_s):
        yield {
            "unit": unit.name,
            "began_s": unit.began_s,
            "ready_s": unit.ready_s,
            "took_s": unit.took_s,
            "waited_for": unit.name in waited_for,
        }


BOOT_UNITS = Table(
    "units",
    "the slowest, and the chain that the rest waited for; only where services took long",
    (
        Column(
            "unit", "text", "service, mount, target or device", Width(20, 60), ("name", "service")
        ),
        Column("began_s", "at", "when it began, after the kernel started", title="began"),
        Column("ready_s", "at", "when it was ready", title="ready"),
        Column("took_s", "s", "how long that took"),
        Column("waited_for", "flag", "whether everything after it waited for it"),
    ),
    _units,
)
