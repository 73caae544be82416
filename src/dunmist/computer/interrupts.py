"""Interrupts by source: proc_interrupts(5), ``Documentation/filesystems/proc.rst`` 1.2.

The counts of all processors are added up: which processor serves a source changes at any time.
"""

from dunmist.computer.parsing import ParseError, text_of


def parse_interrupts(data: bytes) -> dict[str, int]:
    """Return how often each source interrupted since boot; raises ParseError."""
    lines = data.splitlines()
    processors = len(lines[0].split()) if lines else 0
    if not processors or not lines[0].split()[0].startswith(b"CPU"):
        raise ParseError("/proc/interrupts", "expected a column for each processor", data)
    totals: dict[str, int] = {}
    for line in lines[1:]:
        name, found, rest = line.partition(b":")
        fields = rest.split()
        counts = []
        for field in fields[:processors]:
            if not field.isdigit() or len(field) > 20:
                break
            counts.append(int(field))
        if not found or not counts:
            continue
        about = text_of(b" ".join(fields[len(counts) :]))
        totals[f"{text_of(name.strip())} {about}".strip()] = sum(counts)
    return totals
