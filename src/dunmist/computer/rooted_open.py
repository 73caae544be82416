"""Opens files below a directory that is not this computer's root, where no link leads out of it.

A copy of another computer holds its links: an absolute one means the copy's own root, and so does
the way up from it. Linux resolves names like that on request (openat2(2), RESOLVE_IN_ROOT, since
5.6); where it does not, the name is followed step by step.
"""

import ctypes
import errno
import os

# the same number on all usual architectures, openat2(2)
SYS_OPENAT2 = 437
# include/uapi/linux/openat2.h
RESOLVE_IN_ROOT = 0x10
# the kernel's own limit, path_resolution(7)
LINKS_MOST = 40
# no such call in this kernel, or one that a sandbox keeps from it
NOT_THERE = (errno.ENOSYS, errno.EPERM)


class _How(ctypes.Structure):
    _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))


_libc = ctypes.CDLL(None, use_errno=True)


def open_inside(directory: int, name: str, flags: int) -> int:
    """Return a descriptor of a file below an open directory; raises OSError."""
    how = _How(flags | os.O_CLOEXEC, 0, RESOLVE_IN_ROOT)
    descriptor: int = _libc.syscall(
        SYS_OPENAT2, directory, os.fsencode(name or "."), ctypes.byref(how), ctypes.sizeof(how)
    )
    if descriptor >= 0:
        return descriptor
    number = ctypes.get_errno()
    if number not in NOT_THERE:
        raise OSError(number, os.strerror(number), name)
    return open_stepwise(directory, name, flags)


def open_stepwise(directory: int, name: str, flags: int) -> int:
    """Do the same without the kernel's help; raises OSError."""
    resolved = _resolved(directory, name, flags) or "."
    return os.open(resolved, flags | os.O_NOFOLLOW, dir_fd=directory)


def _resolved(directory: int, name: str, flags: int) -> str:
    """Return the name of the same file without links and ways up in it."""
    left = [part for part in reversed(name.split("/")) if part not in ("", ".")]
    done: list[str] = []
    links = 0
    while left:
        part = left.pop()
        if part == "..":
            del done[-1:]
            continue
        if not left and flags & os.O_NOFOLLOW:
            return "/".join([*done, part])
        try:
            target = os.readlink("/".join([*done, part]), dir_fd=directory)
        except OSError:
            done.append(part)  # no link; what is not there shows when it is opened
            continue
        links += 1
        if links > LINKS_MOST:
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), name)
        if target.startswith("/"):
            done.clear()
        left += [step for step in reversed(target.split("/")) if step not in ("", ".")]
    return "/".join(done)
