"""Temperatures, fans, clock and power on one time axis."""

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import (
    COLOURS,
    INK,
    canvas,
    legend,
    nothing_to_draw,
    plain_label,
    step_line,
    styles,
    title,
)
from dunmist.reports.pictures.time_axis import finish
from dunmist.series import Level, Process, ProcessorSensor, Rate, SensorSeries, Series

# more lines cannot be distinguished
LINES_MOST = 8
# the axis begins at a room's temperature and ends above the limit
ROOM_CELSIUS, HEADROOM_KELVIN = 20.0, 8.0
HZ_PER_GHZ = 1e9


def draw_heat(judged: Judged, process: Process | None = None) -> Figure:
    """Return a panel each for temperatures, and for fans, clock and power where they are known."""
    del process
    series = judged.series
    trusted = [sensor for sensor in series.devices.sensors if sensor.is_trusted]
    fans = [sensor for sensor in trusted if sensor.quantity == "fan"]
    powers = [sensor for sensor in trusted if sensor.quantity in ("power", "energy")]
    clock = series.machine.mean_clock_hz
    below = sum((bool(fans), clock is not None, bool(powers)))
    figure, axes = canvas([2.6, *[1.1] * below])
    rest = iter(axes[1:])
    _draw_temperatures(axes[0], series, trusted)
    if fans:
        _draw_lines(next(rest), series, fans, "Fans", "turns/min")
    if clock is not None:
        panel = next(rest)
        draw_clock(panel, series, clock)
        title(panel, "Clock, mean of all CPUs")
        legend(panel)
    if powers:
        _draw_lines(next(rest), series, powers, "Power", "W")
    finish(axes, judged)
    return figure


def draw_processor_heat(panel: Axes, series: Series, chosen: ProcessorSensor) -> None:
    """Draw the processor's temperature from that of a room upwards, with its limit as a line."""
    panel.plot(
        series.line.at_s,
        chosen.level.values,
        color=INK,
        linewidth=2.0,
        label=plain_label(chosen.name),
    )
    if chosen.critical:
        panel.axhline(
            chosen.critical,
            color=COLOURS[1],
            linestyle=":",
            linewidth=1.6,
            label=f"critical, {chosen.critical:.0f} °C",
        )
    panel.set_ylabel("°C")
    most = max(chosen.critical or 0.0, chosen.level.greatest() or 0.0)
    panel.set_ylim(min(ROOM_CELSIUS, chosen.level.least() or ROOM_CELSIUS), most + HEADROOM_KELVIN)


def draw_clock(panel: Axes, series: Series, mean_hz: Level) -> None:
    """Draw the mean clock from zero upwards, with the greatest possible as a line."""
    panel.plot(series.line.at_s, mean_hz.values / HZ_PER_GHZ, color=INK, label="clock")
    most_ghz = (series.machine.most_clock_hz or 0.0) / HZ_PER_GHZ
    if most_ghz:
        panel.axhline(most_ghz, color=COLOURS[2], linestyle="--", label="greatest possible")
    panel.set_ylim(0, max(most_ghz, (mean_hz.greatest() or 0.0) / HZ_PER_GHZ) * 1.1)
    panel.set_ylabel("GHz")


def _draw_temperatures(panel: Axes, series: Series, trusted: list[SensorSeries]) -> None:
    chosen = series.processor_sensor
    shown = [
        sensor
        for sensor in trusted
        if sensor.quantity == "temperature" and not (chosen and sensor.name == chosen.name)
    ]
    panel.set_ylabel("°C")
    title(panel, "Temperatures")
    if not shown and chosen is None:
        nothing_to_draw(panel, "no temperature sensor is published")
        return
    if chosen is not None:
        draw_processor_heat(panel, series, chosen)
    for sensor, (colour, dash, _) in zip(shown[:LINES_MOST], styles(), strict=False):
        panel.plot(
            series.line.at_s,
            sensor.level.values,
            color=colour,
            linestyle=dash,
            linewidth=1.1,
            label=plain_label(sensor.name),
        )
    if chosen is None:
        panel.set_ylim(bottom=min(ROOM_CELSIUS, panel.get_ylim()[0]))
    legend(panel)


def _draw_lines(
    panel: Axes, series: Series, sensors: list[SensorSeries], name: str, unit: str
) -> None:
    for sensor, (colour, dash, _) in zip(sensors[:LINES_MOST], styles(), strict=False):
        shown, label = sensor.shown, plain_label(sensor.name)
        if isinstance(shown, Rate):
            step_line(panel, shown, color=colour, linestyle=dash, label=label)
        else:
            panel.plot(series.line.at_s, shown.values, color=colour, linestyle=dash, label=label)
    panel.set(ylim=(0, None), ylabel=unit)
    title(panel, name)
    legend(panel)
