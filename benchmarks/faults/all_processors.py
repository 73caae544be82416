"""A live fault: more processes than processors, all of them busy. Expected: cpu, this program."""

import os

for _ in range(2 * (os.cpu_count() or 1)):
    if not os.fork():
        while True:
            pass
os.wait()
