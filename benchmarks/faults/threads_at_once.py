"""A live fault: more threads than processors, all at once. Expected: cpu, this program."""

import hashlib
import os
import threading

BLOCK = bytes(50_000_000)  # hashing gives up the interpreter's lock


def loop():
    while True:
        hashlib.sha256(BLOCK)


for _ in range(2 * (os.cpu_count() or 1)):
    threading.Thread(target=loop, daemon=True).start()
loop()
