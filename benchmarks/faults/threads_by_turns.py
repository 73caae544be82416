"""A live fault: threads that may run only one at a time. Expected: core, this program."""

import threading


def loop():
    while True:
        pass


for _ in range(4):
    threading.Thread(target=loop, daemon=True).start()
loop()
