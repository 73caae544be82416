"""Disks, links, sensors, battery and firmware of a model computer, in the kernel's formats.

Takes the model, gives the text (or bytes) of each file by its name below the root. Sources: those
of the readers in ``dunmist.computer``.
"""

import struct
from collections.abc import Iterator

from dunmist.simulation.model import MIB, ModelComputer
from dunmist.simulation.scenario import DiskSpec, LinkSpec, SensorSpec

SECTOR_BYTES = 512
RAW_PER_UNIT = {"temp": 1000, "fan": 1, "in": 1000, "power": 1_000_000}
REQUEST_BYTES = 128 << 10


def still_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the files that do not change."""
    for disk in model.scenario.hardware.disks:
        yield from _disk_files(disk)
    for link in model.scenario.hardware.links:
        yield from _link_files(link)
    yield "proc/net/route", _routes(model)
    for number, sensor in enumerate(model.scenario.hardware.sensors):
        yield from _sensor_files(model, number, sensor)


def moving_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the files that are written anew at every moment."""
    hardware = model.scenario.hardware
    yield (
        "proc/diskstats",
        "".join(_diskstats_line(model, place, disk) for place, disk in enumerate(hardware.disks)),
    )
    yield "proc/net/dev", _net_dev(model)
    for number, sensor in enumerate(hardware.sensors):
        value = sensor.at_rest + sensor.at_load * model.load_by_sensor[number]
        raw = round(value * RAW_PER_UNIT[_kind(sensor)])
        yield f"{_sensor_directory(model, sensor)}/{sensor.channel}_input", f"{raw}\n"
    if hardware.battery:
        yield "sys/class/power_supply/BAT0/uevent", _battery(model)
    yield "proc/interrupts", _interrupts(model)


def _kind(sensor: SensorSpec) -> str:
    return sensor.channel.rstrip("0123456789")


def _sensor_directory(model: ModelComputer, sensor: SensorSpec) -> str:
    chips = list(dict.fromkeys(one.chip for one in model.scenario.hardware.sensors))
    return f"sys/class/hwmon/hwmon{chips.index(sensor.chip)}"


def _sensor_files(
    model: ModelComputer, number: int, sensor: SensorSpec
) -> Iterator[tuple[str, str]]:
    directory = _sensor_directory(model, sensor)
    sensors = model.scenario.hardware.sensors
    if all(one.chip != sensor.chip for one in sensors[:number]):
        yield f"{directory}/name", f"{sensor.chip}\n"
    if sensor.label:
        yield f"{directory}/{sensor.channel}_label", f"{sensor.label}\n"
    if sensor.critical is not None:
        raw = round(sensor.critical * RAW_PER_UNIT[_kind(sensor)])
        yield f"{directory}/{sensor.channel}_crit", f"{raw}\n"


def _disk_files(disk: DiskSpec) -> Iterator[tuple[str, str]]:
    directory = f"sys/block/{disk.name}"
    sectors = disk.gib * 1024 * MIB // SECTOR_BYTES
    yield f"{directory}/size", f"{sectors}\n"
    yield f"{directory}/removable", "0\n"
    yield f"{directory}/queue/rotational", f"{int(disk.spins)}\n"
    yield f"{directory}/queue/scheduler", "[mq-deadline] kyber bfq none\n"
    yield f"{directory}/queue/nr_requests", "64\n"
    yield f"{directory}/device/model", f"{disk.model:<16}\n"
    yield f"{directory}/{disk.name}1/partition", "1\n"


def _diskstats_line(model: ModelComputer, place: int, disk: DiskSpec) -> str:
    # all programs work on the first disk
    moved = place == 0
    read = sum(one.read_bytes for one in model.processes) if moved else 0.0
    written = sum(one.write_bytes for one in model.processes) if moved else 0.0
    busy_ms = round(model.disk_busy_s * 1000) if moved else 0
    reads, writes = (round(amount / REQUEST_BYTES) for amount in (read, written))
    figures = [
        9000 + reads, 0, round(read / SECTOR_BYTES) + 700_000, busy_ms // 2, 4000 + writes, 0,
        round(written / SECTOR_BYTES) + 300_000, busy_ms // 2, 0, busy_ms, busy_ms, 0, 0, 0, 0,
        200, 10,
    ]  # fmt: skip
    return f"   8 {16 * place:>7} {disk.name} {' '.join(map(str, figures))}\n"


def _link_files(link: LinkSpec) -> Iterator[tuple[str, str]]:
    directory = f"sys/class/net/{link.name}"
    yield f"{directory}/type", "772\n" if link.name == "lo" else "1\n"
    yield f"{directory}/operstate", "unknown\n" if link.name == "lo" else _state(link)
    yield f"{directory}/mtu", "65536\n" if link.name == "lo" else "1500\n"
    if link.mbit_per_s and link.up:
        yield f"{directory}/speed", f"{link.mbit_per_s}\n"
        yield f"{directory}/duplex", "full\n"
    if link.name != "lo":
        yield f"{directory}/device/uevent", "\n"
    if link.wireless:
        yield f"{directory}/wireless/uevent", "\n"


def _state(link: LinkSpec) -> str:
    return "up\n" if link.up else "down\n"


def _routes(model: ModelComputer) -> str:
    head = "Iface\tDestination\tGateway \tFlags\tRefCnt\tUse\tMetric\tMask\t\tMTU\tWindow\tIRTT\n"
    rows = [
        f"{link.name}\t00000000\t010010AC\t0003\t0\t0\t100\t00000000\t0\t0\t0\n"
        for link in model.scenario.hardware.links
        if link.is_default
    ]
    return head + "".join(rows)


def _net_dev(model: ModelComputer) -> str:
    lines = [
        "Inter-|   Receive                                                |  Transmit\n",
        " face |bytes    packets errs drop fifo frame compressed multicast|"
        "bytes    packets errs drop fifo colls carrier compressed\n",
    ]
    for link in model.scenario.hardware.links:
        packets = round(40 * model.now_s) if link.is_default else 0
        received, sent = packets * 620, packets * 210
        lines.append(
            f"{link.name:>6}: {received + 51_000_000} {packets + 80_000} 0 0 0 0 0 0 "
            f"{sent + 4_000_000} {packets + 30_000} 0 0 0 0 0 0\n"
        )
    return "".join(lines)


def _battery(model: ModelComputer) -> str:
    battery = model.scenario.hardware.battery
    assert battery is not None
    left_wh = battery.full_wh * battery.charged_share - battery.drain_w * model.now_s / 3600
    words = {
        "NAME": "BAT0", "TYPE": "Battery", "STATUS": "Discharging", "PRESENT": 1,
        "TECHNOLOGY": "Li-ion", "CYCLE_COUNT": battery.cycles, "VOLTAGE_NOW": 11_400_000,
        "POWER_NOW": round(battery.drain_w * 1e6),
        "ENERGY_FULL_DESIGN": round(battery.design_wh * 1e6),
        "ENERGY_FULL": round(battery.full_wh * 1e6), "ENERGY_NOW": round(left_wh * 1e6),
        "CAPACITY": round(100 * left_wh / battery.full_wh), "MODEL_NAME": "SW-57",
        "MANUFACTURER": "Skerrow Workshop",
    }  # fmt: skip
    return "".join(f"POWER_SUPPLY_{word}={value}\n" for word, value in words.items())


def _interrupts(model: ModelComputer) -> str:
    count = len(model.processors)
    ticks = [round(250 * (model.now_s + 400))] * count
    disk = [round(model.disk_busy_s * 900)] + [0] * (count - 1)
    lines = ["     " + "".join(f"{f'CPU{number}':>11}" for number in range(count)) + "\n"]
    for name, counts, about in (
        ("44", disk, "  IR-PCI-MSI    1-edge      disk0"),
        ("LOC", ticks, "  Local timer interrupts"),
    ):
        lines.append(f"{name:>4}:{''.join(f'{one:>11}' for one in counts)}{about}\n")
    return "".join(lines)


def smbios_table(model: ModelComputer) -> bytes:
    """Return the firmware's structure table (DSP0134): types 0, 1, 2, 16, 17 and the end."""
    hardware = model.scenario.hardware
    slots = hardware.modules
    parts = [
        _structure(0, struct.pack("<BBHBB", 1, 2, 0xF000, 3, 0) + bytes(8), "Skerrow Workshop",
                   "1.14", "03/02/2029"),
        _structure(1, struct.pack("<BBBB", 1, 2, 0, 0) + bytes(19), hardware.maker,
                   hardware.system),
        _structure(2, struct.pack("<BBBB", 1, 2, 0, 0), hardware.maker, f"{hardware.system} board"),
        _structure(16, struct.pack("<BBBIHH", 3, 3, 3, 0x80000000, 0xFFFE, len(slots))
                   + struct.pack("<Q", 64 << 30)),
    ]  # fmt: skip
    for one in slots:
        size = min(one.mib, 0x7FFF)
        body = struct.pack(
            "<HHHHHBBBBBHHBBBBBIHHHH", 16, 0xFFFE, 64, 64, size, 9, 0, 1, 2,
            26 if one.mib else 2, 0x80,
            one.rated_mtps if one.mib else 0, 3 if one.mib else 0, 0, 0, 4 if one.mib else 0, 1,
            one.mib if size == 0x7FFF else 0, one.configured_mtps if one.mib else 0, 1200, 1200,
            1200,
        )  # fmt: skip
        parts.append(_structure(17, body, one.slot, "channel", "Skerrow Workshop", "SW-DIMM"))
    parts.append(_structure(127, b""))
    return b"".join(parts)


def _structure(kind: int, body: bytes, *texts: str) -> bytes:
    # handles are only told apart by their numbers: the array's is its type
    head = struct.pack("<BBH", kind, 4 + len(body), kind)
    return head + body + (b"".join(text.encode() + b"\0" for text in texts) or b"\0") + b"\0"
