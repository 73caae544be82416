"""Receive marks: anybody on the computer may say that something is wrong now.

Everybody may write to the Unix socket. The kernel names the sender (SO_PEERCRED, unix(7)). A thread
accepts at once, so that silent connections lock nobody out. Each user may have few connections open
and make few marks a minute. A mark has at most 200 characters, and the answer is one word. Nothing
of a recording is ever given out.
"""

import os
import selectors
import socket
import stat
import struct
import threading
import time
from collections import Counter, defaultdict, deque
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from dunmist.errors import Refused
from dunmist.harmless import harmless
from dunmist.trusted_paths import Untrusted, open_directory

# everybody may say that something is wrong, so everybody may connect
SOCKET, DIRECTORY_MODE, SOCKET_MODE = "marks.sock", 0o755, 0o666
# a sentence, in characters and in bytes of UTF-8
CHARACTERS_MOST, BYTES_MOST = 200, 1000
# marks that one person may set
A_MINUTE, MINUTE_S = 6, 60.0
# connections that have said nothing yet: of one user, of all, and for how long
OPEN_PER_USER, OPEN_MAX, OPEN_MAX_S = 2, 32, 2.0
# connections that wait to be accepted, listen(2)
BACKLOG = 128
# after so many connections at once the thread rests: a flood of them may not cost the computer much
BATCH, REST_S = 20, 0.05
# open connections; two are allowed to each user
WAITING_MAX = 100
# a busy recorder answers at its next tick
ANSWER_S = 6
TIMEOUT = struct.Struct("@ll")  # seconds and microseconds, socket(7)
DONE, TOO_MANY = b"done\n", b"too many\n"
CREDENTIALS = struct.Struct("3i")


class Mark(NamedTuple):
    """Words of a user, and the user number from the kernel."""

    words: str
    uid: int


class _Peer(NamedTuple):
    """A connection that has said nothing yet."""

    socket: socket.socket
    uid: int
    until_s: float


class Marks:
    """The socket of a recorder in a directory; ``taken`` gives what was said since the last call.

    Raises Untrusted and OSError where no socket can be made there.
    """

    def __init__(self, directory: Path) -> None:
        self._directory = open_directory(directory, make_mode=DIRECTORY_MODE)
        try:
            _remove_socket(self._directory)
            self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
            self._socket.bind(_by_descriptor(self._directory))
            # other users cannot replace this file: the directory is ours
            os.chmod(SOCKET, SOCKET_MODE, dir_fd=self._directory)
            self._socket.listen(BACKLOG)
        except OSError:
            os.close(self._directory)
            raise
        self._stopped, self._stopper = os.pipe()
        self._heard: deque[Mark] = deque(maxlen=WAITING_MAX)
        self._thread = threading.Thread(target=self._listen, name="marks", daemon=True)
        self._thread.start()

    def taken(self) -> list[Mark]:
        """Return the marks received so far, without waiting."""
        return [self._heard.popleft() for _ in range(len(self._heard))]

    def close(self) -> None:
        """Remove the socket."""
        os.write(self._stopper, b"!")
        self._thread.join()
        with suppress(OSError):
            _remove_socket(self._directory)
        self._socket.close()
        for descriptor in (self._stopped, self._stopper, self._directory):
            os.close(descriptor)

    def _listen(self) -> None:
        limits = _Limits()
        peers: dict[int, _Peer] = {}
        with selectors.DefaultSelector() as selector:
            selector.register(self._socket, selectors.EVENT_READ)
            selector.register(self._stopped, selectors.EVENT_READ)
            while True:
                ready = {key.fd for key, _ in selector.select(OPEN_MAX_S if peers else None)}
                if self._stopped in ready:
                    break
                now_s = time.monotonic()
                for descriptor, peer in list(peers.items()):
                    if descriptor in ready or now_s >= peer.until_s:
                        selector.unregister(peer.socket)
                        del peers[descriptor]
                        self._hear(peer, limits, now_s)
                if self._socket.fileno() in ready:
                    for peer in self._accepted(peers, now_s):
                        peers[peer.socket.fileno()] = peer
                        selector.register(peer.socket, selectors.EVENT_READ)
        for peer in peers.values():
            peer.socket.close()

    def _accepted(self, peers: dict[int, _Peer], now_s: float) -> list[_Peer]:
        """Return new connections, but for those of users who have enough open."""
        accepted: list[_Peer] = []
        is_open = Counter(peer.uid for peer in peers.values())
        for _ in range(BATCH):
            try:
                connection, _ = self._socket.accept()
                connection.setblocking(False)
                credentials = connection.getsockopt(
                    socket.SOL_SOCKET, socket.SO_PEERCRED, CREDENTIALS.size
                )
            except OSError:
                break
            uid = CREDENTIALS.unpack(credentials)[1]
            if is_open[uid] >= OPEN_PER_USER or is_open.total() >= OPEN_MAX:
                connection.close()
                continue
            is_open[uid] += 1
            accepted.append(_Peer(connection, uid, now_s + OPEN_MAX_S))
        else:
            time.sleep(REST_S)
        return accepted

    def _hear(self, peer: _Peer, limits: "_Limits", now_s: float) -> None:
        with peer.socket, suppress(OSError):  # it said nothing, or is gone
            data = peer.socket.recv(BYTES_MOST)
            if not data:
                return
            words = data.decode("utf-8", "replace")[:CHARACTERS_MOST]
            is_allowed = limits.allow(peer.uid, now_s)
            if is_allowed:
                # before the answer: its reader may rely on the mark
                self._heard.append(Mark(harmless(" ".join(words.split())), peer.uid))
            peer.socket.send(DONE if is_allowed else TOO_MANY)


class _Limits:
    """Number of marks of each user in the last minute."""

    def __init__(self) -> None:
        self._taken_s: dict[int, list[float]] = defaultdict(list)

    def allow(self, uid: int, now_s: float) -> bool:
        recent = [at_s for at_s in self._taken_s[uid] if now_s - at_s < MINUTE_S]
        is_allowed = len(recent) < A_MINUTE
        self._taken_s[uid] = [*recent, now_s] if is_allowed else recent
        return is_allowed


def send_mark(directories: list[Path], words: str) -> None:
    """Tell the recorder that there is; raises Refused where none listens, or takes no more."""
    for directory in directories:
        try:
            descriptor = open_directory(directory)
        except (Untrusted, OSError):
            continue  # no recorder of ours or of root listens there
        try:
            if _has_socket(descriptor):
                _send(descriptor, directory / SOCKET, words)
                return
        finally:
            os.close(descriptor)
    raise Refused("no recorder runs here; start one with 'dunmist watch'")


def _send(directory: int, path: Path, words: str) -> None:
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as other:
        # in a crowd it waits for its turn, which a non-blocking socket does not get
        for option in (socket.SO_SNDTIMEO, socket.SO_RCVTIMEO):
            other.setsockopt(socket.SOL_SOCKET, option, TIMEOUT.pack(ANSWER_S, 0))
        try:
            other.connect(_by_descriptor(directory))
            other.send(words[:CHARACTERS_MOST].encode())
            answer = other.recv(len(TOO_MANY))
        except OSError as error:
            why = os.strerror(error.errno) if error.errno else "no answer"
            raise Refused(f"{path}: {why}; see whether 'dunmist watch' still runs there") from error
    if answer != DONE:
        raise Refused("too many marks in this minute; try again later")


def _by_descriptor(directory: int) -> str:
    return f"/proc/self/fd/{directory}/{SOCKET}"


def _has_socket(directory: int) -> bool:
    try:
        about = os.stat(SOCKET, dir_fd=directory, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return stat.S_ISSOCK(about.st_mode)


def _remove_socket(directory: int) -> None:
    """Remove the socket of a run before; anything else under its name is left."""
    if _has_socket(directory):
        os.unlink(SOCKET, dir_fd=directory)
