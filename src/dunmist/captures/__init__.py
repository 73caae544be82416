"""The capture file: its schema, writer and reader, and the masking of secrets.

Takes records of sampling, gives them back later and elsewhere. It knows nothing of the kernel.
"""

from dunmist.captures.reader import CaptureReader as CaptureReader
from dunmist.captures.reader import count_ticks as count_ticks
from dunmist.captures.redaction import MASK as MASK
from dunmist.captures.redaction import Rules as Rules
from dunmist.captures.redaction import load_rules as load_rules
from dunmist.captures.redaction import mask_secrets as mask_secrets
from dunmist.captures.schema import FORMAT as FORMAT
from dunmist.captures.schema import VERSION as VERSION
from dunmist.captures.schema import Footer as Footer
from dunmist.captures.schema import Header as Header
from dunmist.captures.schema import IncidentMark as IncidentMark
from dunmist.captures.schema import Line as Line
from dunmist.captures.schema import Recording as Recording
from dunmist.captures.schema import Unseen as Unseen
from dunmist.captures.writer import CaptureWriter as CaptureWriter
