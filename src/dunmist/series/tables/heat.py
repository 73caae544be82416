"""Topic ``heat``: every sensor, which one stands for the processor, and graphics cards."""

import numpy as np
import pandas as pd

from dunmist.computer import PowerSupply
from dunmist.series.curves import curve
from dunmist.series.load import Series
from dunmist.series.sensors import SensorSeries, energy_watts, processor_sensor
from dunmist.series.tables._frames import greatest, least

UNITS = {"temperature": "°C", "fan": "turns/min", "voltage": "V", "current": "A", "power": "W",
         "energy": "W", "humidity": "share"}  # fmt: skip
UW = 1e-6
CURVE_POINTS = 12
COLUMNS = ["sensor", "part", "quantity", "unit", "least", "median", "greatest", "last", "curve",
           "high", "critical", "margin", "remark"]  # fmt: skip


def heat_table(series: Series) -> pd.DataFrame:
    """Return one row for each sensor and battery, the processor's own first."""
    chosen = processor_sensor(series.devices.sensors)
    rows = [_row(series, one) for one in series.devices.sensors]
    for row in rows:
        if chosen and row["sensor"] == chosen.name:
            also = f"; {row['remark']}" if row["remark"] else ""
            row["remark"] = f"taken for the processor: {chosen.why}{also}"
    rows.sort(key=lambda row: not str(row["remark"] or "").startswith("taken"))
    rows += [_supply(one) for one in series.devices.supplies.values()]
    rows += [
        {"sensor": f"throttle count, {kind}", "part": "processor", "quantity": "throttling",
         "unit": "times", "last": float(counts.sum())}
        for kind, counts in series.devices.throttled.items()
    ]  # fmt: skip
    return pd.DataFrame([row for row in rows if not row.get("doubt")], columns=COLUMNS)


def doubted_table(series: Series) -> pd.DataFrame:
    """Return one row for each sensor that reads what cannot be true, with the reason."""
    rows = [_row(series, one) for one in series.devices.sensors if one.doubt]
    return pd.DataFrame(rows, columns=COLUMNS)


def graphics_table(series: Series) -> pd.DataFrame:
    """Return one row for each graphics card."""
    cards = {one.name: one for one in series.header.inventory.cards}
    rows: list[dict[str, object]] = []
    for one in series.devices.graphics:
        about = cards.get(one.name)
        rows.append(
            {
                "card": one.name,
                "driver": about.driver if about else None,
                "pci_id": about.pci_id if about else None,
                "busy_mean": None if np.isnan(one.busy).all() else float(np.nanmean(one.busy)),
                "busy_max": greatest(one.busy),
                "memory_used_bytes": greatest(one.memory_used_bytes),
                "memory_bytes": about.memory_bytes if about else None,
                "clock_hz": greatest(one.clock_hz),
                "max_clock_hz": about.max_clock_hz if about else None,
            }
        )
    return pd.DataFrame(rows)


def _row(series: Series, one: SensorSeries) -> dict[str, object]:
    values = one.values
    if one.quantity == "energy":
        values = energy_watts(one, series.machine.interval_s)
    known = values[~np.isnan(values)]
    most = greatest(values)
    is_margin_known = one.critical is not None and most is not None and one.is_trusted
    return {
        "sensor": one.name,
        "part": one.part,
        "quantity": "power" if one.quantity == "energy" else one.quantity,
        "unit": UNITS[one.quantity],
        "least": least(values),
        "median": float(np.median(known)) if len(known) else None,
        "greatest": most,
        "last": float(known[-1]) if len(known) else None,
        "curve": curve(values, CURVE_POINTS),
        "doubt": one.doubt,
        "high": one.high,
        "critical": one.critical,
        "margin": (one.critical or 0.0) - (most or 0.0) if is_margin_known else None,
        "remark": _remark(one),
    }


def _remark(one: SensorSeries) -> str | None:
    if one.doubt:
        return f"left out: {one.doubt}"
    alarms = [name.replace("_", " ") for name in one.sensor.alarms]
    return f"the chip reports: {', '.join(alarms)}" if alarms else None


def _supply(one: PowerSupply) -> dict[str, object]:
    now = one.energy_now if one.energy_now is not None else one.charge_now
    full = one.energy_full if one.energy_full is not None else one.charge_full
    design = one.energy_full_design or one.charge_full_design
    remarks = [one.status or ("plugged in" if one.online else None)]
    if full and design:
        remarks.append(f"holds {100 * full / design:.0f} % of its design")
    if one.cycles:
        remarks.append(f"{one.cycles} cycles")
    watts = one.power_now
    if watts is None and one.current_now is not None and one.voltage_now is not None:
        watts = round(one.current_now * one.voltage_now * UW)
    return {
        "sensor": " ".join(filter(None, (one.name, one.model))),
        "part": one.kind,
        "quantity": "power",
        "unit": "W",
        "last": None if watts is None else watts * UW,
        "remark": ", ".join(
            filter(None, [f"{100 * now / full:.0f} % charged" if now and full else None, *remarks])
        )
        or None,
    }
