"""With which other computer an application exchanges most, and what limits the exchange.

The kernel counts for each connection how long it had something to send, and how long the window of
the other end or its own buffer held it up (``tcp_info``). What arrives and is not read tells that
the reader is slow; of what does not arrive, only the other end could tell more.
"""

from collections import Counter, defaultdict
from collections.abc import Iterator

from dunmist.advice.amounts import percent, plain_number, size_text
from dunmist.advice.evidence import rounded
from dunmist.advice.triage import Doing
from dunmist.advice.wording import wording
from dunmist.diagnosis import Thresholds
from dunmist.series import Application, Series, SocketSeries, network_of

SOURCE = "sock_diag(7), tcp_info"
MS_PER_S = 1e3


def doing_of_peers(application: Application, series: Series, limits: Thresholds) -> Iterator[Doing]:
    """Yield the other computer that it exchanges most with; of several, where they are."""
    members = {process.identity for process in application.members}
    by_peer: defaultdict[str, list[SocketSeries]] = defaultdict(list)
    for socket in series.sockets:
        if (
            _moved(socket)
            and socket.facts.remote
            and not members.isdisjoint(socket.owners)
            and not socket.is_loopback
        ):
            by_peer[socket.facts.remote].append(socket)
    total = sum(_moved(socket) for sockets in by_peer.values() for socket in sockets)
    if total < limits.code.peer_bytes_least:
        return
    peer = max(by_peer, key=lambda name: sum(map(_moved, by_peer[name])))
    moved = sum(map(_moved, by_peer[peer]))
    words = wording()["doing"]
    text = words["peer"].format(
        share=percent(moved / total),
        peer=peer,
        network=network_of(peer),
        amount=size_text(moved / series.duration_s),
    )
    limit = _limit(max(by_peer[peer], key=_moved), series.duration_s, limits)
    yield _doing(peer, moved, total, series, f"{text}: {limit}" if limit else text)
    if len(by_peer) == 1:
        return
    by_network: Counter[str] = Counter()
    for name, sockets in by_peer.items():
        by_network[network_of(name)] += sum(map(_moved, sockets))
    network, most = by_network.most_common(1)[0]
    text = words["peer-networks"].format(
        share=percent(most / total), network=network, count=len(by_peer)
    )
    yield _doing(network, most, total, series, text)


def _doing(name: str, moved: int, total: int, series: Series, text: str) -> Doing:
    return Doing(
        what="peer",
        name=name,
        share=rounded(moved / total),
        value=rounded(moved / series.duration_s),
        unit="bytes/s",
        text=text,
        source=SOURCE,
    )


def _moved(socket: SocketSeries) -> int:
    return (socket.sent_bytes or 0) + (socket.received_bytes or 0)


def _limit(socket: SocketSeries, duration_s: float, limits: Thresholds) -> str:
    """Return the side that limits a connection; empty if the kernel does not say."""
    words, table = wording()["doing"], limits.code
    if (socket.received_bytes or 0) > (socket.sent_bytes or 0):
        is_slow = (socket.unread_bytes or 0.0) >= table.unread_bytes_least
        return words["peer-reads-slowly" if is_slow else "peer-sends-slowly"]
    if socket.busy_s is None or socket.window_limited_s is None:
        return ""
    if socket.busy_s < table.busy_least * duration_s:
        return words["peer-little-to-send"]
    if socket.window_limited_s >= table.limited_least * socket.busy_s:
        return words["peer-window"]
    if (socket.buffer_limited_s or 0.0) >= table.limited_least * socket.busy_s:
        return words["peer-buffer"]
    again = socket.retransmitted / socket.sent_segments if socket.sent_segments else 0.0
    return words["peer-line"].format(
        round_trip=plain_number(MS_PER_S * (socket.round_trip_s or 0.0)), again=percent(again)
    )
