"""Resource ``gpu``: is a graphics card full?"""

import numpy as np

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.records import figure
from dunmist.diagnosis.resources.declared import NOTHING, Demand, Resource, ResourceInstance, Saving
from dunmist.diagnosis.words import LevelWord
from dunmist.series import Rate


def _instances(exam: Examination) -> list[ResourceInstance]:
    """Return each card that publishes how busy it is."""
    table, instances = exam.limits.gpu, []
    for card in exam.series.devices.graphics:
        busy = card.busy.at_ends()
        if not busy.is_known:
            continue
        conditions: dict[LevelWord, Rate] = {
            "busy": busy.at_least(table.busy),
            "strained": busy.at_least(table.strained_used),
            "choked": busy.at_least(table.choked_used),
        }
        evidence = [figure("gpu-busy", exam.typical(busy), name=card.name)]
        instances.append(ResourceInstance(card.name, busy, None, conditions, evidence))
    return instances


def _demand(exam: Examination) -> Demand:
    busy = [card.busy.at_ends().known_or(0.0) for card in exam.series.devices.graphics]
    whole = Rate.total_of(exam.series.line, busy)
    has = [application.graphics for application in exam.applications]
    totals = np.asarray([rate.total() for rate in has])
    # time that no program reports belongs to none
    return Demand(has, whole, "card", totals / max(whole.total(), float(totals.sum()), NOTHING))


GRAPHICS = Resource(
    "gpu",
    2,
    _instances,
    _demand,
    Saving("gpu", lambda application: min(1.0, application.graphics.mean()), "share"),
    coverage=None,
    follows_at_once=False,
)
