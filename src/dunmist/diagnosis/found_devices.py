"""Findings about disks, storage, links and ports."""

from collections import defaultdict

from dunmist.computer import is_person
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import Finding, Sign, sign
from dunmist.diagnosis.resources import find_slow_disks
from dunmist.diagnosis.resources.storage import writable_storage
from dunmist.diagnosis.strains import Strains, application_finding
from dunmist.diagnosis.words import Severity
from dunmist.series import Application


def _disks(exam: Examination, strains: Strains) -> list[Finding]:
    slow = {slow_disk.disk.name: slow_disk for slow_disk in exam.once(find_slow_disks)}
    # without memory it is pages that they wait for
    strained = set() if strains.has("memory") else {state.name for state in strains.of("disk")}
    found = []
    for state in strains.states:
        if state.resource != "disk":
            continue
        if state.name in slow:
            found.append(Finding("disk-slow", "urgent", state.name, state.signs))
        elif state.name in strained:
            found.append(Finding("disk-saturated", "concern", state.name, state.signs))
    return found


def _blocked(exam: Examination, strains: Strains) -> list[Finding]:
    if strains.has("memory") or not strains.has("disk"):
        return []
    found = []
    for application in exam.applications:
        waits = exam.typical(application.io_waiting)
        if waits >= exam.limits.findings.blocked_share and not application.kernel:
            signs = [sign("app-io-waiting", waits)]
            found.append(application_finding("blocked-on-disk", "concern", application, signs))
    return found


def _storage(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    table, found = exam.limits.storage, []
    for storage in exam.once(writable_storage):
        if storage.used is not None and storage.used >= table.full:
            size_bytes = float(storage.about.size_bytes or 0)
            signs = [sign("storage-used", storage.used, of=size_bytes, name=storage.point)]
            severity: Severity = "urgent" if storage.used >= table.strained else "concern"
            found.append(Finding("storage-full", severity, storage.point, signs))
        if storage.inodes is not None and storage.inodes >= table.full:
            signs = [sign("storage-inodes", storage.inodes)]
            found.append(Finding("inodes-full", "urgent", storage.point, signs))
    return found


def _full_links(exam: Examination, strains: Strains) -> list[Finding]:
    del exam
    return [
        Finding("link-saturated", "concern", state.name, state.signs)
        for state in strains.of("link")
    ]


def _broken_links(exam: Examination, strains: Strains) -> list[Finding]:
    del strains
    signs: dict[str | None, list[Sign]] = defaultdict(list)
    for link in exam.series.devices.outward_links:
        errors = link.errors_per_s.mean()
        if errors >= exam.limits.findings.link_errors_per_s:
            signs[link.name].append(sign("link-errors", errors, name=link.name))
    again = _sent_again(exam)
    if again is not None:
        signs[_carrier(exam)].append(sign("retransmitted", again))
    return [Finding("link-errors", "concern", name, of) for name, of in signs.items()]


def _sent_again(exam: Examination) -> float | None:
    """Return the share of TCP segments that were sent again, None where that is not worth a word.

    The kernel counts them for all links together.
    """
    sent = exam.series.devices.tcp.get("TcpOutSegs", 0)
    again = exam.series.devices.tcp.get("TcpRetransSegs", 0)
    table = exam.limits.findings
    if sent < table.segments_least or again / sent < table.retransmitted:
        return None
    return again / sent


def _carrier(exam: Examination) -> str | None:
    """Return the link that carries what is sent elsewhere, None where none is known to."""
    links = exam.series.devices.links
    return next((link.name for link in links if link.about and link.about.is_default), None)


def _transfers(exam: Examination, strains: Strains) -> list[Finding]:
    if strains.has("link"):
        return []
    table, found = exam.limits.findings, []
    for application in exam.applications:
        moved = application.network_bytes_per_s
        if application.observer or (moved.greatest() or 0.0) < table.transfer_bytes_per_s:
            continue
        usual = exam.typical(moved)
        least = max(table.transfer_bytes_per_s, table.transfer_spread * usual)
        if exam.steady(moved) >= least:
            signs = [sign("transfer", usual)]
            found.append(application_finding("steady-transfer", "note", application, signs))
    return found


def _open_ports(exam: Examination, strains: Strains) -> list[Finding]:
    """A person's program that the whole network can reach; services are expected to listen."""
    del strains
    found = []
    for socket in exam.series.sockets:
        port = socket.facts.local_port
        is_open = socket.listens and not socket.ended and not socket.is_loopback
        if not is_open or port is None or socket.facts.protocol != "tcp":
            continue
        for owner in socket.owners:
            process = exam.series.processes[owner]
            if is_person(process.facts.uid):
                signs = [
                    sign(
                        "open-port", float(port),
                        protocol=socket.facts.protocol, address=socket.facts.local,
                    )
                ]  # fmt: skip
                found.append(application_finding("open-port", "note", process.application, signs))
    return found


def _port_conflicts(exam: Examination, strains: Strains) -> list[Finding]:
    """Two programs that listen on one port at different addresses: each gets some of the calls."""
    del strains
    by_port: dict[int, dict[Application, str]] = defaultdict(dict)
    for socket in exam.series.sockets:
        port = socket.facts.local_port
        listens = socket.listens and not socket.ended and socket.facts.protocol == "tcp"
        if listens and port is not None and socket.owners:
            application = exam.series.processes[socket.owners[0]].application
            by_port[port][application] = socket.facts.local or ""
    return [
        Finding(
            "port-conflict",
            "concern",
            str(port),
            [
                sign(
                    "port-conflict",
                    float(port),
                    who=[
                        (application.distinct_name, address)
                        for application, address in owners.items()
                    ],
                )
            ],
        )
        for port, owners in by_port.items()
        if len(owners) > 1
    ]


RULES = (
    _disks, _blocked, _storage, _full_links, _broken_links, _transfers, _open_ports,
    _port_conflicts,
)  # fmt: skip
