"""Topic ``machine``: what the computer is, its memory modules, and how it was sampled."""

import numpy as np
import pandas as pd

from dunmist.computer import Firmware
from dunmist.series.load import Series


def machine_table(series: Series) -> pd.DataFrame:
    """Return what the computer is and how it was sampled, one fact a row."""
    header, machine = series.header, series.machine
    about = header.machine
    packages = {one.package for one in about.processors if one.package is not None}
    cores = {(one.package, one.core) for one in about.processors if one.core is not None}
    own_s = float(machine.own_cpu_s[-1] - machine.own_cpu_s[0])
    inventory = header.inventory
    firmware = inventory.firmware or Firmware()
    survey = series.last_survey
    sync = survey.time_sync if survey else None
    facts = {
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
        "nominal_clock_hz": about.nominal_mhz * 1e6 if about.nominal_mhz else None,
        "max_clock_hz": max((one.max_khz or 0 for one in about.processors), default=0) * 1e3
        or None,
        "offline_processors": " ".join(map(str, inventory.offline_processors)) or None,
        "core_kinds": len({one.capacity or one.max_khz for one in about.processors}),
        "memory_bytes": about.memory_bytes,
        "memory_modules_bytes": sum(one.size_bytes or 0 for one in firmware.modules) or None,
        "memory_slots": firmware.slots,
        "memory_slots_empty": _empty_slots(firmware),
        "boot_time_s": about.boot_time_s,
        "clock_synchronised": sync.synchronised if sync else None,
        "uptime_s": None if np.isnan(machine.uptime_s) else machine.uptime_s,
        "graphics": " ".join(one.driver or one.name for one in inventory.cards) or None,
        "note": header.note,
        "started": header.started,
        "duration_s": series.duration_s,
        "ticks": series.ticks,
        "ticks_missed": series.missed,
        "ticks_late": series.late,
        "privileged": header.privileged,
        "own_cores": own_s / series.duration_s if header.live else None,
        "own_whole_cpu_s": series.footer.own_cpu_s if series.footer and header.live else None,
        "own_rss_bytes": float(machine.own_rss_bytes[-1]) if header.live else None,
    }
    frame = pd.DataFrame({"fact": list(facts), "value": list(facts.values())}, dtype=object)
    return frame


def module_table(series: Series) -> pd.DataFrame:
    """Return one row for each memory slot that the firmware lists."""
    firmware = series.header.inventory.firmware or Firmware()
    rows = [
        {
            "slot": one.slot,
            "bank": one.bank,
            "size_bytes": one.size_bytes,
            "kind": one.kind,
            "form_factor": one.form_factor,
            "rated_mtps": one.rated_mtps,
            "configured_mtps": one.configured_mtps,
            "maker": one.maker,
            "part": one.part,
        }
        for one in firmware.modules
    ]
    return pd.DataFrame(rows)


def _empty_slots(firmware: Firmware) -> int | None:
    if not firmware.modules:
        return None
    return sum(one.size_bytes == 0 for one in firmware.modules)
