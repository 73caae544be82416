"""Keep the latest state of a sampling run, so that a capture can begin there.

A tick holds only what changed since it was read before. A capture that begins in the middle begins
with all that lives, and with a tick that says everything.
"""

from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from dunmist.sampling import KEYS, WORDS, ProcessLine, Record, SocketLine, Survey, Tick


class Known:
    """The newest of everything that still is."""

    def __init__(self) -> None:
        self._processes: dict[int, ProcessLine] = {}
        self._sockets: dict[int, SocketLine] = {}
        self._records: dict[str, dict[Any, Any]] = {field: {} for field in KEYS}
        self._words: dict[str, dict[str, Any]] = {field: {} for field in WORDS}
        self._details: dict[int, Any] = {}
        self._threads: dict[tuple[int, int], Any] = {}
        # the first kind and the last kind hold different records
        self._surveys: dict[bool, Survey] = {}

    def add(self, record: Record) -> None:
        """Take one record into account."""
        if isinstance(record, Tick):
            self._add_tick(record)
        elif isinstance(record, ProcessLine):
            self._processes[record.id] = record
        elif isinstance(record, SocketLine):
            self._sockets[record.id] = record
        elif isinstance(record, Survey):
            self._surveys[record.is_last] = record
        elif record.what == "exit":
            for identity in record.processes:
                self._forget(identity)
        elif record.what == "exec" and record.facts is not None:
            for identity in record.processes:
                line = self._processes.get(identity)
                if line is not None:
                    self._processes[identity] = msgspec.structs.replace(line, facts=record.facts)

    def beginning(self, tick: Tick) -> Iterator[ProcessLine | SocketLine | Tick | Survey]:
        """Yield the records before the first tick of a capture that begins with the latest tick.

        Everything is as of that tick, which is number 0 of the new capture.
        """
        for process in self._processes.values():
            yield msgspec.structs.replace(process, tick=0)
        for socket in self._sockets.values():
            yield msgspec.structs.replace(socket, tick=0)
        changes: dict[str, Any] = {
            field: list(records.values()) for field, records in self._records.items()
        }
        changes |= {field: dict(words) for field, words in self._words.items()}
        yield msgspec.structs.replace(
            tick,
            n=0,
            due_s=0.0,
            at_s=0.0,
            late=False,
            sockets_ended=[],
            details=list(self._details.values()),
            threads=list(self._threads.values()),
            **changes,
        )
        for _, survey in sorted(self._surveys.items()):
            yield msgspec.structs.replace(survey, tick=0)

    def states(self) -> Iterator[tuple[ProcessLine, Any]]:
        """Yield each process that lives with its newest sample."""
        samples = self._records["processes"]
        for identity, line in self._processes.items():
            if identity in samples:
                yield line, samples[identity]

    @property
    def queues(self) -> Iterable[Any]:
        """The newest sample of the queue of each link."""
        return self._records["queues"].values()

    def drop_old_threads(self, since: frozenset[tuple[int, int]]) -> None:
        """Forget threads that were not read again since they were known to be there."""
        for key in since:
            self._threads.pop(key, None)

    @property
    def threads(self) -> frozenset[tuple[int, int]]:
        """The threads that are known."""
        return frozenset(self._threads)

    def _add_tick(self, tick: Tick) -> None:
        for field, key in KEYS.items():
            records = self._records[field]
            for record in getattr(tick, field):
                records[key(record)] = record
        for field in WORDS:
            self._words[field].update(getattr(tick, field) or {})
        for detail in tick.details:
            self._details[detail.process] = detail
        for thread in tick.threads:
            before = self._threads.get((thread.process, thread.tid))
            # a name is given once, when a thread is seen first
            name = thread.name or (before.name if before else None)
            self._threads[thread.process, thread.tid] = msgspec.structs.replace(thread, name=name)
        for identity in tick.sockets_ended:
            self._sockets.pop(identity, None)
            self._records["sockets"].pop(identity, None)

    def _forget(self, identity: int) -> None:
        self._processes.pop(identity, None)
        self._details.pop(identity, None)
        self._records["processes"].pop(identity, None)
        for key in [key for key in self._threads if key[0] == identity]:
            del self._threads[key]
        use = self._records["graphics_use"]
        for key in [key for key in use if key[0] == identity]:
            del use[key]
