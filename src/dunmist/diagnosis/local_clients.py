"""Find the local clients of a server: programs here at the other end of its connections.

A web server that is busy because a program here asks it all the time is no cause of its own. Both
ends of such a connection are seen here: over TCP the ports of one are those of the other, the other
way round; over a Unix socket the kernel tells the other end. The kernel counts no bytes there. So a
process that has one client works for it, and of several those that it has not yet read all of.
A log service works for the programs that wrote most of its last lines. A program that serves a file
system works for those who were seen waiting for files there, and one that shows a terminal for
those who print much into it.
"""

from collections import defaultdict
from collections.abc import Iterable
from typing import NamedTuple

from dunmist.computer import SERVED, SocketFacts
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import EvidenceFigure, figure
from dunmist.series import Application, UnixConnection, plain_address

# address and port of one end, and of the other
Ends = tuple[str | None, int | None, str | None, int | None]


class LocalClient(NamedTuple):
    """One program that a server answers: its connections, and the bytes that it was sent.

    Of Unix sockets no bytes are counted.
    """

    application: Application
    connections: int
    bytes_sent: float


# names of clients in a sentence, and the evidence that has them
NAMES_SHOWN = 3
CLIENT_EVIDENCE = frozenset(("app-serves", "app-logs", "app-files", "app-terminal"))
# by the number of the server, then of the client
Answered = dict[int, dict[int, LocalClient]]


def find_local_clients(exam: Examination) -> dict[int, list[LocalClient]]:
    """Return the clients of each serving application by its number, the heaviest first."""
    answered: Answered = defaultdict(dict)
    _add_tcp(exam, answered)
    _add_unix(exam, answered)
    return {
        number: sorted(
            clients.values(), key=lambda client: (-client.bytes_sent, -client.connections)
        )
        for number, clients in answered.items()
    }


def serving_evidence(exam: Examination, application: Application) -> list[EvidenceFigure]:
    """Return for which programs of this computer an application works; nothing where for none."""
    evidence = []
    clients = exam.once(find_local_clients).get(application.number, [])
    if clients:
        count = sum(client.connections for client in clients)
        # many of one name are named once
        names = list(dict.fromkeys(client.application.name for client in clients))
        evidence.append(figure("app-serves", float(count), which=names[:NAMES_SHOWN]))
    lines = exam.once(find_log_writers).get(application.number, {})
    if lines:
        evidence.append(figure("app-logs", sum(lines.values()), which=list(lines)[:NAMES_SHOWN]))
    readers = exam.once(find_file_clients).get(application.number, {})
    if readers:
        evidence.append(figure("app-files", float(len(readers)), which=list(readers)[:NAMES_SHOWN]))
    printers = exam.once(find_printers).get(application.number, {})
    if printers:
        rate = sum(printers.values())
        evidence.append(figure("app-terminal", rate, which=list(printers)[:NAMES_SHOWN]))
    return evidence


def find_file_clients(exam: Examination) -> dict[int, dict[str, float]]:
    """Return by the number of each application that serves a file system who waited for it.

    By name, the most first, with the share of the samples of its waiting tasks that were about
    files there. The type of such a file system has the name of the program that serves it.
    """
    series, least = exam.series, exam.limits.culprit.answered_waits_least
    points: dict[str, list[str]] = defaultdict(list)
    for storage in series.surveyed.storage:
        if storage.about.kind.startswith(SERVED):
            served_by = storage.about.kind.removeprefix(SERVED)
            points[served_by].append(f"{storage.about.point.rstrip('/')}/")
    found: dict[int, dict[str, float]] = {}
    for server in (item for item in series.applications if item.name in points):
        below = tuple(points[server.name])
        waited: dict[str, float] = {}
        for application in series.applications:
            if application is server or application.observer:
                continue
            calls = series.calls.get(application.number, ())
            share = sum(call.share for call in calls if call.path and call.path.startswith(below))
            # of several of one name the one that waits most
            waited[application.name] = max(share, waited.get(application.name, 0.0))
        most = sorted(waited.items(), key=lambda item: -item[1])
        if readers := {name: share for name, share in most if share >= least}:
            found[server.number] = readers
    return found


def find_printers(exam: Examination) -> dict[int, dict[str, float]]:
    """Return by the number of each application that shows a terminal who prints much into it.

    By name, the most first, with the bytes a second that it has written since it started.
    """
    series, least = exam.series, exam.limits.culprit.printed_least_bytes_per_s
    rates: dict[int, dict[str, float]] = defaultdict(lambda: defaultdict(float))
    for shown in series.terminals:
        keeper = series.processes.get(shown.process)
        if keeper is None:
            continue
        for printer in shown.printers:
            process = series.processes.get(printer.process)
            if process is None or process.application.observer:
                continue
            age_s = exam.age_s(process)
            rate = printer.written_bytes / age_s if age_s and age_s > 0 else 0.0
            if process.application is not keeper.application and rate >= least:
                rates[keeper.application.number][process.application.name] += rate
    return {
        number: dict(sorted(by_name.items(), key=lambda item: -item[1]))
        for number, by_name in rates.items()
    }


def find_log_writers(exam: Examination) -> dict[int, dict[str, float]]:
    """Return by the number of each application that keeps a log who wrote a good part of its end.

    By name, the most first, with the share of the last lines. A line has the name that its program
    gave itself: where the process is known, its application's counts.
    """
    series, least = exam.series, exam.limits.culprit.written_least
    found: dict[int, dict[str, float]] = {}
    for end in series.log_ends:
        keeper = series.processes.get(end.process)
        if keeper is None or not end.lines:
            continue
        shares: dict[str, float] = defaultdict(float)
        for writer in end.writers:
            known = None if writer.process is None else series.processes.get(writer.process)
            if known is None:
                shares[writer.name] += writer.lines / end.lines
            elif known.application is not keeper.application and not known.application.observer:
                shares[known.application.name] += writer.lines / end.lines
        most = sorted(shares.items(), key=lambda item: -item[1])
        found[keeper.application.number] = {
            name: min(1.0, share) for name, share in most if share >= least
        }
    return found


def _add(answered: Answered, server: Application, client: Application, sent: float) -> None:
    known = answered[server.number].get(client.number, LocalClient(client, 0, 0.0))
    answered[server.number][client.number] = LocalClient(
        client, known.connections + 1, known.bytes_sent + sent
    )


def _add_unix(exam: Examination, answered: Answered) -> None:
    """Add the clients of working processes over Unix sockets."""
    series, table = exam.series, exam.limits.culprit
    by_process: dict[int, list[UnixConnection]] = defaultdict(list)
    for connection in series.unix_connections:
        for identity in connection.servers:
            by_process[identity].append(connection)
    for identity, connections in by_process.items():
        process = series.processes.get(identity)
        # a server without load answers no client
        if process is None or process.cpu_s < table.serving_least_cores * series.line.measured_s:
            continue
        server = process.application
        clients = [
            (client, connection.is_asking)
            for connection in connections
            for client in _owners(exam, connection.clients)
            if client is not server and not client.observer
        ]
        is_only_one = len({client.number for client, _ in clients}) == 1
        for client, is_asking in clients:
            if is_only_one or is_asking:
                _add(answered, server, client, 0.0)


def _add_tcp(exam: Examination, answered: Answered) -> None:
    """Add the clients of servers over TCP; a connection that moves nothing asks for nothing."""
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
    for socket in by_ends.values():
        for server in _owners(exam, socket.owners):
            if socket.listens or (server.number, socket.facts.local_port) not in ports:
                continue
            other = by_ends.get(_other_end(_ends(socket.facts)))
            sent = socket.sent_bytes_per_s.total() if socket.sent_bytes_per_s else 0.0
            if other is None or sent < exam.limits.culprit.answered_least_bytes:
                continue
            for client in _owners(exam, other.owners):
                if client is not server and not client.observer:
                    _add(answered, server, client, sent)


def _ends(facts: SocketFacts) -> Ends:
    return (
        plain_address(facts.local),
        facts.local_port,
        plain_address(facts.remote),
        facts.remote_port,
    )


def _other_end(ends: Ends) -> Ends:
    return ends[2], ends[3], ends[0], ends[1]


def _owners(exam: Examination, identities: Iterable[int]) -> list[Application]:
    """Return the owners of a socket, each once."""
    owners = (exam.series.processes.get(identity) for identity in identities)
    return list(dict.fromkeys(owner.application for owner in owners if owner is not None))
