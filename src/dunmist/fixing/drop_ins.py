"""The file that a limit at run time leaves behind, which undoing it takes away again.

The service manager keeps properties that were set at run time as drop-ins of its own control
directory (``system.control``, ``user.control``; systemd.unit(5), "Unit File Load Path"). While one
is there, what the administrator's own files say of that property has no effect. ``revert`` would
take away the administrator's changes as well, so only the one file is removed.
"""

import os
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path, PurePosixPath

from dunmist.errors import Refused

QUOTA_FILE = "50-CPUQuota.conf"
SYSTEM_CONTROL, USER_CONTROL = "/run/systemd/system.control", "/run/user/{}/systemd/user.control"


def quota_drop_in(paths: Iterable[object], unit: str, uid: int | None) -> str | None:
    """Return the drop-in of the manager's own control that sets a quota, None if none does.

    ``paths`` are those that the manager says it has read for the unit. ``uid`` is whose own manager
    that is, None for the system's. A person's manager says what that person wants: it is believed
    about their own directory only, and only by themselves.
    """
    if uid not in (None, os.geteuid()):
        return None
    control = SYSTEM_CONTROL if uid is None else USER_CONTROL.format(uid)
    for path in paths:
        file = PurePosixPath(str(path))
        is_own = file.name == QUOTA_FILE and file.parent.name == f"{unit}.d"
        if is_own and str(file.parent.parent) == control:
            return str(file)
    return None


def remove_drop_in(path: str) -> None:
    """Remove a drop-in, and its directory where nothing is left in it; raises Refused."""
    try:
        Path(path).unlink()
    except FileNotFoundError:
        return
    except OSError as error:
        raise Refused(
            f"{path}: the drop-in of the limit cannot be removed ({error.strerror}); "
            f"ask for the administrator's rights"
        ) from error
    # others may have added files
    with suppress(OSError):
        Path(path).parent.rmdir()
