"""List the whole paths that a remote computer may send.

They are the ones that ``collector.sh`` reads. ``*`` is one component, ``#`` a number, ``{a,b}``
either word. Everything else is skipped: no reader wants it, and the sender chose its name.
"""

import re
from functools import cache

CPU = "/sys/devices/system/cpu/cpu#"
HWMON = "/sys/class/hwmon/hwmon#"
GROUP = "/sys/fs/cgroup"
LIMITED_GROUP_FILES = "cpu.{max,stat,pressure}"

PATHS = (
    "/proc/{cpuinfo,uptime,stat,loadavg,meminfo,vmstat,diskstats,interrupts,locks,swaps}",
    "/proc/self/mountinfo",
    "/proc/sys/kernel/{hostname,osrelease,pid_max,threads-max,sched_autogroup_enabled}",
    "/proc/sys/kernel/{task_delayacct,random/boot_id}",
    "/proc/pressure/{cpu,memory,io,irq}",
    "/proc/net/{dev,snmp,netstat,route,ipv6_route,arp,wireless,tcp,tcp6,udp,udp6,unix}",
    "/proc/#/{stat,statm,status,schedstat,io,limits,cgroup,loginuid,wchan}",
    "/proc/#/task/#/{comm,schedstat}",
    "/etc/{passwd,group,os-release}",
    "/var/log/{dpkg.log,dpkg.log.1,pacman.log,pacman.log.1,dnf.rpm.log,dnf.rpm.log.1}",
    "/var/log/{zypp/history,zypp/history.1,apt/history.log}",
    "/sys/devices/system/cpu/offline",
    f"{CPU}/cpu_capacity",
    f"{CPU}/topology/{{core_id,physical_package_id}}",
    f"{CPU}/cpufreq/{{cpuinfo_max_freq,cpuinfo_min_freq,scaling_max_freq,scaling_cur_freq}}",
    f"{CPU}/cpufreq/{{base_frequency,scaling_governor}}",
    f"{CPU}/thermal_throttle/{{core,package}}_throttle_count",
    "/sys/block/*/{size,removable,mm_stat}",
    "/sys/block/*/queue/{rotational,scheduler,nr_requests}",
    "/sys/block/*/device/{model,queue_depth}",
    "/sys/block/*/*/partition",
    "/sys/block/*/dm/name",
    "/sys/class/net/*/{type,mtu,operstate,speed,duplex}",
    f"{HWMON}/name",
    f"{HWMON}/{{temp,fan,in,curr,power,energy,humidity}}#_"
    "{input,label,crit,max,min,emergency,fault}",
    "/sys/class/thermal/thermal_zone#/{type,temp}",
    "/sys/class/thermal/thermal_zone#/trip_point_#_{type,temp}",
    "/sys/class/powercap/*/{name,energy_uj,max_energy_range_uj}",
    "/sys/class/drm/card#/device/{vendor,device,gpu_busy_percent}",
    "/sys/class/drm/card#/device/mem_info_vram_{total,used}",
    "/sys/class/power_supply/*/uevent",
    f"{GROUP}/cgroup.controllers",
    # the deepest first: a group may be called 'cpu.max:x'
    f"{GROUP}/*/*/*/*/{LIMITED_GROUP_FILES}",
    f"{GROUP}/*/*/{LIMITED_GROUP_FILES}",
    f"{GROUP}/*/{LIMITED_GROUP_FILES}",
)
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
    paths = "|".join(map(_expression, PATHS))
    return re.compile(f"({paths}):(.*)".encode(), re.S)


def _expression(path: str) -> str:
    parts = re.split(r"([*#{},])", path)
    return "".join(_EXPRESSIONS.get(part) or re.escape(part) for part in parts)
