"""Services of the operating system that are busy because of something else until shown otherwise.

Unit names as their packages install them (systemd.unit(5) lists where).
"""

CORE_SERVICES = frozenset(
    (
        "systemd-journald.service",
        "systemd-udevd.service",
        "systemd-logind.service",
        "systemd-oomd.service",
        "systemd-resolved.service",
        "systemd-timesyncd.service",
        "dbus.service",
        "dbus-broker.service",
        "polkit.service",
        "rsyslog.service",
        "NetworkManager.service",
        "wpa_supplicant.service",
        "udisks2.service",
        "upower.service",
        "accounts-daemon.service",
        "irqbalance.service",
    )
)
