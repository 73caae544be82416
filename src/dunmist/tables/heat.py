"""Topic ``heat``: every sensor, which one stands for the processor, and graphics cards."""

from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged, doubt_text
from dunmist.computer import GraphicsCard, PowerSupply
from dunmist.diagnosis import held_share
from dunmist.series import GraphicsSeries, Rate, SensorSeries
from dunmist.tables.declared import CURVE_POINTS, Column, Table, Width
from dunmist.tables.shared_columns import PID, PROGRAM, USER

QUANTITY_UNITS = {
    "temperature": "°C",
    "fan": "turns/min",
    "voltage": "V",
    "current": "A",
    "power": "W",
    "energy": "W",
    "humidity": "share",
}
W_PER_UW = 1e-6


class Reading(NamedTuple):
    """One sensor, battery or count of throttling over the capture, in its own unit."""

    sensor: str
    part: str
    quantity: str
    unit: str
    last: float | None
    remark: str | None = None
    least: float | None = None
    median: float | None = None
    greatest: float | None = None
    curve: list[float | None] | None = None
    share_curve: list[float | None] | None = None
    high: float | None = None
    critical: float | None = None
    margin: float | None = None


def _sensors(judged: Judged) -> Iterator[Reading]:
    """Yield each sensor and battery, the processor's own first."""
    series = judged.series
    chosen = series.processor_sensor
    trusted = [sensor for sensor in series.devices.sensors if sensor.is_trusted]
    for sensor in sorted(trusted, key=lambda sensor: not (chosen and sensor.name == chosen.name)):
        reading = _sensor(sensor)._replace(share_curve=share_curve(judged, sensor, CURVE_POINTS))
        if chosen and sensor.name == chosen.name:
            also = f"; {reading.remark}" if reading.remark else ""
            reading = reading._replace(remark=f"taken for the processor: {chosen.why}{also}")
        yield reading
    for supply in series.devices.supplies.values():
        yield _supply(supply)
    for kind, rate in series.devices.throttled.items():
        times = float(round(rate.total()))
        yield Reading(f"throttle count, {kind}", "processor", "throttling", "times", times)


def heat_scale(judged: Judged) -> tuple[float, float]:
    """Return the ends of the scale that all temperatures share, in °C: a room's, the last limit."""
    table = judged.diagnosis.limits.heat
    limits = [
        sensor.critical
        for sensor in judged.series.devices.sensors
        if sensor.is_trusted and sensor.critical
    ]
    return table.room_celsius, max(limits, default=table.assumed_critical_celsius)


def share_curve(judged: Judged, sensor: SensorSeries, points: int) -> list[float | None]:
    """Return a sensor's readings over time as shares of a scale that tells the truth."""
    # an interval's figure stands at the tick that ends it, so that all have one axis
    shown = sensor.shown.at_ticks() if isinstance(sensor.shown, Rate) else sensor.shown
    low, high = 0.0, shown.greatest() or 1.0
    if sensor.quantity == "temperature":
        low, high = heat_scale(judged)
    return [
        None if value is None else min(max((value - low) / (high - low), 0.0), 1.0)
        for value in shown.curve(points)
    ]


def _doubted(judged: Judged) -> Iterator[Reading]:
    return (_sensor(sensor) for sensor in judged.series.devices.sensors if sensor.doubt)


def _sensor(sensor: SensorSeries) -> Reading:
    shown = sensor.shown
    most = shown.greatest()
    is_margin_known = sensor.critical is not None and most is not None and sensor.is_trusted
    return Reading(
        sensor=sensor.name,
        part=sensor.part,
        quantity="power" if sensor.quantity == "energy" else sensor.quantity,
        unit=QUANTITY_UNITS[sensor.quantity],
        last=shown.last(),
        remark=_remark(sensor),
        least=shown.least(),
        median=shown.median(),
        greatest=most,
        curve=shown.curve(CURVE_POINTS),
        high=sensor.high,
        critical=sensor.critical,
        margin=(sensor.critical or 0.0) - (most or 0.0) if is_margin_known else None,
    )


def _remark(sensor: SensorSeries) -> str | None:
    if sensor.doubt:
        return f"left out: {doubt_text(sensor.doubt)}"
    alarms = [name.replace("_", " ") for name in sensor.sensor.alarms]
    return f"the chip reports: {', '.join(alarms)}" if alarms else None


def _supply(power_supply: PowerSupply) -> Reading:
    now = (
        power_supply.energy_now if power_supply.energy_now is not None else power_supply.charge_now
    )
    full = (
        power_supply.energy_full
        if power_supply.energy_full is not None
        else power_supply.charge_full
    )
    remarks = [power_supply.status or ("plugged in" if power_supply.online else None)]
    held = held_share(power_supply)
    if held:
        remarks.append(f"holds {100 * held:.0f} % of its design")
    if power_supply.cycles:
        remarks.append(f"{power_supply.cycles} cycles")
    watts = power_supply.power_now
    if (
        watts is None
        and power_supply.current_now is not None
        and power_supply.voltage_now is not None
    ):
        watts = round(power_supply.current_now * power_supply.voltage_now * W_PER_UW)
    charged = f"{100 * now / full:.0f} % charged" if now and full else None
    return Reading(
        sensor=" ".join(filter(None, (power_supply.name, power_supply.model))),
        part=power_supply.kind,
        quantity="power",
        unit="W",
        last=None if watts is None else watts * W_PER_UW,
        remark=", ".join(filter(None, [charged, *remarks])) or None,
    )


SENSORS: Table[Reading] = Table(
    "sensors",
    "the processor's own first; batteries and throttle counts stand below",
    (
        Column("sensor", "text", "chip and label, or the name that a correction gives",
            width=Width(), answers=("name",)),
        Column("part", "text", "part that it belongs to"),
        Column("quantity", "text", "measured quantity"),
        Column("unit", "text", "unit of its figures"),
        Column("least", "figure", "least reading"),
        Column("median", "figure", "median reading"),
        Column("greatest", "figure", "greatest reading"),
        Column("last", "figure", "newest reading"),
        Column("curve", "curve", "readings over the capture"),
        Column(
            "share_curve",
            "curve of shares",
            "the same: temperatures from that of a room to "
            "the greatest limit, the rest from zero to its maximum",
        ),
        Column("high", "figure", "the driver's own upper limit"),
        Column("critical", "figure", "limit at which the hardware protects itself"),
        Column("margin", "figure", "from the greatest reading to that limit"),
        Column("remark", "text", "which one was taken for the processor and why, or what is wrong",
            width=Width(most=84)),
    ),
    _sensors,
    shown=("sensor", "least", "greatest", "last", "unit", "critical", "margin", "share_curve",
        "median", "high", "remark"),
)
DOUBTED = SENSORS._replace(
    name="implausible sensors",
    about="those that read what cannot be true, with the reason",
    records=_doubted,
    shown=(),
)


class Card(NamedTuple):
    """One graphics card."""

    card: GraphicsSeries
    about: GraphicsCard | None


def _graphics(judged: Judged) -> Iterator[Card]:
    cards = {card.name: card for card in judged.series.header.inventory.cards}
    return (Card(card, cards.get(card.name)) for card in judged.series.devices.graphics)


def _busy_mean(row: Card) -> float | None:
    return row.card.busy.mean() if row.card.busy.is_known else None


GRAPHICS: Table[Card] = Table(
    "graphics",
    "graphics cards",
    (
        Column("card", "text", "card as the kernel calls it", lambda row: row.card.name),
        Column("driver", "text", "driver", lambda row: row.about and row.about.driver),
        Column("pci_id", "text", "vendor and device", lambda row: row.about and row.about.pci_id),
        Column("busy_mean", "share", "busy share, mean", _busy_mean, answers=("least",)),
        Column("busy_max", "share", "busy share, most", lambda row: row.card.busy.greatest()),
        Column("memory_used_bytes", "bytes", "memory in use, most",
            lambda row: row.card.memory_used_bytes.greatest()),
        Column("memory_bytes", "bytes", "memory that it has",
            lambda row: row.about and row.about.memory_bytes),
        Column("clock_hz", "Hz", "clock, greatest", lambda row: row.card.clock_hz.greatest()),
        Column("max_clock_hz", "Hz", "greatest possible clock",
            lambda row: row.about and row.about.max_clock_hz),
    ),
    _graphics,
)


class GraphicsUser(NamedTuple):
    """One process that has a graphics card open."""

    program: str
    pid: int
    user: str | None
    engine_share: float | None
    memory_bytes: float | None


def _graphics_users(judged: Judged) -> Iterator[GraphicsUser]:
    devices, processes = judged.series.devices, judged.series.processes
    for identity in devices.graphics_use.keys() | devices.graphics_bytes.keys():
        process = processes.get(identity)
        if process is not None:
            use = devices.graphics_use.get(identity)
            share = None if use is None else use.mean()
            held = devices.graphics_bytes.get(identity)
            yield GraphicsUser(process.name, process.pid, process.facts.user, share, held)


GRAPHICS_USERS: Table[GraphicsUser] = Table(
    "graphics users",
    "processes that have a graphics card open, where the driver counts it",
    (
        PROGRAM,
        PID,
        USER,
        Column("engine_share", "share", "time of its engines a second", answers=("least",)),
        Column("memory_bytes", "bytes", "memory of the card that it holds at the end"),
    ),
    _graphics_users,
    order=("engine_share", "memory_bytes"),
)
