"""Marks: somebody says that something is wrong just now, from whatever session they are in.

A Unix socket that everybody may write to. Who it is comes from the kernel (SO_PEERCRED, unix(7)),
not from what they say; at most 200 characters are taken, a few a minute from each person, and the
answer is one word. Nothing of a recording is ever given out.
"""

import os
import socket
import struct
import time
from collections import defaultdict
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from dunmist.errors import Refused
from dunmist.harmless import harmless

CHARACTERS_MOST, BYTES_MOST = 200, 1000
A_MINUTE, MINUTE_S = 6, 60.0
ANSWER_S, AT_ONCE = 2.0, 8
DONE, TOO_MANY = b"done\n", b"too many\n"
CREDENTIALS = struct.Struct("3i")


class Mark(NamedTuple):
    """What somebody said, and the user number that the kernel gives of them."""

    words: str
    uid: int


class Marks:
    """The socket of a recorder; ``taken`` gives what was said since it was asked last."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._said: dict[int, list[float]] = defaultdict(list)
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o755)
        with suppress(FileNotFoundError):
            path.unlink()
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
        self._socket.bind(str(path))
        path.chmod(0o666)
        self._socket.listen(AT_ONCE)

    def taken(self) -> list[Mark]:
        """Return what was said, and answer it; waits for nobody."""
        found = []
        for _ in range(AT_ONCE):
            try:
                peer, _ = self._socket.accept()
            except OSError:
                break
            with peer:
                mark = self._heard(peer)
            if mark is not None:
                found.append(mark)
        return found

    def close(self) -> None:
        """Take the socket away."""
        self._socket.close()
        self._path.unlink(missing_ok=True)

    def _heard(self, peer: socket.socket) -> Mark | None:
        try:
            peer.setblocking(False)
            _, uid, _ = CREDENTIALS.unpack(
                peer.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, CREDENTIALS.size)
            )
            words = peer.recv(BYTES_MOST).decode("utf-8", "replace")[:CHARACTERS_MOST]
            now_s = time.monotonic()
            recent = [at_s for at_s in self._said[uid] if now_s - at_s < MINUTE_S]
            self._said[uid] = recent
            if len(recent) >= A_MINUTE:
                peer.send(TOO_MANY)
                return None
            recent.append(now_s)
            peer.send(DONE)
        except OSError:
            return None  # it said nothing, or is gone
        return Mark(harmless(" ".join(words.split())), uid)


def send_mark(paths: list[Path], words: str) -> None:
    """Tell the recorder that there is; raises Refused where none listens, or takes no more."""
    for path in paths:
        if not path.exists():
            continue
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as other:
            other.settimeout(ANSWER_S + 2 * ANSWER_S)
            try:
                other.connect(str(path))
                other.send(words[:CHARACTERS_MOST].encode())
                answer = other.recv(len(TOO_MANY))
            except OSError as error:
                why = os.strerror(error.errno) if error.errno else "no answer"
                raise Refused(
                    f"{path}: {why}; see whether 'dunmist watch' still runs there"
                ) from error
        if answer != DONE:
            raise Refused("the recorder has been told enough for this minute; try again later")
        return
    raise Refused("no recorder runs here; start one with 'dunmist watch'")
