"""Present a remote computer as a root like any other.

``collector.sh`` reads the files of its kernel; ``frame_stream`` parses what it wrote into frames;
``mirror`` keeps a ``memory_root`` in step with them; the readers of ``computer`` read that root.
``remote_clock`` gives the sampler the time of the remote computer. ``ssh_transport`` is one way to
reach it. This room must not parse what the kernel wrote.
"""

from dunmist.remote.collector_script import collector_script, script_to_carry
from dunmist.remote.frame_stream import Begun, Frame, Garbled, Stream, is_collected
from dunmist.remote.memory_root import MemoryRoot, TooMuch
from dunmist.remote.mirror import Mirror
from dunmist.remote.remote_clock import RemoteClock

__all__ = [
    "Begun",
    "Frame",
    "Garbled",
    "MemoryRoot",
    "Mirror",
    "RemoteClock",
    "Stream",
    "TooMuch",
    "collector_script",
    "is_collected",
    "script_to_carry",
]
