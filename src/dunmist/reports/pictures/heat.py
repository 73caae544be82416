"""Temperatures, fans, clock and power on one time axis."""

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from dunmist.advice import Judged
from dunmist.reports.pictures.style import (
    COLOURS,
    INK,
    canvas,
    finish,
    legend,
    nothing_to_draw,
    plain_label,
    step_line,
    styles,
    title,
)
from dunmist.series import Process, Rate, SensorSeries, Series

LINES_MOST = 8
ROOM_CELSIUS = 20.0
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
        panel.plot(series.line.at_s, clock.values / HZ_PER_GHZ, color=INK)
        panel.set(ylim=(0, None), ylabel="GHz")
        title(panel, "Clock, mean of all processors")
    if powers:
        _draw_lines(next(rest), series, powers, "Power", "W")
    finish(axes, series)
    return figure


def _draw_temperatures(panel: Axes, series: Series, trusted: list[SensorSeries]) -> None:
    chosen = series.processor_sensor
    shown = [sensor for sensor in trusted if sensor.quantity == "temperature"]
    shown.sort(key=lambda one: not (chosen and one.name == chosen.name))
    panel.set_ylabel("°C")
    title(panel, "Temperatures")
    if not shown:
        nothing_to_draw(panel, "no temperature sensor is published")
        return
    for sensor, (colour, dash, _) in zip(shown[:LINES_MOST], styles(), strict=False):
        is_chosen = chosen is not None and sensor.name == chosen.name
        panel.plot(series.line.at_s, sensor.level.values, color=INK if is_chosen else colour,
                   linestyle="-" if is_chosen else dash, linewidth=2.0 if is_chosen else 1.1,
                   label=plain_label(sensor.name))  # fmt: skip
    if chosen and chosen.critical:
        panel.axhline(chosen.critical, color=COLOURS[1], linestyle=":", linewidth=1.6,
                      label="critical for the processor")  # fmt: skip
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
