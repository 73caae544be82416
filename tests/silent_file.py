"""A file whose server does not answer: the kernel's own FUSE, mounted over a file (fuse(4))."""

import ctypes
import errno
import os
import select
import struct
import threading
from contextlib import contextmanager

GETATTR, OPEN, INIT = 3, 14, 26
# to forget, and to be interrupted
UNANSWERED = (2, 36, 42)
VERSION = (7, 31)
DETACH = 2


def can_mount():
    """Whether this process may mount one."""
    return os.geteuid() == 0 and os.access("/dev/fuse", os.R_OK | os.W_OK)


def _answer(operation):
    if operation == INIT:
        return struct.pack("<4I2H2I2H8I", *VERSION, 0, 0, 1, 1, 4096, 1, 1, *(0,) * 9)
    if operation == GETATTR:
        return struct.pack("<Q2I6Q10I", 1, 0, 0, 1, 4096, 8, *(0,) * 6, 0o100444, 1, *(0,) * 5)
    return struct.pack("<Q2I", 1, 1, 0) if operation == OPEN else None


@contextmanager
def mounted(path):
    """Mount over a file; yields an event that is set once somebody waits for its contents."""
    libc = ctypes.CDLL(None, use_errno=True)
    device = os.open("/dev/fuse", os.O_RDWR)
    asked, ready = threading.Event(), threading.Event()

    def serve():
        opened = False
        # whoever opens it while it is being mounted is answered, so that the mounting comes back
        while not opened:
            try:
                request = os.read(device, 1 << 17)
            except OSError:
                return
            _, operation, unique = struct.unpack_from("<2IQ", request)
            body = _answer(operation)
            if body is not None:
                os.write(device, struct.pack("<IiQ", 16 + len(body), 0, unique) + body)
            elif operation not in UNANSWERED:
                os.write(device, struct.pack("<IiQ", 16, -errno.ENOSYS, unique))
            opened = operation == OPEN and ready.is_set()
        # the read is left lying: once it is taken, even SIGKILL would wait for its answer
        select.select([device], [], [])
        asked.set()

    options = f"fd={device},rootmode=100444,user_id=0,group_id=0,allow_other"
    if libc.mount(b"silent", os.fsencode(path), b"fuse", 0, options.encode()):
        os.close(device)
        raise OSError(ctypes.get_errno(), "mount")
    server = threading.Thread(target=serve, daemon=True)
    server.start()
    # so the kernel learns that nobody need be told of a file that is closed, and waits for nothing
    os.close(os.open(path, os.O_RDONLY))
    ready.set()
    try:
        yield asked
    finally:
        libc.umount2(os.fsencode(path), DETACH)
        server.join(2)
        os.close(device)
