"""List every file that is read on a computer, by subject: nothing else is opened.

The readers name their own files; a test compares the files that a capture opens with this table.
The collector's script, the paths that are accepted from it and the list in docs/sources.md are
made from it. ``*`` is a part of one component, ``#`` a number, ``{a,b}`` either word, and ``**``
any path.
"""

import re
from typing import Literal, NamedTuple

# variable of the script that lists it; the script composes the names of those that are 'built', and
# sends those that are 'framed' in a form of their own
ShellList = Literal[
    "ONCE",
    "EACH_TICK",
    "OF_PROCESSES",
    "SIZES",
    "SELDOM",
    "SELDOM_LINES",
    "AT_END",
    "LOGS",
    "ORDERS",
    "built",
    "framed",
]
CPU = "/sys/devices/system/cpu/cpu#"
HWMON = "/sys/class/hwmon/hwmon#"
ZONE = "/sys/class/thermal/thermal_zone#"
CARD = "/sys/class/drm/card#/device"
GROUP = "/sys/fs/cgroup"
LIMITED = "cpu.{max,stat,pressure}"
UNITS = "{etc,run,usr/local/lib,usr/lib,lib}/systemd/system"
_EXPRESSIONS = {
    "**": r"[^\0]+",
    "*": r"(?!\.{1,2}/)[^/\s\0]{1,255}",
    "#": r"\d{1,9}",
    "{": "(?:",
    "}": ")",
    ",": "|",
}


class ReadPath(NamedTuple):
    """Files that tell of one subject."""

    tells: str
    paths: tuple[str, ...]
    by_shell: ShellList | None = None


READ_PATHS = (
    ReadPath("processors and virtual machines", ("/proc/cpuinfo",), "ONCE"),
    ReadPath(
        "the kernel, its name and its limits",
        (
            "/proc/sys/kernel/{hostname,osrelease,pid_max,threads-max,sched_autogroup_enabled}",
            "/proc/sys/kernel/{task_delayacct,random/boot_id}",
        ),
        "ONCE",
    ),
    ReadPath(
        "default routes and wireless signals", ("/proc/net/{route,ipv6_route,wireless}",), "ONCE"
    ),
    ReadPath(
        "names of users, groups and the distribution", ("/etc/{passwd,group,os-release}",), "ONCE"
    ),
    ReadPath(
        "which processors there are, and their greatest clock",
        (
            "/sys/devices/system/cpu/offline",
            f"{CPU}/cpu_capacity",
            f"{CPU}/topology/{{core_id,physical_package_id}}",
            f"{CPU}/cpufreq/{{cpuinfo_max_freq,cpuinfo_min_freq,scaling_max_freq}}",
            f"{CPU}/cpufreq/{{base_frequency,scaling_governor}}",
        ),
        "ONCE",
    ),
    ReadPath(
        "disks",
        (
            "/sys/block/*/{size,removable}",
            "/sys/block/*/queue/{rotational,scheduler,nr_requests}",
            "/sys/block/*/device/{model,name,queue_depth}",
            "/sys/block/*/*/partition",
            "/sys/block/*/dm/name",
        ),
        "ONCE",
    ),
    ReadPath("network links", ("/sys/class/net/*/{type,mtu,operstate,speed,duplex}",), "ONCE"),
    ReadPath(
        "sensors, and their limits",
        (
            f"{HWMON}/name",
            f"{HWMON}/*_{{label,crit,max,min,emergency,fault}}",
            f"{ZONE}/type",
            f"{ZONE}/trip_point_#_{{type,temp}}",
            "/sys/class/powercap/*/{name,max_energy_range_uj}",
        ),
        "ONCE",
    ),
    ReadPath("graphics cards", (f"{CARD}/{{vendor,device,mem_info_vram_total}}",), "ONCE"),
    ReadPath("control groups", (f"{GROUP}/cgroup.controllers",), "ONCE"),
    ReadPath("batteries and mains", ("/sys/class/power_supply/*/uevent",), "ONCE"),
    ReadPath(
        "counters of the whole computer",
        (
            "/proc/{uptime,stat,loadavg,meminfo,vmstat,diskstats}",
            "/proc/pressure/{cpu,memory,io,irq}",
            "/proc/net/{dev,snmp,netstat}",
        ),
        "EACH_TICK",
    ),
    ReadPath(
        "clocks, throttling, temperatures, energy, graphics, compressed swap",
        (
            f"{CPU}/cpufreq/scaling_cur_freq",
            f"{CPU}/thermal_throttle/{{core,package}}_throttle_count",
            f"{ZONE}/temp",
            "/sys/class/powercap/*/energy_uj",
            f"{CARD}/{{gpu_busy_percent,mem_info_vram_used}}",
            "/sys/block/zram*/mm_stat",
        ),
        "EACH_TICK",
    ),
    ReadPath("what each process used", ("/proc/#/{stat,schedstat,io}",), "OF_PROCESSES"),
    ReadPath("memory of each process", ("/proc/#/statm",), "SIZES"),
    ReadPath(
        "sockets, interrupts, locks, swap areas, mounts, waits, batteries",
        (
            "/proc/net/{tcp,tcp6,udp,udp6,unix}",
            "/proc/{interrupts,locks,swaps}",
            "/proc/self/mountinfo",
            "/proc/#/wchan",
            "/sys/class/power_supply/*/uevent",
        ),
        "SELDOM",
    ),
    ReadPath("owner of each process", ("/proc/#/status",), "SELDOM_LINES"),
    ReadPath("whether gateways answer", ("/proc/net/arp",), "AT_END"),
    ReadPath(
        "what package managers changed",
        ("/var/log/{dpkg.log,pacman.log,dnf.rpm.log,zypp/history}",),
        "LOGS",
    ),
    ReadPath("who asked for changes of packages", ("/var/log/apt/history.log",), "ORDERS"),
    ReadPath(
        "limits, groups and logins of processes, names and times of threads",
        ("/proc/#/{limits,cgroup,loginuid}", "/proc/#/task/#/{comm,schedstat}"),
        "built",
    ),
    ReadPath("readings of sensors", (f"{HWMON}/*_input",), "built"),
    ReadPath(
        "control groups with a quota",
        (
            # the deepest first: a group may be called 'cpu.max:x'
            f"{GROUP}/*/*/*/*/{LIMITED}",
            f"{GROUP}/*/*/{LIMITED}",
            f"{GROUP}/*/{LIMITED}",
        ),
        "built",
    ),
    ReadPath(
        "what package managers changed before that",
        ("/var/log/{dpkg.log,pacman.log,dnf.rpm.log,zypp/history}.1",),
        "built",
    ),
    ReadPath("command lines of processes", ("/proc/#/cmdline",), "framed"),
    ReadPath("open files of processes", ("/proc/#/fd",), "framed"),
    ReadPath("positions in open files", ("/proc/#/fdinfo/#",)),
    ReadPath("word sizes of processes", ("/proc/#/auxv",)),
    ReadPath("exact memory of the ten largest processes", ("/proc/#/smaps_rollup",)),
    ReadPath("threads of busy processes", ("/proc/#/task",)),
    ReadPath("what waiting processes wait in", ("/proc/#/{syscall,stack}",)),
    ReadPath(
        "code that programs run",
        ("/proc/#/maps", "/proc/#/map_files/*", "/proc/#/root/**", "/proc/kallsyms"),
    ),
    ReadPath("mounts of the first process", ("/proc/1/mountinfo",)),
    ReadPath("the kernel's log", ("/dev/kmsg",)),
    ReadPath("crashes of the kernel", ("/{sys/fs,var/lib/systemd}/pstore/**",)),
    ReadPath(
        "control groups of the busiest processes",
        (f"{GROUP}/**/{{cpu,memory,io}}.*", f"{GROUP}/**/{{cpu.stat,cpu.shares,memory.events}}"),
    ),
    ReadPath("groups that are frozen", (f"{GROUP}/**/cgroup.events",)),
    ReadPath("groups at their limit of tasks", (f"{GROUP}/**/pids.{{max,current,events}}",)),
    ReadPath("limits of disk I/O of groups", (f"{GROUP}/**/io.max",)),
    ReadPath("firmware tables", ("/sys/firmware/dmi/tables/DMI", "/sys/class/dmi/id/*")),
    ReadPath("which drives can be asked for their health", ("/sys/block/*/device/vendor",)),
    ReadPath("what waits for a restart", ("/boot/*", "/run/reboot-required")),
    ReadPath("when snaps and flatpaks changed", ("/var/lib/{snapd/snaps,flatpak/app}/*",)),
    ReadPath(
        "drivers that are missing",
        (
            "/lib/modules/*/modules.{alias,builtin,dep,order}",
            "/lib/modules/*/modules.builtin.modinfo",
        ),
    ),
    ReadPath("whether this is a container", ("/run/systemd/container",)),
    ReadPath("who is logged in", ("/run/utmp", "/var/run/utmp")),
    ReadPath(
        "earlier starts", ("/var/log/wtmp", "/var/lib/wtmpdb/wtmp.db", "/{run,var}/log/journal/*/*")
    ),
    ReadPath("services and timers", (f"/{UNITS}/*", f"/{UNITS}/*/*")),
    ReadPath(
        "what starts at login, and jobs",
        (
            "/etc/xdg/autostart/*",
            "/**/.config/autostart/*",
            "/etc/crontab",
            "/etc/cron.d/*",
            "/var/spool/cron/{*,crontabs/*}",
        ),
    ),
    ReadPath(
        "which package a file belongs to",
        (
            "/var/lib/dpkg/{status,arch}",
            "/var/lib/dpkg/info/*",
            "/{var/lib/rpm,usr/lib/sysimage/rpm}/rpmdb.sqlite",
        ),
    ),
    ReadPath("newer versions of programs", ("/var/lib/apt/lists/*",)),
    ReadPath(
        "what package managers changed, in rotated logs",
        ("/var/log/{dpkg.log,pacman.log,dnf.rpm.log,zypp/history,apt/history.log}.#{,.gz}",),
    ),
    ReadPath("accounts that came and went", ("/etc/{passwd,group}-",)),
    ReadPath("digests of changed files that a package lists as configuration", ("/etc/**",)),
    ReadPath(
        "functions of the programs that ran, and when those programs changed",
        ("the program files themselves",),
    ),
    ReadPath("who wrote the last lines of a log", ("/{var,run}/log/**",)),
)


def path_expression(path: str) -> str:
    """Return the regular expression of a pattern of paths."""
    parts = re.split(r"(\*\*|[*#{},])", path)
    return "".join(_EXPRESSIONS.get(part) or re.escape(part) for part in parts)
