"""The capture file: its schema, writer and reader, and the masking of secrets.

Takes records of sampling, gives them back later and elsewhere. It knows nothing of the kernel.
"""

from dunmist.captures.reader import CaptureReader, count_ticks
from dunmist.captures.redaction import MASK, Rules, load_rules, mask_secrets
from dunmist.captures.schema import (
    FORMAT,
    VERSION,
    Footer,
    Header,
    IncidentMark,
    Line,
    Recording,
    Unseen,
)
from dunmist.captures.sharing import is_shared, share_capture
from dunmist.captures.writer import CaptureWriter

__all__ = [
    "FORMAT",
    "MASK",
    "VERSION",
    "CaptureReader",
    "CaptureWriter",
    "Footer",
    "Header",
    "IncidentMark",
    "Line",
    "Recording",
    "Rules",
    "Unseen",
    "count_ticks",
    "is_shared",
    "load_rules",
    "mask_secrets",
    "share_capture",
]
