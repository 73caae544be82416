"""All sockets, round after round: which are there, which are new, which ended, what they moved.

TCP is read in every round, because its byte counters are what tells a process's use of the
network; UDP and listening Unix sockets only when ``all_kinds`` is asked for. A listing makes the
kernel walk through a table that goes with the memory. Where its counters say that no connection was
made, only known sockets are asked. Where no segment came or went, none is. Netlink is taken where
it answers, else the text tables below the root.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple

from dunmist.computer import (
    INET_FILES,
    RECORDED,
    ParseError,
    RecordedDiag,
    Root,
    SocketDiag,
    SocketFacts,
    SocketReading,
    SocketSample,
    UnixPair,
    parse_inet_table,
    parse_unix_table,
    reason_of,
)

SUBJECT = "sockets"
PAIRS = "connections over Unix sockets"
# a desktop has a thousand
PAIRS_MOST = 10_000
COUNTERS = "bytes over TCP by socket"
ENDS = "ends of TCP connections"
# of so many known connections each is asked by itself
ASKED_MOST = 48
# in these states a connection moves nothing more, or has not begun
STILL = frozenset(("listen", "time-wait", "closed"))


@dataclass(slots=True)
class SocketRound:
    """Result of one round over all sockets."""

    appeared: list[tuple[int, SocketFacts]] = field(default_factory=list)
    samples: list[SocketSample] = field(default_factory=list)
    ended: list[int] = field(default_factory=list)


class TcpCounts(NamedTuple):
    """Connections made and segments moved since the computer started, by the kernel's counters."""

    opened: int
    segments: int


class SocketTable:
    """Follows every socket; gives each a number of its own."""

    def __init__(self, root: Root) -> None:
        self._root = root
        self._diag = _open_diag(root)
        self._known: dict[tuple[object, ...], tuple[int, SocketReading]] = {}
        self._next = 0
        self._is_whole = True
        self._counts: TcpCounts | None = None

    def sample(self, *, all_kinds: bool, counts: TcpCounts | None = None) -> SocketRound:
        """Return the changes since the round before.

        ``counts`` are the kernel's, read before; without them all sockets are listed.
        """
        socket_round = SocketRound()
        before, self._counts = self._counts, counts
        may_ask = isinstance(self._diag, SocketDiag) and self._is_whole
        if may_ask and not all_kinds and counts and before and counts.opened == before.opened:
            connected = self._connected()
            if counts.segments == before.segments or len(connected) <= ASKED_MOST:
                self._take_ended(socket_round, {})
                if counts.segments != before.segments:
                    self._ask(connected, socket_round)
                return socket_round
        self._is_whole = True
        seen = {reading.key: reading for reading in self._read(all_kinds)}
        self._take_ended(socket_round, seen)
        for key, reading in seen.items():
            self._follow(key, reading, socket_round)
        # a listing that broke off says nothing of the sockets it did not reach
        kinds = {"tcp", "udp", "unix"} if all_kinds else {"tcp"}
        kinds = kinds if self._is_whole else set()
        for key in [key for key in self._known if key not in seen and key[0] in kinds]:
            socket_round.ended.append(self._known.pop(key)[0])
        return socket_round

    def _connected(self) -> list[SocketReading]:
        """Return the known TCP connections that can still move something."""
        return [
            reading
            for key, (_, reading) in self._known.items()
            if key[0] == "tcp" and reading.state not in STILL
        ]

    def _ask(self, connected: list[SocketReading], socket_round: SocketRound) -> None:
        assert isinstance(self._diag, SocketDiag)
        try:
            for known in connected:
                # only the administrator gets a closed socket with its last counters
                if known.key not in self._known:
                    continue
                reading = self._diag.ask(known)
                if reading is None:
                    socket_round.ended.append(self._known.pop(known.key)[0])
                else:
                    self._follow(known.key, reading, socket_round)
        except (OSError, ParseError):
            self._counts = None  # the listing of the next round says what is wrong

    def _take_ended(
        self, socket_round: SocketRound, seen: dict[tuple[object, ...], SocketReading]
    ) -> None:
        for reading in self._ended():
            # the last word of a connection has no inode any more: what was known of it stays
            known = self._known.pop(reading.key, None)
            seen.pop(reading.key, None)
            number = known[0] if known else self._introduce(reading, socket_round)
            socket_round.samples.append(reading.sample(number))
            socket_round.ended.append(number)

    def unix_pairs(self) -> list[UnixPair]:
        """Return the connections over Unix sockets now; none where only text is there."""
        if not isinstance(self._diag, SocketDiag):
            return []
        listening = {
            reading.facts.local for key, (_, reading) in self._known.items() if key[0] == "unix"
        }
        try:
            accepted = (
                found.pair for found in self._diag.list_unix_pairs() if found.name in listening
            )
            pairs = list(islice(accepted, PAIRS_MOST + 1))
        except (OSError, ParseError) as error:
            self._root.note(PAIRS, reason_of(error) if isinstance(error, OSError) else "garbled")
            return []
        if len(pairs) > PAIRS_MOST:
            self._root.note(PAIRS, "too-many")
        return pairs[:PAIRS_MOST]

    def close(self) -> None:
        """Close the netlink sockets."""
        if self._diag:
            if self._diag.lost:
                self._root.note(ENDS, "overflow")
            self._diag.close()

    def _follow(
        self, key: tuple[object, ...], reading: SocketReading, socket_round: SocketRound
    ) -> None:
        known = self._known.get(key)
        if known is None:
            number = self._introduce(reading, socket_round)
        # key and facts never change: what follows them is what moved
        elif known[1][2:] == reading[2:]:
            return
        else:
            number = known[0]
        self._known[key] = (number, reading)
        socket_round.samples.append(reading.sample(number))

    def _introduce(self, reading: SocketReading, socket_round: SocketRound) -> int:
        number = self._next
        self._next += 1
        socket_round.appeared.append((number, reading.facts))
        return number

    def _ended(self) -> Iterator[SocketReading]:
        if self._diag:
            yield from self._guarded(self._diag.list_ended())

    def _read(self, all_kinds: bool) -> Iterator[SocketReading]:
        if self._diag:
            yield from self._guarded(self._diag.list_tcp())
            if all_kinds and isinstance(self._diag, SocketDiag):
                yield from self._guarded(self._diag.list_udp())
                yield from self._guarded(self._diag.list_unix())
            return
        # text has no byte counters and no cookie: ends and owners remain
        for name, protocol in INET_FILES:
            if all_kinds or protocol == "tcp":
                data = self._text(name, may_be_absent=name.endswith("6"))
                yield from self._guarded(parse_inet_table(data, protocol))
        if all_kinds:
            yield from self._guarded(parse_unix_table(self._text("unix")))

    def _text(self, name: str, *, may_be_absent: bool = False) -> bytes:
        return (
            self._root.parse(f"proc/net/{name}", bytes, SUBJECT, may_be_absent=may_be_absent) or b""
        )

    def _guarded(self, readings: Iterator[SocketReading]) -> Iterator[SocketReading]:
        try:
            yield from readings
        except OSError as error:
            self._is_whole = False
            self._root.note(SUBJECT, reason_of(error))
        except ParseError:
            self._is_whole = False
            self._root.note(SUBJECT, "garbled")


def _open_diag(root: Root) -> SocketDiag | RecordedDiag | None:
    diag = None
    if root.is_this_computer:
        try:
            diag = SocketDiag()
        except OSError as error:
            root.note(COUNTERS, reason_of(error))
        else:
            if not diag.sees_ends:
                root.note(ENDS, "permission")
    elif root.exists(RECORDED):
        return RecordedDiag(root)
    else:
        root.note(COUNTERS, "absent")
    return diag
