"""Topic ``machine``: what the computer is, its memory modules, and how it was sampled."""

from collections.abc import Iterator
from typing import Any, NamedTuple

from dunmist.advice import Judged
from dunmist.computer import Firmware, MemoryModule
from dunmist.series import Series
from dunmist.tables.declared import Column, Table, Unit, Width

# each fact with its unit, in the order in which people read them
FACTS: dict[str, Unit] = {
    "host": "text",
    "distribution": "text",
    "kernel": "text",
    "maker": "text",
    "model": "text",
    "board": "text",
    "firmware": "text",
    "firmware_date": "text",
    "virtual": "text",
    "container": "text",
    "processor_model": "text",
    "packages": "number",
    "physical_cores": "number",
    "logical_processors": "number",
    "nominal_clock_hz": "Hz",
    "max_clock_hz": "Hz",
    "offline_processors": "text",
    "core_kinds": "number",
    "memory_bytes": "bytes",
    "memory_modules_bytes": "bytes",
    "memory_slots": "number",
    "memory_slots_empty": "number",
    "boot_time_s": "moment",
    "clock_synchronised": "flag",
    "uptime_s": "s",
    "graphics": "text",
    "note": "text",
    "started": "text",
    "duration_s": "s",
    "ticks": "number",
    "ticks_missed": "number",
    "ticks_late": "number",
    "privileged": "flag",
    "own_cores": "figure",
    "own_whole_cpu_s": "s",
    "own_rss_bytes": "bytes",
}
HZ_PER_MHZ = 1e6


class Fact(NamedTuple):
    """One fact, in the unit that ``FACTS`` gives it."""

    fact: str
    value: Any


def _facts(judged: Judged) -> Iterator[Fact]:
    known = {**_computer(judged.series), **_sampling(judged.series)}
    return (Fact(name, known[name]) for name in FACTS)


def _computer(series: Series) -> dict[str, Any]:
    about, inventory = series.header.machine, series.header.inventory
    firmware = inventory.firmware or Firmware()
    packages = {
        processor.package for processor in about.processors if processor.package is not None
    }
    cores = {
        (processor.package, processor.core)
        for processor in about.processors
        if processor.core is not None
    }
    survey = series.surveyed.last
    sync = survey.time_sync if survey else None
    return {
        "host": about.host,
        "distribution": about.distribution,
        "kernel": about.kernel,
        "maker": firmware.maker,
        "model": firmware.model,
        "board": firmware.board,
        "firmware": firmware.firmware_version,
        "firmware_date": firmware.firmware_date,
        "virtual": inventory.virtual,
        "container": inventory.container,
        "processor_model": about.model,
        "packages": len(packages) or None,
        "physical_cores": len(cores) or None,
        "logical_processors": len(about.processors),
        "nominal_clock_hz": about.nominal_mhz * HZ_PER_MHZ if about.nominal_mhz else None,
        "max_clock_hz": series.machine.most_clock_hz,
        "offline_processors": " ".join(map(str, inventory.offline_processors)) or None,
        "core_kinds": len(
            {processor.capacity or processor.max_khz for processor in about.processors}
        ),
        "memory_bytes": about.memory_bytes,
        "memory_modules_bytes": sum(module.size_bytes or 0 for module in firmware.modules) or None,
        "memory_slots": firmware.slots,
        "memory_slots_empty": _empty_slots(firmware),
        "boot_time_s": about.boot_time_s,
        "clock_synchronised": sync.synchronised if sync else None,
        "uptime_s": series.machine.uptime_s,
        "graphics": " ".join(card.driver or card.name for card in inventory.cards) or None,
    }


def _sampling(series: Series) -> dict[str, Any]:
    header, machine = series.header, series.machine
    whole_s = series.footer.own_cpu_s if series.footer else None
    return {
        "note": header.note,
        "started": header.started,
        "duration_s": series.duration_s,
        "ticks": series.ticks,
        "ticks_missed": series.missed,
        "ticks_late": series.late,
        "privileged": header.privileged,
        # a copy or a model pays nothing for being sampled
        "own_cores": series.own_cores if header.live else None,
        "own_whole_cpu_s": whole_s if header.live else None,
        "own_rss_bytes": machine.own_rss_bytes if header.live else None,
    }


MACHINE: Table[Fact] = Table(
    "machine",
    "one fact a row; the names of the facts carry their units",
    (
        Column("fact", "text", "name of the fact"),
        Column("value", "fact", "its value", width=Width(most=90)),
    ),
    _facts,
    units=FACTS,
)


def _modules(judged: Judged) -> list[MemoryModule]:
    firmware = judged.series.header.inventory.firmware
    return firmware.modules if firmware else []


MODULES: Table[MemoryModule] = Table(
    "modules",
    "memory slots that the firmware lists",
    (
        Column("slot", "text", "where it sits"),
        Column("bank", "text", "bank"),
        Column("size_bytes", "bytes", "size; 0 for an empty slot"),
        Column("kind", "text", "generation of memory"),
        Column("form_factor", "text", "shape"),
        Column("rated_mtps", "MT/s", "millions of transfers a second that it is made for"),
        Column("configured_mtps", "MT/s", "millions of transfers a second that it is set to"),
        Column("maker", "text", "maker"),
        Column("part", "text", "part number"),
    ),
    _modules,
    shown=("slot", "size_bytes", "kind", "form_factor", "rated_mtps", "configured_mtps", "maker"),
)


def _empty_slots(firmware: Firmware) -> int | None:
    if not firmware.modules:
        return None
    return sum(module.size_bytes == 0 for module in firmware.modules)
