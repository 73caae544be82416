"""Batteries and mains: ``Documentation/ABI/testing/sysfs-class-power``, power_supply_class.rst.

Each supply writes all it knows into its ``uevent`` file, one word a line, so one read will do.
Energies come as µWh, or as charges in µAh where the battery measures those.
"""

import re

import msgspec

from dunmist.computer.parsing import ParseError, text_of
from dunmist.computer.root import Root

SUBJECT = "power supplies"
_WORD = re.compile(rb"^POWER_SUPPLY_([A-Z_]{1,40})=(.*)$", re.M)
_NUMBERS = {
    "energy_now": "ENERGY_NOW",
    "energy_full": "ENERGY_FULL",
    "energy_full_design": "ENERGY_FULL_DESIGN",
    "charge_now": "CHARGE_NOW",
    "charge_full": "CHARGE_FULL",
    "charge_full_design": "CHARGE_FULL_DESIGN",
    "power_now": "POWER_NOW",
    "current_now": "CURRENT_NOW",
    "voltage_now": "VOLTAGE_NOW",
    "capacity_percent": "CAPACITY",
    "cycles": "CYCLE_COUNT",
    "online": "ONLINE",
}


class PowerSupply(msgspec.Struct, frozen=True, omit_defaults=True):
    """One supply as it describes itself; None is 'not published'."""

    name: str
    kind: str
    status: str | None = None
    model: str | None = None
    technology: str | None = None
    online: int | None = None  # 1 for mains that are plugged in
    capacity_percent: int | None = None  # charge left
    cycles: int | None = None
    energy_now: int | None = None  # µWh (Documentation/power/power_supply_class.rst)
    energy_full: int | None = None  # last full charge, not the design's
    energy_full_design: int | None = None
    charge_now: int | None = None  # µAh; a battery publishes energy or charge
    charge_full: int | None = None
    charge_full_design: int | None = None
    power_now: int | None = None  # µW; the sign differs between drivers
    current_now: int | None = None  # µA
    voltage_now: int | None = None  # µV


def parse_power_supply(data: bytes) -> PowerSupply:
    """Return the record of one ``uevent`` file; raises ParseError."""
    words = {text_of(word): text_of(value.strip()) for word, value in _WORD.findall(data)}
    if "NAME" not in words:
        raise ParseError("power_supply uevent", "expected POWER_SUPPLY_NAME", data)
    numbers = {
        field: int(words[word])
        for field, word in _NUMBERS.items()
        # currents are negative on some drivers while a battery discharges
        if re.fullmatch(r"-?[0-9]{1,15}", words.get(word, ""))
    }
    return PowerSupply(
        name=words["NAME"],
        kind=words.get("TYPE", "Unknown").lower(),
        status=words.get("STATUS", "").lower() or None,
        model=words.get("MODEL_NAME") or None,
        technology=words.get("TECHNOLOGY") or None,
        **numbers,
    )


def read_power_supplies(root: Root) -> list[PowerSupply]:
    """Return every battery and mains supply."""
    power_supplies = []
    for name in root.names("sys/class/power_supply"):
        supply = root.parse(
            f"sys/class/power_supply/{name}/uevent", parse_power_supply, SUBJECT, again=True
        )
        if supply:
            power_supplies.append(supply)
    return power_supplies
