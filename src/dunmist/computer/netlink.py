"""Netlink messages: one header codec, one attribute walker, one blocking request.

Sources: netlink(7), ``Documentation/userspace-api/netlink/intro.rst``. Numbers are in the byte
order of the machine, each header and attribute is padded to four bytes. A length is trusted only
once it covers its own header and ends within what was received.
"""

import errno
import os
import socket
import struct
from collections.abc import Iterator
from types import TracebackType
from typing import NamedTuple

from dunmist.computer.parsing import ParseError

HEADER = struct.Struct("=IHHII")  # length, kind, flags, sequence, port
ATTRIBUTE = struct.Struct("=HH")  # length, type
ERROR_NUMBER = struct.Struct("=i")
# include/uapi/linux/netlink.h
NLMSG_ERROR, NLMSG_DONE = 2, 3
# flags of a request; a dump is both ROOT and MATCH
NLM_F_REQUEST, NLM_F_ACK, NLM_F_DUMP = 0x1, 0x4, 0x300
# include/uapi/linux/netlink.h and genetlink.h
NETLINK_GENERIC = 16
GENL_ID_CTRL, CTRL_CMD_GETFAMILY = 0x10, 3
CTRL_ATTR_FAMILY_ID, CTRL_ATTR_FAMILY_NAME = 1, 2
GENERIC_HEADER, FAMILY = struct.Struct("=BBH"), struct.Struct("=H")
TYPE_MASK = 0x3FFF  # the two highest bits say 'nested' and 'in network byte order'
# the kernel fills at most 32 KiB a datagram for a dump; what does not fit is lost
RECEIVE_BYTES = 1 << 17
TIMEOUT = struct.pack("@ll", 2, 0)  # struct timeval
# beyond the limit of rmem_max, which only the administrator may do (socket(7))
SO_RCVBUFFORCE = 33


class Message(NamedTuple):
    """One netlink message: its kind, its flags and what follows its header."""

    kind: int
    flags: int
    body: memoryview


def parse_messages(data: bytes) -> Iterator[Message]:
    """Yield the messages of one datagram; raises ParseError."""
    view = memoryview(data)
    position = 0
    while position + HEADER.size <= len(view):
        length, kind, flags, _, _ = HEADER.unpack_from(view, position)
        end = position + length
        if length < HEADER.size or end > len(view):
            raise ParseError("netlink", f"message of {length} bytes at {position}", data[:16])
        # a view, not a copy: a dump of thousands of sockets passes here at every tick
        body = view[position + HEADER.size : end]
        position = _padded(end)
        yield Message(kind, flags, body)


def parse_attributes(data: memoryview) -> Iterator[tuple[int, memoryview]]:
    """Yield type and value of the attributes that fill the data; raises ParseError."""
    position = 0
    while position + ATTRIBUTE.size <= len(data):
        length, kind = ATTRIBUTE.unpack_from(data, position)
        end = position + length
        if length < ATTRIBUTE.size or end > len(data):
            raise ParseError("netlink", f"attribute of {length} bytes", bytes(data[:16]))
        value = data[position + ATTRIBUTE.size : end]
        position = _padded(end)
        yield kind & TYPE_MASK, value


def encode_message(kind: int, flags: int, body: bytes) -> bytes:
    """Return a message to the kernel."""
    return HEADER.pack(HEADER.size + len(body), kind, flags | NLM_F_REQUEST, 1, 0) + body


def encode_attribute(kind: int, value: bytes) -> bytes:
    """Return one attribute with its padding."""
    length = ATTRIBUTE.size + len(value)
    return ATTRIBUTE.pack(length, kind) + value + bytes(_padded(length) - length)


class NetlinkSocket:
    """A socket to one protocol of the kernel; raises OSError where the kernel has none or denies.

    ``lost`` counts how often the kernel had to drop messages because nobody had read them.
    """

    def __init__(self, protocol: int, groups: int = 0, receive_buffer_bytes: int = 0) -> None:
        self.lost = 0
        self._socket = socket.socket(
            socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_CLOEXEC, protocol
        )
        # the kernel's own time limit, so that a read may still choose not to wait
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVTIMEO, TIMEOUT)
        try:
            if receive_buffer_bytes:
                self._widen(receive_buffer_bytes)
            self._socket.bind((0, groups))
        except OSError:
            self._socket.close()
            raise

    def __enter__(self) -> "NetlinkSocket":
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        self.close()

    def request(self, kind: int, flags: int, body: bytes) -> Iterator[Message]:
        """Send a request and yield its answers; raises OSError and ParseError."""
        self._socket.send(encode_message(kind, flags, body))
        while True:
            for message in parse_messages(self._socket.recv(RECEIVE_BYTES)):
                if message.kind == NLMSG_DONE:
                    return
                if message.kind == NLMSG_ERROR:
                    raise_for_error(message)
                    return
                yield message
                # a single answer has no message that ends it
                if not flags & NLM_F_DUMP:
                    return

    def pending(self) -> Iterator[Message]:
        """Yield the messages that the kernel has sent, without waiting; raises ParseError."""
        while True:
            try:
                data = self._socket.recv(RECEIVE_BYTES, socket.MSG_DONTWAIT)
            except BlockingIOError:
                return
            except OSError as error:
                if error.errno != errno.ENOBUFS:
                    raise
                # messages were dropped, and those that remain are good
                self.lost += 1
                continue
            yield from parse_messages(data)

    def close(self) -> None:
        """Close the socket; the kernel ends what was registered through it."""
        self._socket.close()

    def _widen(self, size_bytes: int) -> None:
        try:
            self._socket.setsockopt(socket.SOL_SOCKET, SO_RCVBUFFORCE, size_bytes)
        except PermissionError:
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, size_bytes)


def find_family(kernel: NetlinkSocket, name: str) -> int:
    """Return the number of a family of generic netlink; raises OSError and ParseError."""
    header = GENERIC_HEADER.pack(CTRL_CMD_GETFAMILY, 1, 0)
    wanted = encode_attribute(CTRL_ATTR_FAMILY_NAME, name.encode() + b"\0")
    for message in kernel.request(GENL_ID_CTRL, 0, header + wanted):
        for kind, value in parse_attributes(message.body[GENERIC_HEADER.size :]):
            if kind == CTRL_ATTR_FAMILY_ID and len(value) >= FAMILY.size:
                number: int = FAMILY.unpack_from(value)[0]
                return number
    raise ParseError("generic netlink", "no family number", name.encode())


def raise_for_error(message: Message) -> None:
    """Raise the OSError that an error message stands for; an acknowledgement is none."""
    if len(message.body) < ERROR_NUMBER.size:
        raise ParseError("netlink", "error message without a number", bytes(message.body))
    number = -ERROR_NUMBER.unpack_from(message.body)[0]
    if number:
        raise OSError(number, os.strerror(number))


def _padded(length: int) -> int:
    return (length + 3) & ~3
