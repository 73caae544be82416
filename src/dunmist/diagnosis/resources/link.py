"""Resource ``link``: is the line full?"""

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import sign
from dunmist.diagnosis.resources.declared import Demand, Resource, Thing, flow_demand
from dunmist.diagnosis.words import LevelWord
from dunmist.series import LinkSeries, Rate

BITS_PER_MBIT = 1e6


def _things(exam: Examination) -> list[Thing]:
    """Return each link that leads elsewhere and whose speed is known."""
    links = exam.series.devices.outward_links
    return [_thing(exam, link, link.used) for link in links if link.used is not None]


def _thing(exam: Examination, link: LinkSeries, used: Rate) -> Thing:
    table = exam.limits.link
    conditions: dict[LevelWord, Rate] = {
        "busy": used.at_least(table.busy),
        "strained": used.at_least(table.strained_used),
        "choked": used.at_least(table.choked_used),
    }
    speed = link.about.speed_bits_per_s if link.about else None
    signs = [
        sign("link-used", exam.typical(used), of=(speed or 0) / BITS_PER_MBIT, name=link.name),
        sign("link-received", exam.typical(link.received_bytes_per_s)),
        sign("link-sent", exam.typical(link.sent_bytes_per_s)),
    ]
    # the kernel does not say how long work waits for a line
    return Thing(
        link.name, used.between(0.0, 1.0), None, conditions, signs,
        errors=round(link.errors_per_s.total()),
    )  # fmt: skip


def _demand(exam: Examination) -> Demand:
    return flow_demand(exam, lambda one: one.network_bytes_per_s, "tcp-bytes/s")


LINK = Resource("link", 2, _things, _demand)
