"""Small trees of sysfs files as the drivers write them."""

from pathlib import Path


def plant(root, files):
    """Write files below a root; a value of None is a directory, ``-> x`` a link."""
    for name, text in files.items():
        path = Path(root) / name
        path.parent.mkdir(parents=True, exist_ok=True)
        if text is None:
            path.mkdir(exist_ok=True)
        elif text.startswith("-> "):
            path.symlink_to(text[3:])
        else:
            path.write_text(f"{text}\n")


def chip(number, name, **channels):
    """Return the files of one hwmon chip: ``temp1={"input": 45000, "label": "Tctl"}``."""
    base = f"sys/class/hwmon/hwmon{number}"
    files = {f"{base}/name": name, f"{base}/device": f"-> ../../devices/{name}.{number}"}
    for channel, parts in channels.items():
        files |= {f"{base}/{channel}_{part}": str(value) for part, value in parts.items()}
    return files


PACKAGE = chip(
    0,
    "coretemp",
    temp1={"input": 71000, "label": "Package id 0", "max": 84000, "crit": 100000, "crit_alarm": 0},
    temp2={"input": 69000, "label": "Core 0", "crit": 100000},
)
CONTROL_VALUE = chip(
    1, "k10temp", temp1={"input": 87500, "label": "Tctl"}, temp2={"input": 60500, "label": "Tdie"}
)
DIES = chip(
    1,
    "k10temp",
    temp1={"input": 80000, "label": "Tctl"},
    temp3={"input": 61000, "label": "Tccd1"},
    temp4={"input": 66000, "label": "Tccd2"},
)
BOARD = chip(
    2,
    "nct6775",
    temp1={"input": 127000, "label": "AUXTIN0"},
    temp2={"input": 41000, "label": "SYSTIN"},
    temp3={"input": 0, "label": "AUXTIN1"},
    temp4={"input": 55000, "fault": 1},
    fan1={"input": 1180},
    fan2={"input": 0, "alarm": 1},
    in0={"input": 1056, "label": "Vcore"},
)
ZONE = {
    "sys/class/thermal/thermal_zone0/type": "acpitz",
    "sys/class/thermal/thermal_zone0/temp": "47000",
    "sys/class/thermal/thermal_zone0/trip_point_0_type": "critical",
    "sys/class/thermal/thermal_zone0/trip_point_0_temp": "105000",
    "sys/class/thermal/thermal_zone0/trip_point_1_type": "active",
    "sys/class/thermal/thermal_zone0/trip_point_1_temp": "-274000",
}
ENERGY = {
    "sys/class/powercap/intel-rapl:0/name": "package-0",
    "sys/class/powercap/intel-rapl:0/energy_uj": "262143000000",
    "sys/class/powercap/intel-rapl:0/max_energy_range_uj": "262143328850",
}
DISKS = {
    "sys/block/sda/size": "1000000",
    "sys/block/sda/removable": "0",
    "sys/block/sda/queue/rotational": "1",
    "sys/block/sda/queue/scheduler": "none [mq-deadline]",
    "sys/block/sda/queue/nr_requests": "64",
    "sys/block/sda/device/model": "Guillemot Spinner",
    "sys/block/sda/sda1/partition": "1",
    "sys/block/dm-0/size": "990000",
    "sys/block/dm-0/queue/rotational": "1",
    "sys/block/dm-0/removable": "0",
    "sys/block/dm-0/dm/name": "ledge",
    "sys/block/dm-0/slaves/sda1": "",
    "sys/block/loop0/size": "8",
    "sys/block/sr0/size": "2048",
}
CARD = {
    "sys/class/drm/card0/device/vendor": "0x1002",
    "sys/class/drm/card0/device/device": "0x73bf",
    "sys/class/drm/card0/device/driver": "-> ../../bus/pci/drivers/amdgpu",
    "sys/class/drm/card0/device/gpu_busy_percent": "83",
    "sys/class/drm/card0/device/mem_info_vram_total": "8589934592",
    "sys/class/drm/card0/device/mem_info_vram_used": "1073741824",
    "sys/class/drm/card0/device/pp_dpm_sclk": "0: 500Mhz\n1: 2100Mhz *",
    "sys/class/drm/card0-DP-1/status": "connected",
}
