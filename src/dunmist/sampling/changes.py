"""Merge ticks whose fields hold only what changed.

Merging of ticks, and going on from a tick in the middle, use these tables. A new field of ``Tick``
that is a list or a map has its place in one of them.
"""

from collections.abc import Callable, Hashable
from typing import Any

# the key of the entries of a field
KEYS: dict[str, Callable[[Any], Hashable]] = {
    "processes": lambda process: process.process,
    "disks": lambda disk: disk.name,
    "links": lambda link: link.name,
    "queues": lambda queue: queue.link,
    "sockets": lambda socket: socket.socket,
    "sensors": lambda sensor: sensor[0],
    "throttles": lambda throttle: throttle.processor,
    "supplies": lambda supply: supply.name,
    "graphics": lambda card: card.card,
    "graphics_use": lambda use: (use.process, use.client),
    "groups": lambda group: group.path,
}
# records with the kernel's own words, and records of single events
WORDS = ("pressure", "tcp", "interrupts")
ADDED = ("exits", "sockets_ended", "complaints", "code", "files", "file_totals", "calls")
