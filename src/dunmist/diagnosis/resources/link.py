"""Resource ``link``: is the line full?"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import figure
from dunmist.diagnosis.resources.declared import (
    Demand,
    Resource,
    ResourceInstance,
    Saving,
    flow_demand,
    traffic_coverage,
)
from dunmist.series import LinkSeries, Rate
from dunmist.thresholds.levels import link_levels

BITS_PER_MBIT = 1e6


def _instances(exam: Examination) -> list[ResourceInstance]:
    """Return each link that leads elsewhere of which anything tells how full it is."""
    return [
        _instance(exam, link)
        for link in exam.series.devices.outward_links
        if link.used is not None or link.waiting_bytes is not None
    ]


def _instance(exam: Examination, link: LinkSeries) -> ResourceInstance:
    table, queued = exam.limits.link, _queued(exam, link)
    # without a speed there is no share of it, only the time in which the queue was full
    used = link.used if link.used is not None else queued
    assert used is not None
    evidence = [
        figure("link-received", exam.typical(link.received_bytes_per_s)),
        figure("link-sent", exam.typical(link.sent_bytes_per_s)),
    ]
    # a queue that waits while little is carried is limited elsewhere: the speed says nothing then
    is_shaped = queued is not None and (
        queued.mean() >= table.queued_share and exam.typical(used) < table.busy
    )
    if is_shaped:
        moved = link.received_bytes_per_s + link.sent_bytes_per_s
        evidence.insert(0, figure("link-shaped", exam.typical(moved), name=link.name))
    elif link.used is not None:
        speed = (link.about.speed_bits_per_s if link.about else None) or 0
        share = exam.typical(used)
        evidence.insert(0, figure("link-used", share, of=speed / BITS_PER_MBIT, name=link.name))
    if queued is not None:
        evidence.append(
            figure("link-queued", queued.mean(), of=float(link.queue_drops), name=link.name)
        )
    return ResourceInstance(
        link.name,
        used.between(0.0, 1.0),
        queued,
        link_levels(used, queued, table),
        evidence,
        errors=round(link.errors_per_s.total()),
    )


def _queued(exam: Examination, link: LinkSeries) -> Rate | None:
    """Return the share of time in which something waited to be sent, None if that is unseen."""
    if link.waiting_bytes is None:
        return None
    table = exam.limits.link
    waits = link.waiting_bytes.at_ends().at_least(table.queued_bytes)
    # each reading is one sample: several say how often something waited
    return waits.over(table.queue_window_s)


def _demand(exam: Examination) -> Demand:
    return flow_demand(exam, lambda application: application.network_bytes_per_s, "tcp-bytes/s")


def _coverage(exam: Examination) -> float | None:
    """Return the share of what links carried that went over TCP to other computers."""
    links = exam.series.devices.outward_links
    # the link below carries the bytes of a tunnel or bridge once more
    physical = [link for link in links if link.about and link.about.physical] or links
    moved = [link.received_bytes_per_s + link.sent_bytes_per_s for link in physical]
    return traffic_coverage(
        exam, moved, [application.network_bytes_per_s for application in exam.applications]
    )


LINK = Resource(
    "link",
    2,
    _instances,
    _demand,
    Saving("link", lambda application: application.network_bytes_per_s.mean(), "bytes/s"),
    _coverage,
    follows_at_once=True,
)
