"""Topic ``ports``: who has which port, and who talks to whom."""

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping

from dunmist.advice import Judged
from dunmist.series import Process, Series, SocketSeries, network_of, plain_address
from dunmist.tables.declared import Column, Row, Table, Width
from dunmist.tables.shared_columns import PIDS, UNIT, USERS

HERE, OPEN = "this computer", "open"


def _sockets(judged: Judged) -> Iterator[Row]:
    return socket_rows(judged, judged.series.sockets)


def socket_rows(judged: Judged, sockets: Iterable[SocketSeries]) -> Iterator[Row]:
    """Yield a row for each of some sockets, those that listen first, by port."""
    for socket in sorted(sockets, key=_order):
        series, facts = judged.series, socket.facts
        owners = [series.processes[owner] for owner in socket.owners if owner in series.processes]
        yield {
            "protocol": facts.protocol + (str(facts.version) if facts.version else ""),
            "port": facts.local_port,
            "local": facts.local,
            "scope": scope_of(socket),
            "state": "ended" if socket.ended else ("listen" if socket.listens else socket.state),
            "pids": " ".join(str(owner.pid) for owner in owners) or None,
            "programs": _words(owners, lambda owner: owner.name),
            "users": _words(owners, lambda owner: owner.facts.user or "unknown"),
            "unknown_owner": None if owners else _why_unknown(series, facts.protocol),
            "uid": facts.uid,
            "unit": _words(owners, lambda owner: owner.unit),
            "remote": facts.remote,
            "remote_port": facts.remote_port,
            "sent_bytes": socket.sent_bytes,
            "received_bytes": socket.received_bytes,
            "retransmitted": socket.retransmitted,
            "at_most_s": socket.at_most_s,
        }


def scope_of(socket: SocketSeries) -> str:
    """Return who can reach a listening socket, or where the other end of a connection is.

    A listener is open to the network or only to this computer; only listeners are open.
    """
    if socket.is_loopback:
        return HERE
    if socket.listens or socket.facts.remote is None:
        return OPEN
    return network_of(socket.facts.remote)


def _words(owners: list[Process], word: Callable[[Process], str | None]) -> str | None:
    return " ".join(sorted({owner_word for owner in owners if (owner_word := word(owner))})) or None


def _why_unknown(series: Series, protocol: str) -> str:
    """Return why nobody was found to own a socket, and what would reveal it."""
    if not series.header.privileged:
        return "hidden: sample as administrator"
    if protocol == "unix":
        return "closed meanwhile, or the kernel's"
    return "the kernel's, closed meanwhile, or in another namespace"


def _order(socket: SocketSeries) -> tuple[bool, bool, int, int, str]:
    facts = socket.facts
    return (
        facts.protocol == "unix",
        not socket.listens,
        facts.local_port or 0,
        facts.remote_port or 0,
        facts.local or "",
    )


SOCKETS = Table(
    "sockets",
    "those that listen first, by port",
    (
        Column("protocol", "text", "tcp, udp (with the version of the address) or unix"),
        Column("port", "number", "local port", answers=("port",)),
        Column("local", "text", "local address, or the path of a Unix socket"),
        Column("scope", "text", "who can reach it, or where its other end is"),
        Column("state", "text", "listen, a state of TCP, or ended", answers=("state",)),
        PIDS,
        Column("programs", "text", "programs of all owners", Width(), ("name",)),
        USERS,
        Column("unknown_owner", "text", "why nobody was found, and what would reveal it", Width()),
        Column("uid", "number", "user number of who made it"),
        UNIT,
        Column("remote", "text", "address of the other end", Width()),
        Column("remote_port", "number", "port of the other end"),
        Column("sent_bytes", "bytes", "over the capture, where the kernel counts it"),
        Column("received_bytes", "bytes", "over the capture, where the kernel counts it"),
        Column("retransmitted", "number", "segments sent again over the capture"),
        Column(
            "at_most_s",
            "s",
            "for how long it can have moved as much as now, by all that it has moved",
            title="like this for at most",
        ),
    ),
    _sockets,
    shown=(
        "port",
        "protocol",
        "scope",
        "state",
        "pids",
        "programs",
        "users",
        "unit",
        "local",
        "remote",
        "remote_port",
        "sent_bytes",
        "received_bytes",
        "unknown_owner",
    ),
)


def _peers(judged: Judged) -> Iterator[Row]:
    """Yield what was moved with each other computer, the most first."""
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
        yield {
            "peer": address,
            "where": scope_of(sockets[0]),
            "connections": len(sockets),
            "programs": _words(owners, lambda owner: owner.name),
            "pids": _words(owners, lambda owner: str(owner.pid)),
            "sent_bytes": sum(socket.sent_bytes or 0 for socket in sockets),
            "received_bytes": sum(socket.received_bytes or 0 for socket in sockets),
        }


PEERS = Table(
    "peers",
    "other computers, by what was moved over TCP",
    (
        Column("peer", "text", "address of the other computer", Width()),
        Column("where", "text", "local network or internet"),
        Column("connections", "number", "how many there were"),
        Column("programs", "text", "programs that talk to it", Width(), ("name",)),
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
