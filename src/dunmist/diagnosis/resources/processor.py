"""Resource ``cpu``: are the logical processors together too few for the work?"""

import numpy as np

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.giving_way import giving_way
from dunmist.diagnosis.quotas import quota_limited
from dunmist.diagnosis.records import Sign, sign
from dunmist.diagnosis.resources.declared import NOTHING, Demand, Resource, Thing
from dunmist.diagnosis.words import LevelWord
from dunmist.series import Application, Floats, Rate

SPLIT_KEYS = {
    "user": "cpu-user",
    "nice": "cpu-nice",
    "system": "cpu-system",
    "iowait": "cpu-iowait",
    "irq": "cpu-irq",
    "softirq": "cpu-softirq",
    "steal": "cpu-steal",
}
# less waiting than this is no ground for a proportion
WAITING_LEAST = 1e-3


def ordinary_applications(exam: Examination) -> list[Application]:
    """Return the applications whose waiting tells something of the processors.

    Low-priority work gives way to all other, and what has a quota waits for that.
    """
    share, limited = exam.limits.cpu.low_priority_share, exam.once(quota_limited)
    gives = exam.once(giving_way)
    return [
        application
        for application in exam.applications
        if gives[application.number] < share and application.number not in limited
    ]


def _things(exam: Examination) -> list[Thing]:
    machine, table = exam.series.machine, exam.limits.cpu
    # what a hypervisor took was never this computer's to give
    stolen = Rate.total_of(
        machine.line, [processor.share("steal").known_or(0.0) for processor in machine.processors]
    )
    left = (machine.online - stolen).between(1e-6, np.inf)
    # the kernel accounts stolen and busy time in different ticks, so the quotient may pass 1
    used = (machine.busy_cores / left).between(0.0, 1.0)
    ordinary = exam.once(ordinary_applications)
    waiting = Rate.total_of(machine.line, [application.waiting for application in ordinary])
    pressure = _waiting_share(exam, waiting)
    held_up = _held_up_share(exam, waiting, all_ordinary=len(ordinary) == len(exam.applications))
    conditions: dict[LevelWord, Rate] = {
        "busy": used.at_least(table.busy),
        "strained": used.at_least(table.strained_used)
        & pressure.at_least(table.strained_pressure)
        & held_up.at_least(table.strained_held_up),
        "choked": used.at_least(table.choked_used)
        & pressure.at_least(table.choked_pressure)
        & held_up.at_least(table.choked_held_up),
    }
    signs = [
        sign("cpu-used", exam.typical(used), of=exam.processors),
        sign("cpu-pressure", exam.typical(pressure))
        if "cpu" in machine.stalled
        else sign("cpu-pressure-queue", exam.typical(pressure)),
        sign("cpu-held-up", exam.typical(held_up)),
        *_load(exam),
        *_split(exam),
    ]
    return [Thing(None, used, pressure, conditions, signs)]


def _load(exam: Examination) -> list[Sign]:
    load = exam.series.machine.load_one.median()
    if load is None:
        return []
    return [sign("load-per-processor", load / exam.processors, of=load)]


def _split(exam: Examination) -> list[Sign]:
    signs = []
    for kind in SPLIT_KEYS:  # noqa: PLC0206 - a test follows keys by their table
        shares = [processor.share(kind).values for processor in exam.series.machine.processors]
        part = float(np.nanmean(shares)) if not np.isnan(shares).all() else 0.0
        if part >= exam.limits.cpu.split_least:
            signs.append(sign(SPLIT_KEYS[kind], part))
    return signs


def _waiting_share(exam: Examination, ordinary: Rate) -> Rate:
    """Return the share of time in which ordinary work waited for a processor.

    The kernel counts other work that waits as well; it is taken out in proportion to the run-queue
    delay, of which ``ordinary`` is what ordinary work had. Proportion or not: as long as ordinary
    tasks waited while somebody waited is real.
    """
    machine = exam.series.machine
    waiting = Rate.total_of(
        machine.line, [application.waiting for application in exam.applications]
    )
    # stall accounting does not know priorities; run-queue delay is told process by process
    part: Floats = np.divide(
        ordinary.values, waiting.values,
        out=np.ones_like(waiting.values), where=waiting.values > WAITING_LEAST,
    )  # fmt: skip
    stalled = machine.stalled.get("cpu")
    if stalled is not None:
        real = np.minimum(stalled.values, np.nan_to_num(ordinary.values))
        return Rate(machine.line, np.maximum(stalled.values * part, real))
    # without stall accounting: more tasks that could run than processors means that one waits,
    # which is also true of those too short-lived to be seen
    crowded = (_queue(exam) - machine.online).at_least(NOTHING)
    return ordinary.between(0.0, 1.0) | crowded


def _held_up_share(exam: Examination, waiting: Rate, *, all_ordinary: bool) -> Rate:
    """Return the share of the wanted processor time that was spent waiting, in each interval.

    Run-queue delay tells it for processes that live long enough to be seen; the mean length of the
    run queue tells it for a storm of short-lived ones, where all work is ordinary. The greater of
    the two counts.
    """
    machine = exam.series.machine
    by_delay = waiting / (waiting + machine.busy_cores.between(1e-9, np.inf))
    queue = _queue(exam).known()
    if not all_ordinary or not len(queue):
        return by_delay
    mean = float(queue.mean())
    beyond = max(0.0, mean - float(machine.online.values.mean())) / max(mean, 1.0)
    # the queue is one sample a tick: only its mean over the capture is steady enough
    return by_delay.between(beyond, np.inf)


def _queue(exam: Examination) -> Rate:
    """Return the tasks that ran or waited at the end of each interval, the sampler left out."""
    # who reads the count is running
    own = 1.0 if exam.series.header.observer else 0.0
    return (exam.series.machine.runnable.at_ends() - own).between(0.0, np.inf)


def _demand(exam: Examination) -> Demand:
    """Return what each application ran, and its part in what all ran together.

    Waiting is no demand: who waits takes nothing that others could have instead. Low-priority time
    makes nobody else wait for long.
    """
    machine, table = exam.series.machine, exam.limits.cpu
    gives = exam.once(giving_way)
    weights = [1.0 - gives[application.number] * (1.0 - table.low_priority_weight)
               for application in exam.applications]  # fmt: skip
    ran_s = [application.cores.total() for application in exam.applications]
    whole_s = max(machine.busy_cores.total(), sum(ran_s), NOTHING)
    parts = np.asarray(ran_s) * np.asarray(weights) / whole_s
    return Demand(
        [application.cores for application in exam.applications], machine.busy_cores, "cores", parts
    )


PROCESSOR = Resource("cpu", 2, _things, _demand)
