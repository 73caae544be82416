"""Check the conditions of every act: this computer and boot, own rights, no session hit."""

import os
import re

from dunmist.advice import Act, Target, protected_by_name, protected_unit, wording
from dunmist.applications import unit_of
from dunmist.captures import Header
from dunmist.computer import PF_KTHREAD, Root, parse_cgroup, parse_line
from dunmist.errors import Refused
from dunmist.fixing.live_processes import Live, ancestors, family, read_live
from dunmist.fixing.units import check_manager

# systemd.unit(5); what begins with a dash would be taken for an option when it is pasted
UNIT_NAME = re.compile(r"(?!-)[A-Za-z0-9:_.\\@-]{1,244}\.(?:service|scope|slice|timer)")
BOOT_ID, HOST = "proc/sys/kernel/random/boot_id", "proc/sys/kernel/hostname"
# process numbers in a message of one line
NUMBERS_SHOWN = 8


def check_capture(header: Header, root: Root) -> None:
    """Raise Refused unless the capture is of this computer and of this boot."""
    # a model has process numbers of its own, which here belong to somebody else
    if not header.live:
        raise Refused(
            "the capture is of a model or a copy of a computer, so there is nothing to act on; "
            "capture the computer itself"
        )
    now = boot_id(root)
    # start times count from the boot: without it they identify nobody
    if header.machine.boot_id is None or now is None:
        raise Refused(
            "the boot of the capture or of this computer is not known, so process numbers cannot "
            "be trusted; use the commands of the triage by hand"
        )
    if header.machine.boot_id != now:
        raise Refused(
            f"the capture is of another computer or of an earlier boot (host "
            f"{header.machine.host}, {header.started}); capture again here and now"
        )


def is_of_earlier_boot(header: Header, root: Root) -> bool:
    """Whether a capture is of this computer, which was started again since.

    Its process numbers then belong to nobody, or to others.
    """
    then, now = header.machine.boot_id, boot_id(root)
    here = root.parse(HOST, parse_line, "host name")
    is_here = header.live and here is not None and header.machine.host == here
    return is_here and then is not None and now is not None and then != now


def boot_id(root: Root) -> str | None:
    """Return the identity of this boot, None if it is not published."""
    return root.parse(BOOT_ID, parse_line, "boot identity")


def check_processes(act: Act, root: Root) -> list[Target]:
    """Return the processes of an act that still live; raises Refused where it must not be."""
    live = read_live(root)
    targets = _living(act, live)
    check_targets(live, targets)
    return targets


def check_family(act: Act, root: Root) -> list[Target]:
    """Return them with those that descend from them and run the same; raises Refused."""
    live = read_live(root)
    targets = _living(act, live)
    targets += family(live, targets)
    check_targets(live, targets)
    return targets


def check_manager_of(act: Act, root: Root) -> list[Target]:
    """Return the living processes of a unit; raises Refused where it must not be acted on.

    The unit comes from a capture, which may say anything. Its name must be valid and not protected,
    and the processes that were judged must be in it now.
    """
    unit = act.unit or ""
    if not UNIT_NAME.fullmatch(unit):
        raise Refused(f"invalid unit name {unit!r}; nothing was done")
    key = protected_unit(unit)
    if key:
        raise Refused(f"{unit} is protected: {wording()['protected'][key]}")
    live = read_live(root)
    targets = _still_there(act, live)
    for target in targets:
        _check_same(live[target.pid], target)
        # a timer starts them in a unit of another name
        now = unit_of(_group(root, target.pid))
        if act.verb != "disable-timer" and now != unit:
            raise Refused(
                f"process {target.pid} ({target.name}) is in {now or 'no unit'} now, not in "
                f"{unit}; capture again"
            )
    check_manager(act)
    return targets


def _group(root: Root, pid: int) -> str | None:
    groups = root.parse(f"proc/{pid}/cgroup", parse_cgroup, "control groups", may_be_absent=True)
    return groups.unit if groups else None


def _check_same(live: Live, target: Target) -> None:
    """Raise Refused when a process is another program, or another person's, than was judged."""
    # captures name a program by its command line, in which secrets are masked
    names = (live.program.name, live.stat.name, live.masked_program.name)
    if target.name not in names:
        raise Refused(
            f"process {target.pid} is {live.program.name} now, not {target.name}; capture again"
        )
    if target.uid is not None and target.uid != live.uid:
        raise Refused(
            f"process {target.pid} ({target.name}) belongs to user number {live.uid} now, not to "
            f"{target.uid}; capture again"
        )


def unit_processes(act: Act, root: Root) -> list[Target]:
    """Return every process that is in the unit of an act now, of any user."""
    if act.unit is None:
        return []
    return [
        process.target
        for pid, process in read_live(root).items()
        if unit_of(_group(root, pid)) == act.unit
    ]


def check_nothing(act: Act, root: Root) -> list[Target]:
    """Return the living processes of an act that does nothing to them."""
    return _still_there(act, read_live(root))


def _still_there(act: Act, live: dict[int, Live]) -> list[Target]:
    return [
        target
        for target in act.targets
        if target.pid in live and live[target.pid].stat.start_clk == target.start_clk
    ]


def _living(act: Act, live: dict[int, Live]) -> list[Target]:
    targets = _still_there(act, live)
    if not targets:
        numbers = ", ".join(str(target.pid) for target in act.targets[:NUMBERS_SHOWN])
        raise Refused(
            f"process {numbers or '(none)'} has ended since the capture, and its number may belong "
            f"to another one; capture again"
        )
    return targets


def check_targets(live: dict[int, Live], targets: list[Target]) -> None:
    """Raise Refused when any target is protected now, or belongs to somebody else."""
    # to pause the terminal that we run in would leave nobody to undo it
    own_chain = ancestors(live, os.getpid())
    for target in targets:
        process = live.get(target.pid)
        if process is None or process.stat.start_clk != target.start_clk:
            continue  # it exited; a process that reuses the number is not touched
        _check_same(process, target)
        key = _protection(process, own_chain)
        if key:
            raise Refused(
                f"process {target.pid} ({target.name}) is protected: {wording()['protected'][key]}"
            )
        # the kernel would refuse as well, but only half way through the list
        if os.geteuid() not in (0, process.uid):
            raise Refused(
                f"process {target.pid} ({target.name}) belongs to user number {process.uid}, "
                f"not to you; ask them, or run this as administrator"
            )


def _protection(live: Live, own_chain: set[int]) -> str | None:
    if live.stat.flags & PF_KTHREAD:
        return "kernel"
    if live.stat.pid == 1:
        return "init"
    if live.stat.pid in own_chain:
        return "observer"
    return protected_by_name(live.stat.name, live.program.name)
