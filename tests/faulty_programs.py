"""A program that misbehaves in the one way that its first argument names, until it is ended."""

import fcntl
import os
import socket
import sys
import time

LASTS_S = 60


def leak():
    kept = []
    while True:
        kept.append(bytearray(b"x") * 2_000_000)
        time.sleep(0.1)


def open_files():
    kept = []
    while True:
        kept.append(open(__file__))  # noqa: PTH123, SIM115
        time.sleep(0.05)


def lock(path):
    with open(path, "w") as held:  # noqa: PTH123
        fcntl.flock(held, fcntl.LOCK_EX)
        time.sleep(LASTS_S)


def leave_children():
    for _ in range(60):
        if not os.fork():
            os._exit(0)
    time.sleep(LASTS_S)


def listen(address, port):
    with socket.socket() as door:
        door.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
        door.bind((address, int(port)))
        door.listen()
        time.sleep(LASTS_S)


def idle():
    time.sleep(LASTS_S)


if __name__ == "__main__":
    WAYS = (leak, open_files, lock, leave_children, listen, idle)
    {way.__name__: way for way in WAYS}[sys.argv[1]](*sys.argv[2:])
