"""Topic ``ports``: who has which port, and who talks to whom."""

import pandas as pd

from dunmist.applications import unit_of
from dunmist.series.load import Series
from dunmist.series.sockets import SocketSeries

SCOPES = {True: "this computer", False: "open"}


def port_table(series: Series) -> pd.DataFrame:
    """Return one row for each socket seen, those that listen first, by port."""
    grouping = series.processes.grouping
    rows = []
    for one in sorted(series.sockets, key=_order):
        owners = [grouping.facts(owner) for owner in one.owners]
        facts = one.facts
        rows.append(
            {
                "protocol": facts.protocol + (str(facts.version) if facts.version else ""),
                "port": facts.local_port,
                "local": facts.local,
                "scope": SCOPES[one.is_loopback],
                "state": "ended" if one.ended else ("listen" if one.listens else one.state),
                "pids": " ".join(str(owner.pid) for owner in owners) or None,
                "programs": " ".join(sorted({grouping.program(owner).name for owner in one.owners}))
                or None,
                "users": " ".join(sorted({owner.user or "unknown" for owner in owners})) or None,
                "unknown_owner": None if owners else _why_unknown(series, facts.protocol),
                "uid": facts.uid,
                "unit": " ".join(
                    sorted({unit for owner in owners if (unit := unit_of(owner.cgroup))})
                )
                or None,
                "remote": facts.remote,
                "remote_port": facts.remote_port,
                "sent_bytes": one.sent_bytes,
                "received_bytes": one.received_bytes,
                "retransmitted": one.retransmitted,
            }
        )
    frame = pd.DataFrame(rows)
    for name in ("port", "remote_port", "sent_bytes", "received_bytes", "uid"):
        if name in frame:
            frame[name] = frame[name].astype("Int64")
    return frame


def _why_unknown(series: Series, protocol: str) -> str:
    """Return why nobody was found to own a socket, and what would reveal it."""
    if not series.header.privileged:
        return "hidden: sample as administrator"
    if protocol == "unix":
        return "closed meanwhile, or the kernel's"
    return "the kernel's, closed meanwhile, or in another namespace"


def _order(one: SocketSeries) -> tuple[bool, bool, int, int, str]:
    facts = one.facts
    return (facts.protocol == "unix", not one.listens, facts.local_port or 0,
            facts.remote_port or 0, facts.local or "")  # fmt: skip
