"""Write the health of the drives of a model computer, as the probe prints it.

The layouts are those of the NVM Express base specification and ACS-3. A drive of which a scenario
says nothing is well: it has run for a year, and has the few errors that everybody has.
"""

import struct
from collections.abc import Iterator

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.scenario import HealthSpec

PAGE_BYTES = 512
KELVIN_OF_ZERO = 273
HOURS, INTERFACE_ERRORS, CELSIUS = 8_760, 3, 38
# number, least allowed value and raw figure of a drive that is well
WELL = {
    5: (36, 0),
    9: (0, HOURS),
    194: (0, CELSIUS),
    197: (0, 0),
    198: (0, 0),
    199: (0, INTERFACE_ERRORS),
}
VALUE = 100


def health_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the answer of each drive."""
    by_disk = {health.disk: health for health in model.scenario.hardware.health}
    for disk in model.scenario.hardware.disks:
        health = by_disk.get(disk.name, HealthSpec(disk.name))
        yield f"health/{disk.name}", _answer(health)


def _answer(health: HealthSpec) -> str:
    if health.asleep:
        return "asleep 1\n"
    if health.disk.startswith("nvme"):
        return f"nvme {_nvme(health).hex()}\n"
    data, thresholds = _ata(health)
    return f"ata {int(health.fails)}\ndata {data.hex()}\nthresholds {thresholds.hex()}\n"


def _nvme(health: HealthSpec) -> bytes:
    page = bytearray(PAGE_BYTES)
    struct.pack_into(
        "<BHBBB",
        page,
        0,
        health.warning,
        CELSIUS + KELVIN_OF_ZERO,
        health.spare_percent,
        10,
        health.used_percent,
    )
    page[128:144] = HOURS.to_bytes(16, "little")
    page[160:176] = health.media_errors.to_bytes(16, "little")
    return bytes(page)


def _ata(health: HealthSpec) -> tuple[bytes, bytes]:
    data, thresholds = bytearray(PAGE_BYTES), bytearray(PAGE_BYTES)
    raws = {number: raw for number, (_, raw) in WELL.items()} | {
        int(number): raw for number, raw in health.attributes.items()
    }
    for index, (number, raw) in enumerate(sorted(raws.items())):
        least = WELL.get(number, (0, 0))[0]
        start = 2 + 12 * index
        data[start : start + 12] = struct.pack("<BHBB", number, 0x33, VALUE, VALUE) + (
            raw.to_bytes(6, "little") + b"\0"
        )
        thresholds[start : start + 2] = bytes((number, least))
    return bytes(data), bytes(thresholds)
