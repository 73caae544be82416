"""A computer that is not this one: its kernel's own text, sent by a shell, as a root like any.

``collector.sh`` reads; ``stream`` parses what it wrote into frames; ``mirror`` keeps a
``memory_root`` in step with them, which the readers of ``computer`` read as they read any root;
``far_clock`` is the sampler's clock by the far computer's own time. No second parser, no second
format.
"""

from dunmist.elsewhere.far_clock import FarClock
from dunmist.elsewhere.memory_root import MemoryRoot, TooMuch
from dunmist.elsewhere.mirror import Mirror
from dunmist.elsewhere.script import collector_script, script_to_carry
from dunmist.elsewhere.stream import Begun, Frame, Garbled, Stream, is_collected

__all__ = [
    "Begun",
    "FarClock",
    "Frame",
    "Garbled",
    "MemoryRoot",
    "Mirror",
    "Stream",
    "TooMuch",
    "collector_script",
    "is_collected",
    "script_to_carry",
]
