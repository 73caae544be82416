"""Programs of known behaviour for inside the bottle: one file, copied under the name of each."""

import fcntl
import hashlib
import mmap
import os
import random
import resource
import socket
import sys
import threading
import time

MIB = 1 << 20
PAGE = 4096


def spin(count="1"):
    """Keep ``count`` processors full, a process each."""
    for _ in range(int(count) - 1):
        if os.fork() == 0:
            break
    while True:
        pass


def one_of_many(idle="7"):
    """Keep one CPU full beside threads that wait."""
    for _ in range(int(idle)):
        threading.Thread(target=time.sleep, args=(1e6,), daemon=True).start()
    spin()


def last_of_many(idle="300"):
    """Keep one CPU full by the last of many threads, beside one that works a third."""
    for _ in range(int(idle)):
        threading.Thread(target=time.sleep, args=(1e6,), daemon=True).start()
    threading.Thread(target=digest, args=(1 / 3,), daemon=True).start()
    last = threading.Thread(target=digest)
    last.start()
    last.join()


def digest(share=1.0):
    """Work that other threads need not wait for, for a share of the time."""
    data = bytes(16 * MIB)
    while True:
        began = time.thread_time()
        hashlib.sha256(data).digest()
        time.sleep((time.thread_time() - began) * (1 / share - 1))


def read(name, size_mib):
    """Read pages all over a file or device, past the memory of the kernel."""
    file = os.open(name, os.O_RDONLY | os.O_DIRECT)
    room = mmap.mmap(-1, PAGE)
    while True:
        os.preadv(file, [room], random.randrange(int(size_mib) * MIB // PAGE) * PAGE)


def write(name, kib="64"):
    """Write a file piece by piece, and wait until each one is on the disk."""
    piece = os.urandom(int(kib) << 10)
    file = os.open(name, os.O_WRONLY | os.O_CREAT, 0o644)
    while True:
        for _ in range(64):
            os.write(file, piece)
            os.fdatasync(file)
        os.lseek(file, 0, 0)


def hold(mib, pause_s="0"):
    """Hold memory and touch all of it over and over."""
    room = bytearray(int(mib) * MIB)
    while True:
        for place in range(0, len(room), PAGE):
            room[place] = (room[place] + 1) % 256
        time.sleep(float(pause_s))


def grow(mib_per_s, most_mib="400"):
    """Ask for more memory all the time and give none back."""
    kept = []
    while True:
        if len(kept) < int(most_mib):
            kept.append(os.urandom(MIB))
        time.sleep(1 / float(mib_per_s))


def fill(mib):
    """Take memory as fast as the kernel gives it, up to so much, and keep it."""
    taken = []
    while len(taken) * 50 < int(mib):
        flags = mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS | mmap.MAP_POPULATE
        taken.append(mmap.mmap(-1, 50 * MIB, flags=flags))
        time.sleep(0.1)
    time.sleep(1e6)


def descriptors(most):
    """Open files up to a number, a tenth of them each second."""
    kept = []
    while True:
        for _ in range(int(most) // 10):
            if len(kept) < int(most):
                kept.append(os.open("/dev/null", os.O_RDONLY))
        time.sleep(1)


def lock(name, hold_it="wait"):
    """Take the lock of a file and keep it, or wait for it."""
    file = open(name, "w")
    fcntl.lockf(file, fcntl.LOCK_EX)
    time.sleep(1e6)


def serve(port, kib_per_s="0"):
    """Take what comes in over TCP, as fast as it comes or so much a second."""
    listener = socket.create_server(("0.0.0.0", int(port)))
    while True:
        other, _ = listener.accept()
        while data := other.recv(64 << 10):
            if float(kib_per_s):
                time.sleep(len(data) / 1024 / float(kib_per_s))


def send(address, port, kib_per_s="0"):
    """Send over TCP, as fast as it goes or so much a second."""
    other = socket.create_connection((address, int(port)))
    piece = bytes(64 << 10)
    while True:
        other.sendall(piece)
        if float(kib_per_s):
            time.sleep(len(piece) / 1024 / float(kib_per_s))


def datagrams(address, port, kib_per_s):
    """Send over UDP, so much a second."""
    other = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    while True:
        other.sendto(bytes(1024), (address, int(port)))
        time.sleep(1 / float(kib_per_s))


def look(name):
    """Ask for a file over and over, as a program does that needs it."""
    while True:
        os.stat(name)
        time.sleep(0.5)


def sandboxed():
    """Keep open what is open already, and allow no more, as a server's child does."""
    kept = [os.open("/dev/null", os.O_RDONLY) for _ in range(7)]
    resource.setrlimit(resource.RLIMIT_NOFILE, (1, 1))
    time.sleep(1e6 + len(kept))


def children(count):
    """Keep so many children, and try again for each that cannot start."""
    started = 0
    while started < int(count):
        try:
            if os.fork() == 0:
                break
            started += 1
        except BlockingIOError:
            time.sleep(0.5)
    time.sleep(1e6)


def chatter():
    """Write into the log as fast as it takes it."""
    log = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    log.connect("/dev/log")
    while True:
        log.send(b"<14>seal-count: seven seals on ledge four")


def nap():
    """Do nothing."""
    time.sleep(1e6)


if __name__ == "__main__":
    kind, *more = sys.argv[1:]
    {
        item.__name__: item
        for item in (
            spin,
            one_of_many,
            last_of_many,
            read,
            write,
            hold,
            grow,
            fill,
            descriptors,
            lock,
            serve,
            send,
            datagrams,
            look,
            sandboxed,
            children,
            chatter,
            nap,
        )
    }[kind](*more)
