"""Services and timers from unit files, where no service manager answers.

Sources: systemd.unit(5) for the directories and their order, systemctl(1) for the states. A unit
starts by itself when a target's ``.wants`` or ``.requires`` directory links to it. Whether it runs
is not in the files: its control group tells, where it has processes.
"""

import re

from dunmist.computer.parsing import text_of
from dunmist.computer.root import Root
from dunmist.computer.service_manager import KINDS, Unit

DIRECTORIES = (
    "etc/systemd/system",
    "run/systemd/system",
    "usr/local/lib/systemd/system",
    "usr/lib/systemd/system",
    "lib/systemd/system",
)
_WANTING = re.compile(r".+\.(?:wants|requires)\Z")
_LINE = re.compile(
    rb"^\s*(Description|OnCalendar|OnBootSec|OnUnitActiveSec|Unit)\s*=\s*(.*?)\s*$", re.M
)
_INSTALL = re.compile(rb"^\[Install\]", re.M)


def read_unit_files(root: Root) -> list[Unit]:
    """Return the services and timers that the unit files describe, those that start first."""
    wanted = _wanted(root)
    units: dict[str, Unit] = {}
    for directory in DIRECTORIES:
        for name in root.names(directory):
            if name.endswith(KINDS) and name not in units:
                unit = _unit(root, f"{directory}/{name}", name, name in wanted)
                if unit:
                    units[name] = unit
    for name in wanted - units.keys():
        # an instance of a template, such as getty@tty1.service
        units[name] = Unit(name=name, starts="enabled")
    return sorted(units.values(), key=lambda unit: (unit.starts != "enabled", unit.name))


def _wanted(root: Root) -> set[str]:
    wanted: set[str] = set()
    for directory in DIRECTORIES:
        for name in root.names(directory):
            if _WANTING.match(name):
                wanted.update(
                    unit for unit in root.names(f"{directory}/{name}") if unit.endswith(KINDS)
                )
    return wanted


def _unit(root: Root, path: str, name: str, wanted: bool) -> Unit | None:
    target = root.link(path)
    if target and target.rpartition("/")[2] != name:
        # systemd.unit(5): a link to /dev/null masks the unit, one to another unit is an alias
        return Unit(name=name, starts="masked") if target == "/dev/null" else None
    data = root.parse(path, bytes, "unit files", may_be_absent=True)
    if data is None:
        return None
    words = {text_of(word): text_of(value) for word, value in reversed(_LINE.findall(data))}
    may_start = "disabled" if _INSTALL.search(data) else "static"
    starts = "enabled" if wanted else may_start
    if not name.endswith(".timer"):
        return Unit(name=name, about=words.get("Description"), starts=starts)
    return Unit(
        name=name,
        about=words.get("Description"),
        starts=starts,
        triggers=words.get("Unit") or name.replace(".timer", ".service"),
        schedule=words.get("OnCalendar") or words.get("OnBootSec") or words.get("OnUnitActiveSec"),
    )
