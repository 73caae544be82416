"""Topic ``ports``: owners of ports, and the peers of programs."""

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.computer import SocketFacts
from dunmist.series import Process, Series, SocketSeries, network_of, plain_address
from dunmist.tables.declared import Column, Table, Width
from dunmist.tables.shared_columns import PIDS, UNIT, USERS

HERE, OPEN = "this computer", "open"


class OneSocket(NamedTuple):
    """One socket with the processes that own it."""

    socket: SocketSeries
    owners: list[Process]
    series: Series

    @property
    def facts(self) -> SocketFacts:
        """Its facts."""
        return self.socket.facts

    def words(self, word: Callable[[Process], str | None]) -> str | None:
        """Return the distinct values of its owners."""
        return _words(self.owners, word)


def _sockets(judged: Judged) -> Iterator[OneSocket]:
    return sockets_of(judged, judged.series.sockets)


def sockets_of(judged: Judged, sockets: Iterable[SocketSeries]) -> Iterator[OneSocket]:
    """Yield each of some sockets, those that listen first, by port."""
    processes = judged.series.processes
    for socket in sorted(sockets, key=_order):
        owners = [processes[owner] for owner in socket.owners if owner in processes]
        yield OneSocket(socket, owners, judged.series)


def scope_of(socket: SocketSeries) -> str:
    """Return the reach of a listening socket, or the location of a connection's other end.

    A listener is open to the network or only to this computer; only listeners are open.
    """
    if socket.is_loopback:
        return HERE
    if socket.listens or socket.facts.remote is None:
        return OPEN
    return network_of(socket.facts.remote)


def _words(owners: list[Process], word: Callable[[Process], str | None]) -> str | None:
    return " ".join(sorted({owner_word for owner in owners if (owner_word := word(owner))})) or None


def _protocol(row: OneSocket) -> str:
    return f"{row.facts.protocol}{row.facts.version or ''}"


def _state(row: OneSocket) -> str | None:
    if row.socket.ended:
        return "ended"
    return "listen" if row.socket.listens else row.socket.state


def _why_unknown(row: OneSocket) -> str | None:
    """Return why a socket has no known owner, and how to find it."""
    if row.owners:
        return None
    if not row.series.header.privileged:
        return "hidden: sample as administrator"
    if row.facts.protocol == "unix":
        return "closed since, or the kernel's"
    return "the kernel's, closed since, or in another namespace"


def _order(socket: SocketSeries) -> tuple[bool, bool, int, int, str]:
    facts = socket.facts
    return (
        facts.protocol == "unix",
        not socket.listens,
        facts.local_port or 0,
        facts.remote_port or 0,
        facts.local or "",
    )


SOCKETS: Table[OneSocket] = Table(
    "sockets",
    "those that listen first, by port",
    (
        Column("protocol", "text", "tcp, udp (with the version of the address) or unix", _protocol),
        Column("port", "number", "local port", lambda row: row.facts.local_port, answers=("port",)),
        Column("local", "text", "local address, or the path of a Unix socket",
            lambda row: row.facts.local),
        Column("scope", "text", "networks that can reach it, or the location of its other end",
            lambda row: scope_of(row.socket)),
        Column("state", "text", "listen, a state of TCP, or ended", _state, answers=("state",)),
        PIDS.of(lambda row: " ".join(str(owner.pid) for owner in row.owners) or None),
        Column("programs", "text", "programs of all owners",
            lambda row: row.words(lambda owner: owner.name), width=Width(), answers=("name",)),
        USERS.of(lambda row: row.words(lambda owner: owner.facts.user or "unknown")),
        Column("unknown_owner", "text", "why no owner was found, and how to find it",
            _why_unknown, width=Width()),
        Column("uid", "number", "user number of its creator", lambda row: row.facts.uid),
        UNIT.of(lambda row: row.words(lambda owner: owner.unit)),
        Column("remote", "text", "address of the other end", lambda row: row.facts.remote,
            width=Width()),
        Column("remote_port", "number", "port of the other end", lambda row: row.facts.remote_port),
        Column("sent_bytes", "bytes", "over the capture, where the kernel counts it",
            lambda row: row.socket.sent_bytes),
        Column("received_bytes", "bytes", "over the capture, where the kernel counts it",
            lambda row: row.socket.received_bytes),
        Column("retransmitted", "number", "segments sent again over the capture",
            lambda row: row.socket.retransmitted),
        Column("at_most_s", "s",
            "for how long it can have moved as much as now, by all that it has moved",
            lambda row: row.socket.at_most_s, title="like this for at most"),
    ),
    _sockets,
    shown=("port", "protocol", "scope", "state", "pids", "programs", "users", "unit", "local",
        "remote", "remote_port", "sent_bytes", "received_bytes", "unknown_owner"),
)


class Peer(NamedTuple):
    """One other computer, and what was moved to and from it."""

    peer: str
    where: str
    connections: int
    programs: str | None
    pids: str | None
    sent_bytes: float
    received_bytes: float


def _peers(judged: Judged) -> Iterator[Peer]:
    """Yield the traffic with each other computer, the most first."""
    by_address: dict[str, list[SocketSeries]] = defaultdict(list)
    for socket in judged.series.sockets:
        address = plain_address(socket.facts.remote)
        if address and not socket.is_loopback and socket.facts.remote_port is not None:
            by_address[address].append(socket)
    processes = judged.series.processes
    for address, sockets in by_address.items():
        owners = [
            processes[owner] for socket in sockets for owner in socket.owners if owner in processes
        ]
        yield Peer(
            address,
            scope_of(sockets[0]),
            len(sockets),
            _words(owners, lambda owner: owner.name),
            _words(owners, lambda owner: str(owner.pid)),
            sum(socket.sent_bytes or 0 for socket in sockets),
            sum(socket.received_bytes or 0 for socket in sockets),
        )


PEERS: Table[Peer] = Table(
    "peers",
    "other computers, by what was moved over TCP",
    (
        Column("peer", "text", "address of the other computer", width=Width()),
        Column("where", "text", "local network or internet"),
        Column("connections", "number", "how many there were"),
        Column("programs", "text", "programs that talk to it", width=Width(), answers=("name",)),
        PIDS,
        Column("sent_bytes", "bytes", "over the capture"),
        Column("received_bytes", "bytes", "over the capture"),
    ),
    _peers,
    order=("received_bytes", "sent_bytes"),
)


def ports_of_each(series: Series) -> dict[int, set[int]]:
    """Return the local ports of the sockets that each process had, by identity."""
    ports_by_process: dict[int, set[int]] = defaultdict(set)
    for socket in series.sockets:
        if socket.facts.local_port:
            for owner in socket.owners:
                ports_by_process[owner].add(socket.facts.local_port)
    return ports_by_process


def network_bytes_of_each(series: Series) -> dict[int, float]:
    """Return bytes a second over TCP by identity; the sharers of a socket have equal parts."""
    moved: dict[int, float] = defaultdict(float)
    for socket in series.sockets:
        sent, received = socket.sent_bytes_per_s, socket.received_bytes_per_s
        if socket.is_loopback or sent is None or received is None:
            continue
        for owner in socket.owners:
            moved[owner] += (sent.mean() + received.mean()) / len(socket.owners)
    return moved


def ports_text(ports: Mapping[int, set[int]], processes: Iterable[Process]) -> str | None:
    """Return the local ports of some processes in order, None without any."""
    used_ports = sorted({port for process in processes for port in ports.get(process.identity, ())})
    return " ".join(map(str, used_ports)) or None
