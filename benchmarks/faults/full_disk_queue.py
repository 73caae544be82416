"""A live fault: synchronous writes without end from six processes. Expected: disk, this program.

The file lies in the current directory, which should be on a real disk.
"""

import os
from pathlib import Path

BLOCK = os.urandom(1 << 20)
for number in range(6):
    if not os.fork():
        place = os.open(f"fault-{number}.tmp", os.O_RDWR | os.O_CREAT)
        Path(f"fault-{number}.tmp").unlink()
        while True:
            for _ in range(64):
                os.write(place, BLOCK)
            os.fsync(place)
            os.lseek(place, 0, os.SEEK_SET)
os.wait()
