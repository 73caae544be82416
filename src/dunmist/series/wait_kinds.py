"""Classify what a process in state D waits for, by the kernel function that it sleeps in.

Function names change between kernels, so these are parts of names that have stood for long (mm/,
fs/, block/, kernel/locking/). What no pattern knows is ``other``.
"""

import re
from functools import lru_cache

WAIT_KINDS = ("storage", "pages", "lock", "other")
_PATTERNS = (
    ("lock", re.compile(r"mutex|rwsem|rt_mutex|percpu_down|locks_|flock|fcntl_set")),
    ("pages", re.compile(r"swap|folio_wait|folio_lock|wait_on_page|lock_page|filemap")),
    (
        "storage",
        re.compile(
            r"io_schedule|blk|bio_|rq_qos|wbt_|get_request|wait_on_buffer|dio_|fsync|"
            r"jbd2|transaction|this_handle|ext4|xfs|f2fs|btrfs|nfs|rpc_|cifs|"
            r"fuse|sync_|writeback|dirty_pages"
        ),
    ),
)
# in the client of a network file system, or for the program that serves one
_ELSEWHERE = re.compile(r"nfs|rpc_|cifs|smb|fuse|request_wait_answer|p9_|v9fs|ceph")
# calls in which SIGKILL wakes a waiting task: the kernel says so in the names of its functions
# (wait_bit.h, net/sunrpc/sched.c), and the clients of 9p and SMB wait so for every answer
# (net/9p/client.c, fs/smb/client/transport.c)
_KILLABLE = re.compile(r"_killable|p9_client_rpc|wait_for_response")
NOT_WAITING = -1


def waits_elsewhere(waits_in: str | None) -> bool:
    """Whether a kernel function is one in which files of others are waited for."""
    return _ELSEWHERE.search(waits_in or "") is not None


def is_killable(waits_in: str | None) -> bool:
    """Whether a task can be killed while it waits in a kernel function."""
    return _KILLABLE.search(waits_in or "") is not None


# a computer has few functions to wait in, and a stuck one a sample of them at each tick
@lru_cache(maxsize=4096)
def wait_code(state: str, waits_in: str | None) -> int:
    """Return the index in ``WAIT_KINDS`` of what a process waits for, ``NOT_WAITING`` for none."""
    if state != "D":
        return NOT_WAITING
    for kind, pattern in _PATTERNS:
        if pattern.search(waits_in or ""):
            return WAIT_KINDS.index(kind)
    return WAIT_KINDS.index("other")
