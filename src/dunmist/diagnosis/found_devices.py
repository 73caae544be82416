"""Findings about disks, storage, links and ports."""

from collections import defaultdict

import numpy as np

from dunmist.computer import is_person
from dunmist.diagnosis.known import Known, application_finding, typical
from dunmist.diagnosis.lasting import lasting
from dunmist.diagnosis.records import Finding, Sign
from dunmist.diagnosis.storage import inodes_share, used_share, writable
from dunmist.diagnosis.thresholds import Thresholds
from dunmist.diagnosis.words import is_strained
from dunmist.series import Series
from dunmist.series.naming import distinct_name


def device_findings(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    """Return them."""
    return [
        *_disks(series, known, limits),
        *_storage(series, limits),
        *_links(series, known, limits),
        *_transfers(series, known, limits),
        *_open_ports(series),
        *_port_conflicts(series),
    ]


def _disks(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    found = []
    for disk, state, is_slow in known.disks:
        if is_slow:
            found.append(Finding("disk-slow", "urgent", disk.name, state.signs))
        elif is_strained(state.level) and not known.is_strained("memory"):
            found.append(Finding("disk-saturated", "concern", disk.name, state.signs))
    if known.is_strained("memory") or not known.is_strained("disk"):
        return found  # without memory it is pages that they wait for
    processes = series.processes
    for number, application in enumerate(processes.grouping.applications):
        waits = typical(series, processes.io_waiting[:, number], limits)
        if waits >= limits["findings"]["blocked_share"] and not application.kernel:
            sign = Sign("app-io-waiting", waits, "tasks", "/proc/PID/stat")
            found.append(application_finding("blocked-on-disk", "concern", series, number, [sign]))
    return found


def _storage(series: Series, limits: Thresholds) -> list[Finding]:
    table = limits["storage"]
    found = []
    for one in writable(series):
        used, inodes = used_share(one), inodes_share(one)
        if used is not None and used >= table["full"]:
            sign = Sign("storage-used", used, "share", "statvfs(3)",
                        of=float(one.size_bytes or 0), name=one.point)  # fmt: skip
            severity = "urgent" if used >= table["strained"] else "concern"
            found.append(Finding("storage-full", severity, one.point, [sign]))  # type: ignore[arg-type]
        if inodes is not None and inodes >= table["full"]:
            sign = Sign("storage-inodes", inodes, "share", "statvfs(3)")
            found.append(Finding("inodes-full", "urgent", one.point, [sign]))
    return found


def _links(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    found = [
        Finding("link-saturated", "concern", state.name or "link", state.signs)
        for state in known.states
        if state.resource == "link" and is_strained(state.level)
    ]
    signs: dict[str, list[Sign]] = defaultdict(list)
    for link in series.devices.links:
        errors = float(np.nansum(link.errors)) / series.duration_s
        if errors >= limits["findings"]["link_errors_per_s"] and not link.is_loopback:
            signs[link.name].append(
                Sign("link-errors", errors, "per second", "/proc/net/dev", name=link.name)
            )
    again = _sent_again(series, limits)
    if again is not None:
        signs[_carrier(series)].append(Sign("retransmitted", again, "share", "/proc/net/snmp"))
    return found + [Finding("link-errors", "concern", name, of) for name, of in signs.items()]


def _sent_again(series: Series, limits: Thresholds) -> float | None:
    """Return the share of TCP segments that were sent again, None where that is not worth a word.

    The kernel counts them for all links together.
    """
    sent = series.devices.tcp.get("TcpOutSegs", 0)
    again = series.devices.tcp.get("TcpRetransSegs", 0)
    table = limits["findings"]
    if sent < table["segments_least"] or again / sent < table["retransmitted"]:
        return None
    return again / sent


def _carrier(series: Series) -> str:
    """Return the link that carries what is sent elsewhere."""
    named = (one.name for one in series.devices.links if one.about and one.about.is_default)
    return next(named, "the network adapter")


def _transfers(series: Series, known: Known, limits: Thresholds) -> list[Finding]:
    if known.is_strained("link"):
        return []
    table = limits["findings"]
    moved = series.sent_bytes_per_s + series.received_bytes_per_s
    found = []
    for number, application in enumerate(series.processes.grouping.applications):
        if moved[:, number].max() < table["transfer_bytes_per_s"]:
            continue
        usual = typical(series, moved[:, number], limits)
        least = lasting(moved[:, number], series.machine.interval_s, limits["core"]["bound_share"])
        steady = least >= max(table["transfer_bytes_per_s"], table["transfer_spread"] * usual)
        if steady and not application.observer:
            sign = Sign("transfer", usual, "bytes/s", "sock_diag(7)")
            found.append(application_finding("steady-transfer", "note", series, number, [sign]))
    return found


def _port_conflicts(series: Series) -> list[Finding]:
    """Two programs that listen on one port at different addresses: each gets some of the calls."""
    grouping = series.processes.grouping
    by_port: dict[tuple[str, int], dict[int, str]] = defaultdict(dict)
    for one in series.sockets:
        port = one.facts.local_port
        if one.ended or not one.listens or port is None or not one.owners:
            continue
        number = grouping.application_of[one.owners[0]]
        by_port[one.facts.protocol, port][number] = one.facts.local or ""
    found = []
    for (protocol, port), owners in by_port.items():
        if protocol == "tcp" and len(owners) > 1:
            names = ", ".join(f"{distinct_name(series, one)} at {owners[one]}" for one in owners)
            sign = Sign("port-conflict", float(port), "port", "sock_diag(7)", name=names)
            found.append(Finding("port-conflict", "concern", f"port {port}", [sign]))
    return found


def _open_ports(series: Series) -> list[Finding]:
    """A person's program that the whole network can reach; services are expected to listen."""
    grouping = series.processes.grouping
    found = []
    for one in series.sockets:
        port = one.facts.local_port
        if one.ended or not one.listens or one.is_loopback or port is None:
            continue
        if one.facts.protocol != "tcp":
            continue
        for owner in one.owners:
            if is_person(grouping.facts(owner).uid):
                number = grouping.application_of[owner]
                name = f"{one.facts.protocol} {one.facts.local}"
                sign = Sign("open-port", float(port), "port", "sock_diag(7)", name=name)
                found.append(application_finding("open-port", "note", series, number, [sign]))
    return found
