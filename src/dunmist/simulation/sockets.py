"""Sockets of a model computer: the text tables below ``proc/net``, and who holds which.

A socket's inode is made from its program's index in the scenario, so that the table and the
descriptors agree.
"""

import ipaddress
import struct
import sys
from collections.abc import Iterator
from itertools import chain
from typing import NamedTuple

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.processes import ModelProcess
from dunmist.simulation.scenario import ProgramSpec

OWN_ADDRESS = "172.16.0.14"
FIRST_INODE, INODES_EACH = 20_000, 100
FIRST_PORT = 40_000
# include/net/tcp_states.h
ESTABLISHED, LISTEN = 1, 10
AF_INET, INET_DIAG_INFO, SOCK_DIAG_BY_FAMILY = 2, 2, 20
# struct tcp_info of Linux 4.10, a full segment, and round trips of a building and of a city
LOCAL_NETWORK = ipaddress.ip_network("172.16.0.0/12")
TCP_INFO_BYTES, SEGMENT_BYTES = 192, 1448
LOCAL_ROUND_TRIP_US, FAR_ROUND_TRIP_US = 800, 24_000
CARD = "/dev/dri/renderD128"
TCP_WORDS = {
    "Tcp": ("InSegs", "OutSegs", "RetransSegs", "InErrs"),
    "TcpExt": ("ListenOverflows", "ListenDrops", "TCPTimeouts"),
}


class _Socket(NamedTuple):
    inode: int
    local_port: int
    remote: str
    remote_port: int
    state: int


def tables(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the tables of TCP, UDP and Unix sockets."""
    head = (
        "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid"
        "  timeout inode\n"
    )
    uids = {user.name: user.uid for user in model.scenario.users} | {"root": 0}
    lines = [
        _line(index, socket, uids[spec.user])
        for spec in model.scenario.programs
        for index, socket in enumerate(_sockets(model, spec))
    ]
    yield "proc/net/tcp", head + "".join(lines)
    yield "proc/net/udp", head
    yield "proc/net/unix", "Num       RefCount Protocol Flags    Type St Inode Path\n"


def recording(model: ModelComputer) -> bytes:
    """Return the sockets as sock_diag(7) lists them, each with its struct tcp_info."""
    uids = {user.name: user.uid for user in model.scenario.users} | {"root": 0}
    messages = []
    for process in model.processes.all:
        if process.worker or process.defunct:
            continue
        ends = list(_sockets(model, process.spec))
        talking = sum(end.state == ESTABLISHED for end in ends)
        for end in ends:
            part = 1 / talking if end.state == ESTABLISHED else 0.0
            moved = [
                round(float(model.processes.figures[name][process.index]) * part)
                for name in ("sent_bytes", "received_bytes")
            ]
            messages.append(_message(model, end, uids[process.spec.user], moved))
    return b"".join(messages)


def _message(model: ModelComputer, socket: _Socket, uid: int, moved: list[int]) -> bytes:
    own = "0.0.0.0" if socket.state == LISTEN else OWN_ADDRESS
    ends = struct.pack("!HH", socket.local_port, socket.remote_port)
    for address in (own, socket.remote):
        ends += ipaddress.ip_address(address).packed.ljust(16, b"\0")
    body = struct.pack("=BBBB", AF_INET, socket.state, 0, 0) + ends
    body += struct.pack("=IQIIIII", 0, socket.inode, 0, 0, 0, uid, socket.inode)
    information = _tcp_info(model, socket, moved)
    body += struct.pack("=HH", 4 + len(information), INET_DIAG_INFO) + information
    return struct.pack("=IHHII", 16 + len(body), SOCK_DIAG_BY_FAMILY, 2, 1, 0) + body


def _tcp_info(model: ModelComputer, socket: _Socket, moved: list[int]) -> bytes:
    """Return struct tcp_info up to the times of a connection, which only the line holds up."""
    information = bytearray(TCP_INFO_BYTES)
    sent, _ = moved
    segments = sum(link.segments for link in model.links)
    again = sum(link.retransmitted for link in model.links) / max(1.0, segments)
    is_local = ipaddress.ip_address(socket.remote) in LOCAL_NETWORK
    round_trip_us = LOCAL_ROUND_TRIP_US if is_local else FAR_ROUND_TRIP_US
    struct.pack_into("=I", information, 68, round_trip_us)
    struct.pack_into("=I", information, 100, round(sent / SEGMENT_BYTES * again))
    struct.pack_into("=QQ", information, 120, *moved)
    struct.pack_into("=I", information, 136, round(sent / SEGMENT_BYTES))
    struct.pack_into("=Q", information, 168, round(model.now_s * 1e6) if sent else 0)
    return bytes(information)


def counters(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the counters of TCP, which move with the links."""
    segments = round(sum(link.segments for link in model.links))
    again = round(sum(link.retransmitted for link in model.links))
    for name, group, numbers in (
        ("snmp", "Tcp", (segments, segments, again, 0)),
        ("netstat", "TcpExt", (0, 0, again // 3)),
    ):
        words = " ".join(TCP_WORDS[group])
        yield f"proc/net/{name}", f"{group}: {words}\n{group}: {' '.join(map(str, numbers))}\n"


def descriptors(model: ModelComputer, process: ModelProcess) -> list[str]:
    """Return the targets of a process's descriptors."""
    if process.spec.kernel or process.defunct:
        return []
    held = [] if process.worker else list(_sockets(model, process.spec))
    names = [CARD] if process.spec.graphics_share else []
    names += [*process.spec.reads, *process.spec.writes]
    names += [f"socket:[{socket.inode}]" for socket in held]
    count = int(model.processes.figures["descriptors"][process.index])
    return [*names, *(["/dev/null"] * max(0, count - len(names)))]


def _sockets(model: ModelComputer, spec: ProgramSpec) -> Iterator[_Socket]:
    if not spec.listens and not spec.talks_to:
        return
    inode = FIRST_INODE + INODES_EACH * model.program_index[id(spec)]
    listening = (_Socket(0, port, "0.0.0.0", 0, LISTEN) for port in spec.listens)
    ends = chain(listening, _connections(model, spec), _accepted(model, spec))
    for index, end in enumerate(ends):
        yield end._replace(inode=inode + index)


def _connections(model: ModelComputer, spec: ProgramSpec) -> Iterator[_Socket]:
    """Yield the connections that a program made; their inodes are given later."""
    inode = FIRST_INODE + INODES_EACH * model.program_index[id(spec)]
    for index, end in enumerate(spec.talks_to, start=len(spec.listens)):
        address, _, port_text = end.rpartition(":")
        own_port = FIRST_PORT + inode % 9973 + index
        yield _Socket(0, own_port, address, int(port_text), ESTABLISHED)


def _accepted(model: ModelComputer, spec: ProgramSpec) -> Iterator[_Socket]:
    """Yield the ends that a server has of connections of programs on the same computer."""
    for other in model.scenario.programs if spec.listens else ():
        for end in _connections(model, other):
            if end.remote == OWN_ADDRESS and end.remote_port in spec.listens:
                yield _Socket(0, end.remote_port, OWN_ADDRESS, end.local_port, ESTABLISHED)


def _line(index: int, socket: _Socket, uid: int) -> str:
    own = "0.0.0.0" if socket.state == LISTEN else OWN_ADDRESS
    return (
        f"{index:>4}: {_hexadecimal(own)}:{socket.local_port:04X} "
        f"{_hexadecimal(socket.remote)}:{socket.remote_port:04X} {socket.state:02X} "
        f"00000000:00000000 00:00000000 00000000 {uid:>5}        0 {socket.inode} 1 "
        f"0000000000000000 100 0 0 10 0\n"
    )


def _hexadecimal(address: str) -> str:
    return f"{int.from_bytes(ipaddress.ip_address(address).packed, sys.byteorder):08X}"
