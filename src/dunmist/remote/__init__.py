"""Present a remote computer as a root like any other.

``collector.sh`` reads the files of its kernel; ``frame_stream`` parses what it wrote into frames;
``mirror`` keeps a ``memory_root`` in step with them; the readers of ``computer`` read that root.
``remote_clock`` gives the sampler the time of the remote computer. ``ssh_transport`` is one way to
reach it. This room must not parse what the kernel wrote.
"""

from dunmist.remote.collector_script import collector_script as collector_script
from dunmist.remote.collector_script import script_to_carry as script_to_carry
from dunmist.remote.frame_stream import Begun as Begun
from dunmist.remote.frame_stream import Frame as Frame
from dunmist.remote.frame_stream import Garbled as Garbled
from dunmist.remote.frame_stream import NoCollector as NoCollector
from dunmist.remote.frame_stream import Stream as Stream
from dunmist.remote.frame_stream import is_collected as is_collected
from dunmist.remote.memory_root import MemoryRoot as MemoryRoot
from dunmist.remote.memory_root import TooMuch as TooMuch
from dunmist.remote.mirror import Mirror as Mirror
from dunmist.remote.remote_clock import RemoteClock as RemoteClock
