"""The machine's memory: proc(5), ``/proc/meminfo`` and ``/proc/vmstat``.

``kB`` in meminfo means 1,024 bytes; the lines without a unit are counts of huge pages. The words
are kept as the kernel gives them, so that a later analysis finds what this one did not use.
"""

import re

from dunmist.computer.parsing import ParseError, counter_of, text_of

PAGING_COUNTERS = frozenset(
    (
        "pgpgin", "pgpgout", "pswpin", "pswpout", "pgfault", "pgmajfault",
        "pgscan_kswapd", "pgscan_direct", "pgsteal_kswapd", "pgsteal_direct",
        "workingset_refault_anon", "workingset_refault_file", "oom_kill",
        "allocstall_dma", "allocstall_dma32", "allocstall_normal", "allocstall_movable",
        "compact_stall",
    )
)  # fmt: skip
_MEMINFO = re.compile(rb"^([^:\n]{1,40}):\s+(\d{1,15})(?: kB)?$", re.M)


def parse_meminfo(data: bytes) -> dict[str, int]:
    """Return each line of ``/proc/meminfo`` in KiB (or pages, where so); raises ParseError."""
    found = {text_of(name): int(amount) for name, amount in _MEMINFO.findall(data)}
    if not found.get("MemTotal"):
        raise ParseError("/proc/meminfo", "expected MemTotal", data)
    return found


def parse_vmstat(data: bytes) -> dict[str, int]:
    """Return the paging counters of ``/proc/vmstat``, in pages but for pgpgin and pgpgout (KiB)."""
    found = {}
    for line in data.splitlines():
        name, _, value = line.partition(b" ")
        if text_of(name) in PAGING_COUNTERS:
            found[text_of(name)] = counter_of(value.strip(), "/proc/vmstat", text_of(name))
    if not found:
        raise ParseError("/proc/vmstat", "expected paging counters", data)
    return found
