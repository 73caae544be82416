"""Counts of kernel messages that make a finding, by class."""

from dunmist.thresholds.units import Figures, Seconds

DAY_S, HOUR_S = 86_400.0, 3600.0


class KernelMessageLimits(Figures, frozen=True):
    """Messages of a class that make a finding, and the age of the last of them."""

    least: int
    within_s: Seconds


KERNEL_MESSAGES = {
    # data lost on a medium does not come back: even an old error shows a drive that wears out
    "drive-failing": KernelMessageLimits(least=1, within_s=365 * DAY_S),
    # a lost part or a failed check of integrity stays as it is: one is enough
    "mapping-errors": KernelMessageLimits(least=1, within_s=DAY_S),
    # one at the start or after a suspend is ordinary
    "drive-resets": KernelMessageLimits(least=3, within_s=DAY_S),
    # a file system that was hurt stays so until it is checked
    "file-system-damaged": KernelMessageLimits(least=1, within_s=365 * DAY_S),
    # one wrong bit that could not be corrected is a fault
    "memory-faulty": KernelMessageLimits(least=1, within_s=365 * DAY_S),
    # single bits flip by chance now and then
    "memory-wearing": KernelMessageLimits(least=10, within_s=7 * DAY_S),
    # corrected errors of a bus come in small numbers on computers that are well
    "hardware-fault": KernelMessageLimits(least=5, within_s=DAY_S),
    # nobody complains now about an old message
    "kernel-hung": KernelMessageLimits(least=1, within_s=HOUR_S),
    # it is over when it is over: what was long ago is nobody's complaint
    "graphics-reset": KernelMessageLimits(least=1, within_s=HOUR_S),
    # the port protects itself, and what was plugged in may be gone
    "port-overloaded": KernelMessageLimits(least=1, within_s=DAY_S),
    # a device is reset once or twice when it is plugged in or wakes up
    "device-reconnects": KernelMessageLimits(least=5, within_s=HOUR_S),
    # a cable that is moved, a suspend and a change of network give one each
    "link-flapping": KernelMessageLimits(least=4, within_s=HOUR_S),
    # one crash is chance
    "program-crashes": KernelMessageLimits(least=3, within_s=DAY_S),
    # a person may complain about yesterday's messages
    "killed-earlier": KernelMessageLimits(least=1, within_s=DAY_S),
    # it may be cool now that somebody looks
    "hot-earlier": KernelMessageLimits(least=1, within_s=DAY_S),
}
