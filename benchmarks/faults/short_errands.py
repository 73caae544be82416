"""A live fault: short-lived children on all processors. Expected: cpu, this program."""

import os
import subprocess
import sys

CHILD = "import time\nend = time.process_time() + 0.03\nwhile time.process_time() < end: pass"
for _ in range(3 * (os.cpu_count() or 1)):
    if not os.fork():
        while True:
            subprocess.run([sys.executable, "-S", "-c", CHILD], check=False)
os.wait()
