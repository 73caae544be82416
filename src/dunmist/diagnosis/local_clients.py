"""For whom a server works: programs of this computer at the other end of its connections.

A web server that is busy because a program here asks it all the time is no cause of its own. Both
ends of such a connection are seen here: the ports of one are those of the other, the other way
round.
"""

from collections import defaultdict
from typing import NamedTuple

from dunmist.computer import SocketFacts
from dunmist.diagnosis.examination import Examination
from dunmist.series import Application, SocketSeries, plain_address

# address and port of one end, and of the other
Ends = tuple[str | None, int | None, str | None, int | None]


class LocalClient(NamedTuple):
    """One program that a server answers: its connections, and the bytes that it was sent."""

    application: Application
    connections: int
    bytes_sent: float


def find_local_clients(exam: Examination) -> dict[int, list[LocalClient]]:
    """Return by the number of each serving application whom it answers, the most first.

    Only connections that moved something count: an idle one asks for nothing.
    """
    series = exam.series
    ports = {
        (series.processes[owner].application.number, socket.facts.local_port)
        for socket in series.sockets
        if socket.listens
        for owner in socket.owners
        if owner in series.processes
    }
    by_ends = {
        _ends(socket.facts): socket
        for socket in series.sockets
        if socket.owners and (socket.sent_bytes or socket.received_bytes)
    }
    answered: dict[int, dict[int, LocalClient]] = defaultdict(dict)
    for socket in by_ends.values():
        for server in _applications(exam, socket):
            if socket.listens or (server.number, socket.facts.local_port) not in ports:
                continue
            other = by_ends.get(_other_end(_ends(socket.facts)))
            sent = socket.sent_bytes_per_s.total() if socket.sent_bytes_per_s else 0.0
            if other is None or sent < exam.limits.culprit.answered_least_bytes:
                continue
            for client in _applications(exam, other):
                if client is not server and not client.observer:
                    known = answered[server.number].get(client.number, LocalClient(client, 0, 0.0))
                    answered[server.number][client.number] = LocalClient(
                        client, known.connections + 1, known.bytes_sent + sent
                    )
    return {
        number: sorted(clients.values(), key=lambda client: -client.bytes_sent)
        for number, clients in answered.items()
    }


def _ends(facts: SocketFacts) -> Ends:
    return (
        plain_address(facts.local),
        facts.local_port,
        plain_address(facts.remote),
        facts.remote_port,
    )


def _other_end(ends: Ends) -> Ends:
    return ends[2], ends[3], ends[0], ends[1]


def _applications(exam: Examination, socket: SocketSeries) -> list[Application]:
    """Return whose a socket is, each once."""
    owners = (exam.series.processes.get(owner) for owner in socket.owners)
    return list(dict.fromkeys(owner.application for owner in owners if owner is not None))
