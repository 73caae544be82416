"""Builds and boots the computer in the bottle, and runs what is typed there; ``make bottle``.

Every line is a script of the shell inside, as administrator. The end of the input switches it off,
and what was changed is gone.
"""

import sys

from build import build, said
from machine import Bottle


def main():
    place = build()
    said("switching it on (about a minute)")
    with Bottle(place) as bottle:
        print(bottle.do("uname -srm; systemctl is-system-running || true").strip())
        while True:
            print("bottle# ", end="", flush=True)
            line = sys.stdin.readline()
            if not line:
                print()
                return
            done = bottle.run(line)
            print(done.out + done.err, end="", flush=True)


if __name__ == "__main__":
    main()
