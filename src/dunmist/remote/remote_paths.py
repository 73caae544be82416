"""The whole paths that the collector reads on a remote computer, by when it reads them.

The shell gets them as patterns, and what arrives is held against the same ones: everything else is
skipped, as no reader wants it and the sender chose its name. ``*`` is a part of one component,
``#`` a number, ``{a,b}`` either word.
"""

import itertools
import re
from functools import cache

CPU = "/sys/devices/system/cpu/cpu#"
HWMON = "/sys/class/hwmon/hwmon#"
ZONE = "/sys/class/thermal/thermal_zone#"
CARD = "/sys/class/drm/card#/device"
GROUP = "/sys/fs/cgroup"
LIMITED_GROUP_FILES = "cpu.{max,stat,pressure}"

# by the name of the variable that the shell has them in
LISTS = {
    "ONCE": (
        "/proc/cpuinfo",
        "/proc/sys/kernel/{hostname,osrelease,pid_max,threads-max,sched_autogroup_enabled}",
        "/proc/sys/kernel/{task_delayacct,random/boot_id}",
        "/proc/net/{route,ipv6_route,wireless}",
        "/etc/{passwd,group,os-release}",
        "/sys/devices/system/cpu/offline",
        f"{CPU}/cpu_capacity",
        f"{CPU}/topology/{{core_id,physical_package_id}}",
        f"{CPU}/cpufreq/{{cpuinfo_max_freq,cpuinfo_min_freq,scaling_max_freq}}",
        f"{CPU}/cpufreq/{{base_frequency,scaling_governor}}",
        "/sys/block/*/{size,removable}",
        "/sys/block/*/queue/{rotational,scheduler,nr_requests}",
        "/sys/block/*/device/{model,queue_depth}",
        "/sys/block/*/*/partition",
        "/sys/block/*/dm/name",
        "/sys/class/net/*/{type,mtu,operstate,speed,duplex}",
        f"{HWMON}/name",
        f"{HWMON}/*_{{label,crit,max,min,emergency,fault}}",
        f"{ZONE}/type",
        f"{ZONE}/trip_point_#_{{type,temp}}",
        "/sys/class/powercap/*/{name,max_energy_range_uj}",
        f"{CARD}/{{vendor,device,mem_info_vram_total}}",
        f"{GROUP}/cgroup.controllers",
        "/sys/class/power_supply/*/uevent",
    ),
    "EACH_TICK": (
        "/proc/{uptime,stat,loadavg,meminfo,vmstat,diskstats}",
        "/proc/pressure/{cpu,memory,io,irq}",
        "/proc/net/{dev,snmp,netstat}",
        f"{CPU}/cpufreq/scaling_cur_freq",
        f"{CPU}/thermal_throttle/{{core,package}}_throttle_count",
        f"{ZONE}/temp",
        "/sys/class/powercap/*/energy_uj",
        f"{CARD}/{{gpu_busy_percent,mem_info_vram_used}}",
        "/sys/block/zram*/mm_stat",
    ),
    "OF_PROCESSES": ("/proc/#/{stat,schedstat,io}",),
    "SIZES": ("/proc/#/statm",),
    "SELDOM": (
        "/proc/net/{tcp,tcp6,udp,udp6,unix}",
        "/proc/{interrupts,locks,swaps}",
        "/proc/self/mountinfo",
        "/proc/#/wchan",
        "/sys/class/power_supply/*/uevent",
    ),
    "SELDOM_LINES": ("/proc/#/status",),
    "AT_END": ("/proc/net/arp",),
    "LOGS": ("/var/log/{dpkg.log,pacman.log,dnf.rpm.log,zypp/history}",),
    "ORDERS": ("/var/log/apt/history.log",),
}
# what the shell builds the names of: of new processes, of threads, of sensors that sleep on no
# drive, of groups with a quota, and the rotated logs
BUILT = (
    "/proc/#/{limits,cgroup,loginuid}",
    "/proc/#/task/#/{comm,schedstat}",
    f"{HWMON}/*_input",
    # the deepest first: a group may be called 'cpu.max:x'
    f"{GROUP}/*/*/*/*/{LIMITED_GROUP_FILES}",
    f"{GROUP}/*/*/{LIMITED_GROUP_FILES}",
    f"{GROUP}/*/{LIMITED_GROUP_FILES}",
    "/var/log/{dpkg.log,pacman.log,dnf.rpm.log,zypp/history}.1",
)
# fields of a capture that no shell can bring: netlink, tracing, the service manager, drives that
# are asked, databases, and what is looked up file by file while a program runs
NOT_BY_SHELL = {
    "tick": ("after_ms", "code", "calls", "complaints", "exits", "files", "file_totals"),
    "survey": (
        *("sessions", "units", "autostart", "packages", "boot", "drives", "rollups"),
        *("time_sync", "pending", "updates", "memory_events", "unix_pairs", "log_ends"),
        "terminals",
        *("replaced", "deleted_files", "radio", "functions", "asked"),
    ),
    "inventory": ("starts", "crashes", "missing_drivers", "firmware"),
}
_EXPRESSIONS = {
    "*": r"(?!\.{1,2}/)[^/\s\0]{1,255}",
    "#": r"\d{1,9}",
    "{": "(?:",
    "}": ")",
    ",": "|",
}


@cache
def file_line() -> re.Pattern[bytes]:
    """Return the pattern of a line ``PATH:CONTENT`` with an accepted path."""
    paths = "|".join(map(_expression, itertools.chain(*LISTS.values(), BUILT)))
    return re.compile(f"({paths}):(.*)".encode(), re.S)


def shell_lists() -> str:
    """Return assignments of a POSIX shell, one a list, of patterns that it looks for itself."""
    return "".join(
        f"{name}='{' '.join(word for path in paths for word in _shell_words(path))}'\n"
        for name, paths in LISTS.items()
    )


def _expression(path: str) -> str:
    parts = re.split(r"([*#{},])", path)
    return "".join(_EXPRESSIONS.get(part) or re.escape(part) for part in parts)


def _shell_words(path: str) -> list[str]:
    choices = [part.split(",") for part in re.split(r"[{}]", path.replace("#", "[0-9]*"))]
    return list(map("".join, itertools.product(*choices)))
