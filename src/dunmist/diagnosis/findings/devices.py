"""Findings about disks, storage, links and ports."""

from collections import Counter, defaultdict

from dunmist.computer import DEADLINE_S, is_person
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.findings.rules import finds
from dunmist.diagnosis.io_wait import find_io_wait
from dunmist.diagnosis.records import EvidenceFigure, Finding, figure
from dunmist.diagnosis.resources import disk_demand, find_slow_disks
from dunmist.diagnosis.resources.storage import writable_storage
from dunmist.diagnosis.strained_resources import StrainedResources, application_finding
from dunmist.diagnosis.words import Severity
from dunmist.series import Application, Storage, plain_address, waits_elsewhere

# as many other ends of a link are named
ENDS_SHOWN = 3
DELETED_SHOWN = 3


@finds("disk-slow", "disk-saturated")
def _disks(exam: Examination, strained: StrainedResources) -> list[Finding]:
    slow = {slow_disk.disk.name: slow_disk for slow_disk in exam.once(find_slow_disks)}
    # without memory it is pages that they wait for
    names = set() if strained.has("memory") else {state.name for state in strained.of("disk")}
    findings = []
    for state in strained.states:
        if state.resource != "disk":
            continue
        if state.name in slow:
            findings.append(Finding("disk-slow", "urgent", state.name, state.evidence))
        elif state.name in names:
            findings.append(Finding("disk-saturated", "concern", state.name, state.evidence))
    return findings


@finds("blocked-on-disk")
def _blocked(exam: Examination, strained: StrainedResources) -> list[Finding]:
    if strained.has("memory") or not strained.has("disk"):
        return []
    findings, waiting = [], exam.once(find_io_wait).tasks
    parts, is_slow = disk_demand(exam).parts, bool(exam.once(find_slow_disks))
    for application, part in zip(exam.applications, parts, strict=True):
        # the main user of the disk waits for its own requests: it is the cause, unless the disk is
        drives = part >= exam.limits.culprit.victim_score and not is_slow
        if application.kernel or drives:
            continue
        waits = waiting[application.number].mean()
        if waits >= exam.limits.findings.blocked_share:
            evidence = [figure("app-io-waiting", waits)]
            findings.append(
                application_finding("blocked-on-disk", "concern", application, evidence)
            )
    return findings


@finds("storage-full", "storage-filling", "inodes-full")
def _storage(exam: Examination) -> list[Finding]:
    table, findings = exam.limits.storage, []
    # the fullest first: it is the one that stops somebody
    fullest_first = sorted(
        exam.once(writable_storage), key=lambda file_system: -(file_system.fullest or 0.0)
    )
    for storage in fullest_first:
        filling = _filling(exam, storage)
        size_bytes = float(storage.about.size_bytes or 0)
        evidence = [figure("storage-used", storage.used or 0.0, of=size_bytes, name=storage.point)]
        evidence += filling
        evidence += _held_by_deleted(exam, storage)
        if storage.used is not None and storage.used >= table.full:
            severity: Severity = "urgent" if storage.used >= table.strained else "concern"
            findings.append(Finding("storage-full", severity, storage.point, evidence))
        elif filling:
            findings.append(Finding("storage-filling", "concern", storage.point, evidence))
        if storage.inodes is not None and storage.inodes >= table.full:
            evidence = [figure("storage-inodes", storage.inodes)]
            findings.append(Finding("inodes-full", "urgent", storage.point, evidence))
    return findings


def _held_by_deleted(exam: Examination, storage: Storage) -> list[EvidenceFigure]:
    """Return the deleted files on a file system that somebody still has open."""
    found = []
    for file in exam.series.surveyed.deleted_files:
        process = exam.series.processes.get(file.process)
        if file.point == storage.point and process is not None:
            found.append(
                figure(
                    "deleted-held",
                    float(file.size_bytes),
                    path=file.path,
                    name=process.application.distinct_name,
                    pid=str(process.pid),
                )
            )
    return found[:DELETED_SHOWN]


def _filling(exam: Examination, storage: Storage) -> list[EvidenceFigure]:
    """Return the time until a file system is full at this rate, and the heaviest writer."""
    surveyed, line, table = exam.series.surveyed, exam.series.line, exam.limits.storage
    grown, available = surveyed.filled_bytes(storage.point), storage.about.available_bytes
    if grown is None or available is None:
        return []
    began_s = float(line.at_s[min(surveyed.surveys[0].tick, line.intervals)] - line.at_s[0])
    span_s = exam.series.duration_s - began_s
    if span_s < table.filling_least_s or grown < table.filling_least_bytes:
        return []
    rate = grown / span_s
    if available > rate * table.filling_within_s:
        return []
    evidence = [figure("storage-fills", rate, name=storage.point, full=available / rate)]
    writing = {item.write_bytes_per_s.mean(): item for item in exam.applications}
    most = max(writing, default=0.0)
    # a file that a program writes may lie on another file system: then the program is not named
    if rate / 2 <= most:
        evidence.append(figure("storage-writer", most, name=writing[most].distinct_name))
    return evidence


@finds("file-system-unanswered")
def _unanswered(exam: Examination) -> list[Finding]:
    """File systems of other computers, or of programs, that let everybody wait."""
    waiting = sorted(
        {
            process.application.distinct_name
            for process in exam.series.living.values()
            if process.last is not None and waits_elsewhere(process.last.waits_in)
        }
    )
    findings = []
    for storage in exam.series.surveyed.storage:
        about = storage.about
        if not about.unanswered:
            continue
        evidence = [
            figure("file-system-unanswered", DEADLINE_S, kind=about.kind, server=about.source)
        ]
        if waiting:
            evidence.append(figure("file-system-waiting", float(len(waiting)), who=waiting))
        findings.append(Finding("file-system-unanswered", "urgent", about.point, evidence))
    return findings


@finds("link-saturated")
def _full_links(strained: StrainedResources) -> list[Finding]:
    return [
        Finding("link-saturated", "concern", state.name, state.evidence)
        for state in strained.of("link")
    ]


@finds("link-errors")
def _broken_links(exam: Examination) -> list[Finding]:
    evidence: dict[str | None, list[EvidenceFigure]] = defaultdict(list)
    for link in exam.series.devices.outward_links:
        errors = link.errors_per_s.mean()
        if errors >= exam.limits.findings.link_errors_per_s:
            evidence[link.name].append(figure("link-errors", errors, name=link.name))
    for name, again in _sent_again_over(exam).items():
        evidence[name].append(again)
    share = _sent_again(exam)
    # sockets say which link it was; without them only a single link is certain
    if share is not None and not any(
        figure.key == "link-retransmitted" for of in evidence.values() for figure in of
    ):
        evidence[_only_carrier(exam)].append(figure("retransmitted", share))
    return [Finding("link-errors", "concern", name, of) for name, of in evidence.items()]


def _sent_again_over(exam: Examination) -> dict[str | None, EvidenceFigure]:
    """Return the retransmissions of each link, from the connections with its addresses."""
    table = exam.limits.findings
    sent_again_over: dict[str | None, EvidenceFigure] = {}
    for link in exam.series.devices.outward_links:
        addresses = set(link.about.addresses if link.about else ())
        mine = [
            socket
            for socket in exam.series.sockets
            if plain_address(socket.facts.local) in addresses and socket.sent_segments is not None
        ]
        sent = sum(socket.sent_segments or 0 for socket in mine)
        again = sum(socket.retransmitted for socket in mine)
        if sent < table.segments_least or again / sent < table.retransmitted:
            continue
        to: Counter[str] = Counter()
        for socket in mine:
            to[plain_address(socket.facts.remote) or "unknown"] += socket.retransmitted
        who = [name for name, count in to.most_common(ENDS_SHOWN) if count]
        sent_again_over[link.name] = figure(
            "link-retransmitted", again / sent, name=link.name, who=who
        )
    return sent_again_over


def _sent_again(exam: Examination) -> float | None:
    """Return the share of TCP segments that were sent again, None if that is not worth a word.

    The kernel counts them for all links together.
    """
    sent = exam.series.devices.tcp.get("TcpOutSegs", 0)
    again = exam.series.devices.tcp.get("TcpRetransSegs", 0)
    table = exam.limits.findings
    if sent < table.segments_least or again / sent < table.retransmitted:
        return None
    return again / sent


def _only_carrier(exam: Examination) -> str | None:
    """Return the link to elsewhere that carried anything, None if there were several."""
    links = [
        link.name
        for link in exam.series.devices.outward_links
        if (link.sent_bytes_per_s + link.received_bytes_per_s).total() > 0
    ]
    return links[0] if len(links) == 1 else None


@finds("steady-transfer")
def _transfers(exam: Examination, strained: StrainedResources) -> list[Finding]:
    if strained.has("link"):
        return []
    table, findings = exam.limits.findings, []
    for application in exam.applications:
        moved = application.network_bytes_per_s
        if application.observer or (moved.greatest() or 0.0) < table.transfer_bytes_per_s:
            continue
        usual = exam.typical(moved)
        least = max(table.transfer_bytes_per_s, table.transfer_spread * usual)
        if exam.steady(moved) >= least:
            evidence = [figure("transfer", usual)]
            findings.append(application_finding("steady-transfer", "note", application, evidence))
    return findings


@finds("open-port")
def _open_ports(exam: Examination) -> list[Finding]:
    """A person's program that the whole network can reach; services are expected to listen."""
    findings = []
    for socket in exam.series.sockets:
        port = socket.facts.local_port
        is_open = socket.listens and not socket.ended and not socket.is_loopback
        if not is_open or port is None or socket.facts.protocol != "tcp":
            continue
        for owner in socket.owners:
            process = exam.series.processes[owner]
            if is_person(process.facts.uid):
                evidence = [
                    figure(
                        "open-port",
                        float(port),
                        protocol=socket.facts.protocol,
                        address=socket.facts.local,
                    )
                ]
                findings.append(
                    application_finding("open-port", "note", process.application, evidence)
                )
    return findings


@finds("port-conflict")
def _port_conflicts(exam: Examination) -> list[Finding]:
    """Two programs that listen on one port at different addresses: each gets some of the calls."""
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
                figure(
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
