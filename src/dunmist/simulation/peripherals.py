"""Disks, links, sensors, battery and firmware of a model computer, in the kernel's formats.

Takes the model, gives the text (or bytes) of each file by its name below the root. Sources: those
of the readers in ``dunmist.computer``.
"""

import struct
from collections.abc import Iterator

from dunmist.simulation.disks import Disk
from dunmist.simulation.model import ModelComputer
from dunmist.simulation.paging import MIB
from dunmist.simulation.scenario import DiskSpec, LinkSpec, SensorSpec

SECTOR_BYTES = 512
GATEWAY_ADDRESS = "02:00:5e:10:00:01"
RAW_PER_UNIT = {"temp": 1000, "fan": 1, "in": 1000, "power": 1_000_000}


def still_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the files that do not change."""
    hardware = model.scenario.hardware
    for disk in hardware.disks:
        yield from _disk_files(disk)
    for link in hardware.links:
        yield from _link_files(link)
    yield "proc/net/route", _routes(model)
    yield "proc/net/arp", _neighbours(model)
    yield "proc/net/wireless", _signals(model)
    for number, sensor in enumerate(hardware.sensors):
        yield from _sensor_files(model, number, sensor)
    if hardware.graphics:
        yield "sys/class/drm/card0/device/vendor", "0x1f2e\n"
        yield "sys/class/drm/card0/device/device", "0x0042\n"
        yield "sys/class/drm/card0/device/mem_info_vram_total", f"{4096 * MIB}\n"


def moving_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the files that are written again at every tick."""
    hardware = model.scenario.hardware
    yield (
        "proc/diskstats",
        "".join(_diskstats_line(index, disk) for index, disk in enumerate(model.disks)),
    )
    yield "proc/net/dev", _net_dev(model)
    if model.memory.compressed:
        yield "sys/block/zram0/mm_stat", _compressed(model)
    for sensor in hardware.sensors:
        raw = round(_reading(model, sensor) * RAW_PER_UNIT[_kind(sensor)])
        yield f"{_sensor_directory(model, sensor)}/{sensor.channel}_input", f"{raw}\n"
    if hardware.battery:
        yield "sys/class/power_supply/BAT0/uevent", _battery(model)
        is_online = int(hardware.battery.charger_w > 0)
        yield (
            "sys/class/power_supply/AC/uevent",
            (f"POWER_SUPPLY_NAME=AC\nPOWER_SUPPLY_TYPE=Mains\nPOWER_SUPPLY_ONLINE={is_online}\n"),
        )
    if hardware.graphics:
        busy = round(100 * model.graphics_used)
        yield "sys/class/drm/card0/device/gpu_busy_percent", f"{busy}\n"
        yield "sys/class/drm/card0/device/mem_info_vram_used", f"{(300 + 30 * busy) * MIB}\n"
    per_package = max(1, len(model.processors) // len(model.packages))
    for number, processor in enumerate(model.processors):
        directory = f"sys/devices/system/cpu/cpu{number}"
        yield f"{directory}/cpufreq/scaling_cur_freq", f"{processor.khz}\n"
        throttles = model.packages[min(number // per_package, len(model.packages) - 1)].throttles
        for part in ("core", "package"):
            yield f"{directory}/thermal_throttle/{part}_throttle_count", f"{throttles}\n"


def _compressed(model: ModelComputer) -> str:
    """Return ``mm_stat`` (Documentation/admin-guide/blockdev/zram.rst)."""
    held = round(model.memory.compressed_mib * MIB)
    return f"{round(model.memory.swapped_mib * MIB)} {held} {held} 0 {held} 0 0 0 0\n"


def _reading(model: ModelComputer, sensor: SensorSpec) -> float:
    package = model.packages[0]
    follows = {"package": package.celsius, "fan": package.fan_rpm, "power": package.power_w,
               "nothing": 0.0}
    return follows[sensor.follows] + sensor.offset


def _kind(sensor: SensorSpec) -> str:
    return sensor.channel.rstrip("0123456789")


def _sensor_directory(model: ModelComputer, sensor: SensorSpec) -> str:
    chips = list(dict.fromkeys(sensor.chip for sensor in model.scenario.hardware.sensors))
    return f"sys/class/hwmon/hwmon{chips.index(sensor.chip)}"


def device_links(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the links from disks and sensors to the device that is behind both."""
    hardware = model.scenario.hardware
    for disk in hardware.disks:
        if disk.device:
            yield f"sys/block/{disk.name}/device", f"../../../{disk.device}"
    for sensor in hardware.sensors:
        if sensor.device:
            yield f"{_sensor_directory(model, sensor)}/device", f"../../../{sensor.device}"


def _sensor_files(
    model: ModelComputer, number: int, sensor: SensorSpec
) -> Iterator[tuple[str, str]]:
    directory = _sensor_directory(model, sensor)
    sensors = model.scenario.hardware.sensors
    if all(earlier.chip != sensor.chip for earlier in sensors[:number]):
        yield f"{directory}/name", f"{sensor.chip}\n"
    if sensor.label:
        yield f"{directory}/{sensor.channel}_label", f"{sensor.label}\n"
    for suffix, limit in (("crit", sensor.critical), ("max", sensor.high)):
        if limit is not None:
            raw = round(limit * RAW_PER_UNIT[_kind(sensor)])
            yield f"{directory}/{sensor.channel}_{suffix}", f"{raw}\n"


def _disk_files(disk: DiskSpec) -> Iterator[tuple[str, str]]:
    directory = f"sys/block/{disk.name}"
    sectors = disk.gib * 1024 * MIB // SECTOR_BYTES
    yield f"{directory}/size", f"{sectors}\n"
    yield f"{directory}/removable", "0\n"
    yield f"{directory}/queue/rotational", f"{int(disk.spins)}\n"
    yield f"{directory}/queue/scheduler", "[mq-deadline] kyber bfq none\n"
    yield f"{directory}/queue/nr_requests", "64\n"
    if not disk.device:
        yield f"{directory}/device/model", f"{disk.model:<16}\n"
    yield f"{directory}/{disk.name}1/partition", "1\n"


def _diskstats_line(index: int, disk: Disk) -> str:
    figures = [
        disk.reads, 0, disk.read_bytes / SECTOR_BYTES, disk.read_s * 1e3, disk.writes, 0,
        disk.written_bytes / SECTOR_BYTES, disk.write_s * 1e3, disk.in_flight, disk.busy_s * 1e3,
        disk.queued_s * 1e3, 0, 0, 0, 0, 200, 10,
    ]
    numbers = " ".join(str(round(figure)) for figure in figures)
    return f"   8 {16 * index:>7} {disk.spec.name} {numbers}\n"


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


def _neighbours(model: ModelComputer) -> str:
    head = "IP address       HW type     Flags       HW address            Mask     Device\n"
    rows = []
    for link in model.scenario.hardware.links:
        flags, address = (0, "00:00:00:00:00:00") if link.gateway_silent else (2, GATEWAY_ADDRESS)
        if link.is_default:
            rows.append(f"172.16.0.1       0x1         0x{flags:x}         {address}     *        ")
            rows[-1] += f"{link.name}\n"
    return head + "".join(rows)


def _signals(model: ModelComputer) -> str:
    head = (
        "Inter-| sta-|   Quality        |   Discarded packets               | Missed | WE\n"
        " face | tus | link level noise |  nwid  crypt   frag  retry   misc | beacon | 22\n"
    )
    rows = [
        f"{link.name}: 0000   {110 + link.signal_dbm}.  {link.signal_dbm}.  -256        0      0"
        "      0      0      0        0\n"
        for link in model.scenario.hardware.links
        if link.signal_dbm is not None
    ]
    return head + "".join(rows)


def _net_dev(model: ModelComputer) -> str:
    lines = [
        "Inter-|   Receive                                                |  Transmit\n",
        " face |bytes    packets errs drop fifo frame compressed multicast|"
        "bytes    packets errs drop fifo colls carrier compressed\n",
    ]
    for link in model.links:
        received, sent = round(link.moved["received"]), round(link.moved["sent"])
        lines.append(
            f"{link.spec.name:>6}: {received} {received // 900} {round(link.errors)} 0 0 0 0 0 "
            f"{sent} {sent // 700} 0 0 0 0 0 0\n"
        )
    return "".join(lines)


def _battery(model: ModelComputer) -> str:
    battery = model.scenario.hardware.battery
    assert battery is not None
    left_wh = max(0.0, battery.full_wh * battery.charged_share - model.battery_used_wh)
    watts = battery.rest_w + sum(package.power_w for package in model.packages)
    watts = max(0.0, watts - battery.charger_w)
    words = {
        "NAME": "BAT0", "TYPE": "Battery", "STATUS": "Discharging", "PRESENT": 1,
        "TECHNOLOGY": "Li-ion", "CYCLE_COUNT": battery.cycles, "VOLTAGE_NOW": 11_400_000,
        "POWER_NOW": round(watts * 1e6), "ENERGY_FULL_DESIGN": round(battery.design_wh * 1e6),
        "ENERGY_FULL": round(battery.full_wh * 1e6), "ENERGY_NOW": round(left_wh * 1e6),
        "CAPACITY": round(100 * left_wh / battery.full_wh), "MODEL_NAME": "SW-57",
        "MANUFACTURER": "Skerrow Workshop",
    }
    return "".join(f"POWER_SUPPLY_{word}={value}\n" for word, value in words.items())


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
    ]
    for slot in slots:
        size = min(slot.mib, 0x7FFF)
        body = struct.pack(
            "<HHHHHBBBBBHHBBBBBIHHHH", 16, 0xFFFE, 64, 64, size, 9, 0, 1, 2,
            26 if slot.mib else 2, 0x80,
            slot.rated_mtps if slot.mib else 0, 3 if slot.mib else 0, 0, 0, 4 if slot.mib else 0, 1,
            slot.mib if size == 0x7FFF else 0, slot.configured_mtps if slot.mib else 0, 1200, 1200,
            1200,
        )
        parts.append(_structure(17, body, slot.slot, "channel", "Skerrow Workshop", "SW-DIMM"))
    parts.append(_structure(127, b""))
    return b"".join(parts)


def _structure(kind: int, body: bytes, *texts: str) -> bytes:
    # handles differ only by their numbers: the array's is its type
    head = struct.pack("<BBH", kind, 4 + len(body), kind)
    return head + body + (b"".join(text.encode() + b"\0" for text in texts) or b"\0") + b"\0"
