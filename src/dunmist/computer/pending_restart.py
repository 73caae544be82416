"""Find what needs a restart: a pending update, or a newer kernel than the running one.

Sources: ``/run/reboot-required`` (Debian policy of update-notifier, deb-triggers(5)),
``Documentation/kbuild/modules.rst`` for ``/lib/modules/RELEASE``; the images of installed kernels
are ``/boot/vmlinuz-RELEASE``.
"""

import re

import msgspec

from dunmist.computer.parsing import parse_text
from dunmist.computer.root import Root

ASKED = "run/reboot-required"
IMAGE = "vmlinuz-"
_PARTS = re.compile(r"\d+|[a-z]+", re.I)


class Pending(msgspec.Struct, frozen=True, omit_defaults=True):
    """``asked_s`` is when an update asked for a restart, seconds since 1970.

    ``newest_kernel`` is the release of an installed kernel that is newer than the running one.
    """

    asked_s: float | None = None
    newest_kernel: str | None = None


def read_pending(root: Root) -> Pending | None:
    """Return the updates that wait for a restart, None if there are none."""
    running = root.parse("proc/sys/kernel/osrelease", parse_text, "kernel", may_be_absent=True)
    pending = Pending(root.changed_s(ASKED), _newer(root, running) if running else None)
    return pending if pending != Pending() else None


def _newer(root: Root, running: str) -> str | None:
    """Return the newest installed kernel of the running one's flavour, if that is newer."""
    installed = [name.removeprefix(IMAGE) for name in root.names("boot") if name.startswith(IMAGE)]
    of_flavour = [
        release
        for release in installed
        if flavour_of(release) == flavour_of(running) and root.exists(f"lib/modules/{release}")
    ]
    newest = max(of_flavour, key=release_key, default=running)
    return newest if release_key(newest) > release_key(running) else None


def flavour_of(release: str) -> str:
    """Return for what a kernel was built: the last part of its release, where that is a word."""
    last = release.rpartition("-")[2]
    return "" if last[:1].isdigit() else last


def release_key(release: str) -> list[tuple[int, int, str]]:
    """Return the sort key of a release: numbers as numbers, a pre-release before its own."""
    return [
        (1, int(part), "") if part.isdigit() else (0, 0, part) for part in _PARTS.findall(release)
    ]
