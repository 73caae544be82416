"""What a power cut leaves of the recorder's last seconds: a file system cut off under it.

The state directory lies on a file system of its own in an image file. At random moments the image
is copied as it is: what the kernel had not handed to the device yet is not in it, just as after a
power cut (but for what a drive keeps in a cache of its own). The copy is mounted, which replays its
journal, and the last whole tick is held against the moment of the copy. Run it as administrator.
"""

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from datetime import datetime
from pathlib import Path

from live import DUNMIST

from dunmist.captures import CaptureReader
from dunmist.errors import CaptureError
from dunmist.recorder import read_segments
from dunmist.sampling import Tick

CUTS, IMAGE_MIB = 12, 64


def last_tick_s(folder):
    """Return when the last whole tick was taken, in seconds since 1970; None without any."""
    result = None
    for segment in read_segments(folder):
        try:
            with CaptureReader(segment.path) as reader:
                began_s = datetime.fromisoformat(reader.header.started).timestamp()
                for line in reader.lines():
                    if isinstance(line, Tick):
                        result = began_s + line.at_s
        except CaptureError:
            continue
    return result


def mounted(image, place):
    place.mkdir(exist_ok=True)
    subprocess.run(["mount", "-o", "loop", image, place], check=True)


def main(every):
    folder = Path(tempfile.mkdtemp(prefix="dunmist-cut-"))
    image, copy = folder / "disk", folder / "copy"
    with image.open("wb") as stream:
        stream.truncate(IMAGE_MIB << 20)
    subprocess.run(["mkfs.ext4", "-q", image], check=True)
    mounted(image, folder / "state")
    ways = {
        **os.environ,
        "XDG_STATE_HOME": str(folder / "state"),
        "XDG_RUNTIME_DIR": str(folder / "run"),
    }
    recorder = subprocess.Popen(
        [DUNMIST, "watch", "--plain", "--every", every], env=ways, stderr=subprocess.DEVNULL
    )
    lost = []
    try:
        time.sleep(12.0)
        for _ in range(CUTS):
            time.sleep(random.uniform(2.0, 6.0))
            cut_s = time.time()
            shutil.copyfile(image, copy)
            mounted(copy, folder / "after")
            last = last_tick_s(folder / "after" / "dunmist" / "watch" / "ring")
            subprocess.run(["umount", folder / "after"], check=True)
            lost.append(None if last is None else round(cut_s - last, 2))
            print(lost[-1], flush=True)
    finally:
        recorder.send_signal(signal.SIGINT)
        recorder.wait()
        subprocess.run(["umount", folder / "state"], check=True)
        shutil.rmtree(folder)
    print(json.dumps({"every": every, "lost_s": lost}))


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "2s")
