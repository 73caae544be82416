"""Has captures judged side by side: by Dask, on this machine's processors or on a cluster.

No more is handed out than keeps the workers busy, so that the client's memory does not grow with
the number of captures. A worker that dies, or a capture that takes too long, costs nothing but
itself.
"""

import contextlib
import logging
import os
import time
from collections.abc import Callable, Iterator, Mapping
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from dunmist.children import safe_spawning
from dunmist.errors import OutputError, WrongUsage
from dunmist.fleet.capture_locations import CaptureLocation
from dunmist.fleet.capture_record import record_of, troubled
from dunmist.fleet.records import Record

if TYPE_CHECKING:
    from distributed import Client, Future, Security

# tasks in hand for each worker; one that dies often is given up
AHEAD, TRIES = 4, 2
MEMORY_LIMIT = "1GiB"
# the largest capture takes 11 s; and how often running tasks are checked
TASK_MOST_S, CHECK_S = 300.0, 5.0
TLS = "tls://"


class Certificates(NamedTuple):
    """Files in PEM form: who signed the cluster's certificates, and the client's own."""

    ca: Path
    cert: Path
    key: Path


class Engine(NamedTuple):
    """Place of the work: so many processes here, or the scheduler at an address over TLS."""

    workers: int | None = None
    scheduler: str | None = None
    certificates: Certificates | None = None


def engine_of(
    workers: int | None, scheduler: str | None, certificates: tuple[Path | None, ...]
) -> Engine:
    """Return the engine that was asked for; raises WrongUsage.

    ``certificates`` are the files of ``Certificates``, each None if it was not given.
    """
    given = [path for path in certificates if path is not None]
    if scheduler is None:
        if given:
            raise WrongUsage("--tls-ca, --tls-cert and --tls-key go with --scheduler; give it too")
        return Engine(workers)
    if workers is not None:
        raise WrongUsage("--workers are of this machine, --scheduler has its own; choose one")
    if not scheduler.startswith(TLS) or len(given) != len(Certificates._fields):
        raise WrongUsage(
            f"'{scheduler}': a scheduler is reached over TLS only; give tls://HOST:8786 with "
            "--tls-ca, --tls-cert and --tls-key"
        )
    for path in given:
        if not path.is_file():
            raise WrongUsage(f"{path}: not a file; give a certificate or key in PEM form")
    return Engine(None, scheduler, Certificates(*given))


def records(
    engine: Engine,
    captures: Iterator[CaptureLocation],
    work: Callable[[CaptureLocation], Record] = record_of,
) -> Iterator[Record]:
    """Yield the record of each capture as it is made; raises OutputError without an engine."""
    with _client(engine) as client:
        ahead = AHEAD * max(1, len(client.scheduler_info()["workers"]) or engine.workers or 1)
        yield from _handed_out(client, captures, work, ahead)


@contextlib.contextmanager
def _client(engine: Engine) -> "Iterator[Client]":
    try:
        import dask
        from distributed import Client, LocalCluster, Security
    except ImportError as error:
        raise OutputError(
            "a fleet needs Dask; install it with 'pip install dunmist[fleet]'"
        ) from error
    # messages between its parts are dropped; its record has the error
    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    # a death is reported at once, not retried; nothing listens outside this computer
    with dask.config.set(
        {
            "distributed.scheduler.allowed-failures": TRIES,
            "distributed.logging.distributed": "error",
            "distributed.worker.memory.terminate": 0.95,
            "distributed.worker.profile.enabled": False,
            # the pages of a scheduler and of workers know no certificates, so they are not served
            "distributed.scheduler.http.routes": [],
            "distributed.worker.http.routes": [],
        }
    ):
        if engine.scheduler is not None:
            try:
                client = Client(engine.scheduler, timeout="10s", security=_security(engine))
            except (OSError, TimeoutError, ValueError) as error:
                raise OutputError(
                    f"{engine.scheduler}: no scheduler answers over TLS with these certificates "
                    f"({_reason(error)}); start one with 'dask scheduler --tls-ca-file …'"
                ) from error
            with client:
                yield client
            return
        count = engine.workers or os.cpu_count() or 1
        with (
            safe_spawning(),
            # a scheduler runs the code of any client: certificates of this run keep others out
            LocalCluster(
                n_workers=count,
                threads_per_worker=1,
                processes=True,
                memory_limit=MEMORY_LIMIT,
                dashboard_address="127.0.0.1:0",
                host="127.0.0.1",
                silence_logs="CRITICAL",
                security=Security.temporary(),
                protocol="tls://",
            ) as cluster,
            Client(cluster, security=cluster.security) as client,
        ):
            yield client


def _security(engine: Engine) -> "Security":
    from distributed import Security

    assert engine.certificates is not None  # engine_of sees to it
    ca, cert, key = map(str, engine.certificates)
    return Security(
        tls_ca_file=ca, tls_client_cert=cert, tls_client_key=key, require_encryption=True
    )


def _reason(error: Exception) -> str:
    return str(error.__cause__ or error) or type(error).__name__


def _handed_out(
    client: "Client",
    captures: Iterator[CaptureLocation],
    work: Callable[[CaptureLocation], Record],
    ahead: int,
) -> Iterator[Record]:
    from distributed import wait

    in_hand: dict[Future, CaptureLocation] = {}
    running = _Running(client)

    while True:
        for capture in islice(captures, max(0, ahead - len(in_hand))):
            # each is a task of its own, whatever was asked before
            future = client.submit(work, capture, pure=False)
            in_hand[future] = capture
        if not in_hand:
            return
        try:
            finished = wait(list(in_hand), timeout=CHECK_S, return_when="FIRST_COMPLETED").done
        except TimeoutError:
            finished = set()
        for future in finished:
            yield _result(future, in_hand.pop(future))
        for future in running.too_long(in_hand):
            capture = in_hand.pop(future)
            _end(client, future)
            yield troubled(capture, f"{capture.address}: not judged within {TASK_MOST_S:.0f} s")


class _Running:
    """Start time of each task: a worker takes its tasks in that order."""

    def __init__(self, client: "Client") -> None:
        self._client = client
        self._since_s: dict[str, float] = {}
        self._checked_s = time.monotonic()

    def too_long(self, in_hand: "Mapping[Future, CaptureLocation]") -> "list[Future]":
        """Return those that have run for longer than a task may; checks every few seconds."""
        now_s = time.monotonic()
        if now_s - self._checked_s < CHECK_S:
            return []
        self._checked_s = now_s
        threads, first = self._client.ncores(), set[str]()
        for worker, given in self._client.processing().items():
            in_order = [future.key for future in in_hand if future.key in given]
            first.update(in_order[: threads.get(worker, 1)])
        self._since_s = {key: self._since_s.get(key, now_s) for key in first}
        return [
            future
            for future in in_hand
            if now_s - self._since_s.get(future.key, now_s) > TASK_MOST_S
        ]


def _result(future: "Future", location: CaptureLocation) -> Record:
    """Return the result of a task, or the reason if it failed or its worker died."""
    error: Any = future.exception()
    if error is None:
        record: Record = future.result()
        return record
    if type(error).__name__ == "KilledWorker":
        return troubled(
            location,
            f"{location.address}: the worker died with it, {TRIES + 1} times; "
            "it may need more memory than a worker has",
        )
    return troubled(location, f"{location.address}: {type(error).__name__}: {error}")


def _end(client: "Client", future: "Future") -> None:
    """End a task that goes on and on, with the worker that runs it."""
    workers = [address for address, keys in client.processing().items() if future.key in keys]
    future.cancel()
    if workers:
        client.restart_workers(workers, raise_for_error=False)
