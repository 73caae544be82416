"""Read the limits of disk I/O that control groups have.

Source: ``Documentation/admin-guide/cgroup-v2.rst`` (io.max). At a limit the kernel holds requests
back before the disk gets them: tasks wait although the disk is idle.
"""

import re

import msgspec

from dunmist.computer.group_paths import Mount, with_parents
from dunmist.computer.parsing import Counter, ParseError, count_of, text_of
from dunmist.computer.root import Root

SUBJECT = "limits of disk I/O of control groups"
_LIMIT = re.compile(rb"^(\d{1,6}:\d{1,8})((?: \w{1,16}=(?:max|\d{1,20}))+)$", re.M)
_WORD = re.compile(rb" (rbps|wbps|riops|wiops)=(\d{1,20})")
_DEVICE = re.compile(rb"^ *(\d{1,6}) +(\d{1,8}) (\S{1,64}) ", re.M)


class IoLimit(msgspec.Struct, frozen=True, array_like=True):
    """Limits of one control group on one disk; None is no limit."""

    path: str
    disk: str
    read_bytes_per_s: Counter | None = None
    write_bytes_per_s: Counter | None = None
    reads_per_s: Counter | None = None
    writes_per_s: Counter | None = None


FIELDS = {
    b"rbps": "read_bytes_per_s",
    b"wbps": "write_bytes_per_s",
    b"riops": "reads_per_s",
    b"wiops": "writes_per_s",
}


def parse_io_max(data: bytes) -> dict[str, dict[str, int]]:
    """Return the limits of ``io.max`` by device number, as 8:16; raises ParseError."""
    found = {
        text_of(device): {
            FIELDS[word]: count_of(value, "io.max") for word, value in _WORD.findall(words)
        }
        for device, words in _LIMIT.findall(data)
    }
    if data.strip() and not found:
        raise ParseError("io.max", "expected a device and its limits", data)
    return found


def parse_device_names(data: bytes) -> dict[str, str]:
    """Return the names of ``/proc/diskstats`` by device number."""
    return {
        f"{int(major)}:{int(minor)}": text_of(name) for major, minor, name in _DEVICE.findall(data)
    }


def read_io_limits(root: Root, mount: Mount, paths: set[str]) -> list[IoLimit]:
    """Return the limits of the groups and of their parents."""
    names: dict[str, str] | None = None
    limits = []
    for path in sorted(with_parents(paths)):
        found = root.parse(f"{mount}{path}/io.max", parse_io_max, SUBJECT, may_be_absent=True)
        for device, most in (found or {}).items():
            if not most:
                continue
            if names is None:
                names = root.parse("proc/diskstats", parse_device_names, SUBJECT) or {}
            limits.append(IoLimit(path, names.get(device, device), **most))
    return limits
