"""Sockets as text: ``/proc/net/tcp``, ``udp``, ``tcp6``, ``udp6`` and ``unix``.

Sources: proc_net(5), ``Documentation/networking/proc_net_tcp.rst``. It is the fallback where
netlink is not to be had: no byte counters. An address is written as words of 32 bits in the byte
order of the machine, a port as a plain hexadecimal number.
"""

import ipaddress
import re
import sys
from collections import defaultdict
from collections.abc import Iterator

from dunmist.computer.parsing import ParseError, counter_of, lines_of, text_of
from dunmist.computer.socket_records import STATES, SocketFacts, SocketReading

UNIX_ACCEPTS = 0x00010000  # __SO_ACCEPTCON
# number, references, protocol, flags, type, state, inode, name: net/unix/af_unix.c, unix_seq_show
_UNIX_LINE = re.compile(
    rb"[0-9a-fA-F]{8,16}: [0-9A-F]{8} [0-9A-F]{8} (?P<flags>[0-9A-F]{8}) [0-9A-F]{4} [0-9A-F]{2} "
    rb" *(?P<inode>\d{1,18})(?: (?P<path>.+))?\Z",
    re.S,
)
INET_FILES = (("tcp", "tcp"), ("tcp6", "tcp"), ("udp", "udp"), ("udp6", "udp"))


def parse_inet_table(data: bytes, protocol: str) -> Iterator[SocketReading]:
    """Yield the sockets of one table; raises ParseError."""
    for line in lines_of(data)[1:]:
        fields = line.split()
        if len(fields) < 10:
            raise ParseError("/proc/net", "expected a socket of ten fields", line)
        local, local_port, version = _end(fields[1])
        remote, remote_port, _ = _end(fields[2])
        send_queue, _, receive_queue = fields[4].partition(b":")
        inode = counter_of(fields[9], "/proc/net", "inode")
        yield SocketReading(
            key=(protocol, local, local_port, remote, remote_port, inode),
            facts=SocketFacts(
                protocol=protocol,
                version=version,
                local=local,
                local_port=local_port,
                remote=remote if remote_port else None,
                remote_port=remote_port or None,
                inode=inode,
                uid=counter_of(fields[7], "/proc/net", "user"),
            ),
            state=STATES.get(_hexadecimal(fields[3]), "unknown"),
            receive_queue_bytes=_hexadecimal(receive_queue),
            send_queue_bytes=_hexadecimal(send_queue),
        )


def parse_unix_table(data: bytes) -> Iterator[SocketReading]:
    """Yield the listening sockets of ``/proc/net/unix``; raises ParseError.

    The kernel writes names as they are, so a name with line ends can look like more sockets. What
    is no line of a socket belongs to such a name. An inode that comes twice has no name here.
    """
    lines = lines_of(data)
    if not data.startswith(b"Num "):
        raise ParseError("/proc/net/unix", "expected its heading", data[:80])
    sockets: dict[int, list[re.Match[bytes]]] = defaultdict(list)
    for line in lines[1:]:
        if match := _UNIX_LINE.match(line):
            sockets[int(match["inode"])].append(match)
    for inode, matches in sockets.items():
        path = matches[0]["path"] if len(matches) == 1 else None
        if any(int(match["flags"], 16) & UNIX_ACCEPTS for match in matches):
            yield SocketReading(
                key=("unix", inode),
                facts=SocketFacts(
                    protocol="unix", local=text_of(path) if path else None, inode=inode
                ),
                state="listen",
            )


def _hexadecimal(field: bytes) -> int:
    if not field or len(field) > 16 or field.strip(b"0123456789abcdefABCDEF"):
        raise ParseError("/proc/net", "expected a hexadecimal number", field)
    return int(field, 16)


def _end(field: bytes) -> tuple[str, int, int]:
    words, _, port = field.partition(b":")
    if len(words) not in (8, 32) or words.strip(b"0123456789abcdefABCDEF"):
        raise ParseError("/proc/net", "expected an address and a port", field)
    raw = b"".join(
        int(words[at : at + 8], 16).to_bytes(4, sys.byteorder) for at in range(0, len(words), 8)
    )
    address = ipaddress.ip_address(raw)
    return str(address), _hexadecimal(port), address.version
