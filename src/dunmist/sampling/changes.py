"""What a tick holds only where it changed, and how several of them say one thing.

Whoever puts ticks together, or goes on from one in the middle, reads these tables: a new field of
``Tick`` that is a list or a map has its place in one of them.
"""

from collections.abc import Callable, Hashable
from typing import Any

# by what the things of a field are told apart
KEYS: dict[str, Callable[[Any], Hashable]] = {
    "processes": lambda one: one.process,
    "disks": lambda one: one.name,
    "links": lambda one: one.name,
    "queues": lambda one: one.link,
    "sockets": lambda one: one.socket,
    "sensors": lambda one: one[0],
    "throttles": lambda one: one.processor,
    "supplies": lambda one: one.name,
    "graphics": lambda one: one.card,
    "graphics_use": lambda one: (one.process, one.client),
    "groups": lambda one: one.path,
}
# what holds the kernel's own words, and what happened once
WORDS = ("pressure", "tcp", "interrupts")
ADDED = ("exits", "sockets_ended", "complaints")
