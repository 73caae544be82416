"""The kernel's log of a model computer, as /dev/kmsg gives it: what is ordinary, and what is not.

Every model has what a computer that is well writes as well, so that a rule that takes it for
trouble is found out.
"""

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.scenario import LogSpec

US_PER_S = 1e6
# seconds after the computer started, severity, line
ORDINARY = (
    (0.0, 5, "Linux version 6.12.31 (build@ledge) #1 SMP PREEMPT_DYNAMIC"),
    (0.2, 3, "ACPI BIOS Error (bug): Could not resolve symbol [\\_SB.GPP2.WLAN], AE_NOT_FOUND"),
    (0.9, 4, "[Firmware Bug]: TSC ADJUST: CPU0: -5 force to 0"),
    (1.4, 6, "ata1: SATA link up 6.0 Gbps (SStatus 133 SControl 300)"),
    (1.6, 6, "usb 1-2: reset high-speed USB device number 2 using xhci_hcd"),
    (2.1, 6, "EXT4-fs (sda1): mounted filesystem with ordered data mode. Quota mode: none."),
    (3.0, 6, "r8169 0000:03:00.0 enp3s0: Link is Down"),
    (5.8, 6, "r8169 0000:03:00.0 enp3s0: Link is Up - 1Gbps/Full - flow control rx/tx"),
    (61.0, 6, "chough-notes[911]: segfault at 0 ip 000055d0c3a1 sp 00007ffd21 error 4"),
)


def log_lines(model: ModelComputer) -> list[tuple[float, int, str]]:
    """Return the messages so far: seconds since the start, severity and text, in order."""
    scenario = model.scenario
    began_s = scenario.machine.uptime_s
    lines = [line for line in ORDINARY if line[0] < model.uptime_s]
    for entry in scenario.kernel_log:
        lines += [(began_s + at_s, entry.priority, entry.text) for at_s in _times_s(entry)]
    return sorted(
        (line for line in lines if 0 <= line[0] <= model.uptime_s),
        key=lambda timed_line: timed_line[0],
    )


def _times_s(entry: LogSpec) -> list[float]:
    return [entry.at_s + number * entry.every_s for number in range(entry.times)]


def log_files(model: ModelComputer) -> list[tuple[str, str]]:
    """Return the log by its name below the root (Documentation/ABI/testing/dev-kmsg)."""
    records = [
        f"{priority},{number},{round(at_s * US_PER_S)},-;{text}\n"
        for number, (at_s, priority, text) in enumerate(log_lines(model))
    ]
    return [("dev/kmsg", "".join(records))]
