"""The steps of ``dunmist fix`` on services, and their undo, checked with the manager's own word.

A busy service of a real unit file is captured inside, and the very program of the wheel carries the
step out there.
"""

import re
import time
from typing import NamedTuple

UNIT = "wader-count.service"
TIMER = "wader-count.timer"
FILE = "/tmp/steps.jsonl.gz"
# NumPy's newer instructions are not emulated rightly
FIX = "NPY_DISABLE_CPU_FEATURES='AVX2 FMA3 AVX512F' dunmist fix"
LONGEST_S = 400.0
SERVICE = """[Unit]
Description=counts waders
[Service]
ExecStart=/usr/local/bin/wader-count spin 3
CPUQuota=180%
[Install]
WantedBy=multi-user.target
"""
TIMED = """[Timer]
OnCalendar=*-*-* 03:00
[Install]
WantedBy=timers.target
"""


class Step(NamedTuple):
    """A step of the ladder: a part of its text, what asks the manager, and its three answers.

    ``prepare`` is a script that comes before it.
    """

    name: str
    text: str
    asked: str
    before: str
    done: str
    undone: str | None
    prepare: str = ":"
    # a change that somebody makes after the undo, and what the manager says then
    changed: str | None = None
    later: str = ""


def word(name, unit=UNIT):
    """Ask for one word of a unit."""
    return f"systemctl show --property={name} --value {unit}"


STEPS = (
    Step(
        "a limit on a service that has a quota",
        "of CPU time",
        word("CPUQuotaPerSecUSec"),
        r"1\.8\d*s",
        r"[1-9]\d*ms",
        r"1\.8\d*s",
        changed=f"sed -i s/180%/150%/ /etc/systemd/system/{UNIT}; systemctl daemon-reload",
        later=r"1\.5\d*s",
    ),
    Step("a service paused", "Pause", f"ps -o state= -p $({word('MainPID')})", "R", "T", "[RS]"),
    Step(
        "a service with a lower priority",
        "Lower the priority",
        f"ps -o nice= -p $({word('MainPID')})",
        "0",
        r"1\d",
        "0",
    ),
    Step(
        "a service restarted", "Restart the service", word("ActiveState"), "active", "active", None
    ),
    Step(
        "a service kept from starting",
        "Keep wader-count.service from starting by itself",
        "systemctl is-enabled wader-count.service",
        "enabled",
        "disabled",
        "enabled",
    ),
    Step(
        "a service stopped", "Stop the service", word("ActiveState"), "active", "inactive", "active"
    ),
    Step(
        "a timer stopped",
        "from starting it",
        f"systemctl is-enabled {TIMER}; systemctl is-active {TIMER}",
        r"enabled\nactive",
        r"disabled\ninactive",
        r"enabled\nactive",
        f"systemctl disable -q {UNIT}; systemctl enable -q --now {TIMER}; systemctl start {UNIT}",
    ),
)


def step_outcomes(bottle, names):
    """Yield what each step came to, or each of those whose names have one of the given ones."""
    bottle.write(f"/etc/systemd/system/{UNIT}", SERVICE.encode())
    bottle.write(f"/etc/systemd/system/{TIMER}", TIMED.encode())
    bottle.do(f"systemctl daemon-reload; systemctl enable -q {UNIT}; systemctl start {UNIT}")
    for step in STEPS:
        if names and not any(name in step.name for name in names):
            continue
        began_s = time.monotonic()
        bottle.do(step.prepare)
        wrong = list(_wrong(bottle, step))
        yield {"name": step.name, "wrong": wrong, "took_s": round(time.monotonic() - began_s)}
    bottle.do(
        f"systemctl disable -q --now {TIMER}; systemctl disable -q {UNIT};"
        f" systemctl kill -s KILL {UNIT}; true"
    )


def _wrong(bottle, step):
    """Yield in words what is not as it should be."""
    yield from _differs(bottle, step.asked, step.before, "before the step")
    done = bottle.run(
        f"nice -n -10 dunmist capture -o {FILE} --force --for 8s && {FIX} {FILE} --pid"
        f" $({word('MainPID')})",
        longest_s=LONGEST_S,
    )
    number = re.search(rf"^\s*(\d+)[.:)]?\s.*{re.escape(step.text)}", done.out, re.MULTILINE)
    if not number:
        yield f"the ladder has no step {step.text!r}: {done.out[-600:]} {done.err[-300:]}"
        return
    act = f"{FIX} {FILE} --pid $({word('MainPID')}) --step {number[1]} --yes --no-measure"
    done = bottle.run(act, longest_s=LONGEST_S)
    if done.status != 0:
        yield f"the step ended with {done.status}: {done.err.strip()[-300:]}"
        return
    yield from _differs(bottle, step.asked, step.done, "after the step")
    if step.undone is None:
        return
    back = bottle.run(f"{FIX} --undo", longest_s=LONGEST_S)
    if back.status != 0:
        yield f"the undo ended with {back.status}: {back.err.strip()[-300:]}"
        return
    yield from _differs(bottle, step.asked, step.undone, "after the undo")
    if step.changed is not None:
        bottle.do(step.changed)
        yield from _differs(bottle, step.asked, step.later, "after a later change of the unit")


def _differs(bottle, asked, wanted, when):
    result = bottle.run(asked).out.strip()
    if not re.fullmatch(wanted, result):
        yield f"{when} {asked!r} says {result!r}, wanted {wanted}"
