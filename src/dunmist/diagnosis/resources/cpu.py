"""Resource ``cpu``: are the logical CPUs together too few for the work?"""

from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.cpu_yielding import find_yielding
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.quotas import quota_limited
from dunmist.diagnosis.records import EvidenceFigure, figure
from dunmist.diagnosis.resources.declared import NOTHING, Demand, Resource, ResourceInstance, Saving
from dunmist.diagnosis.words import EvidenceKey
from dunmist.series import Application, Floats, Rate, Series
from dunmist.thresholds.levels import WAITING_LEAST, cpu_levels

SPLIT_KEYS: dict[str, EvidenceKey] = {
    "user": "cpu-user",
    "nice": "cpu-nice",
    "system": "cpu-system",
    "iowait": "cpu-iowait",
    "irq": "cpu-irq",
    "softirq": "cpu-softirq",
    "steal": "cpu-steal",
}
# standard errors by which a mean has to be beyond what it is held against
ERRORS = 2.0


def ordinary_applications(exam: Examination) -> list[Application]:
    """Return the applications whose waiting tells something of the CPUs.

    Low-priority work gives way to all other, and what has a quota waits for that.
    """
    share, limited = exam.limits.cpu.low_priority_share, exam.once(quota_limited)
    gives = exam.once(find_yielding)
    return [
        application
        for application in exam.applications
        if gives[application.number] < share and application.number not in limited
    ]


def _instances(exam: Examination) -> list[ResourceInstance]:
    machine = exam.series.machine
    # stolen time was never this computer's to give
    stolen = Rate.total_of(
        machine.line, [processor.share("steal").known_or(0.0) for processor in machine.processors]
    )
    left = (machine.online - stolen).between(1e-6, np.inf)
    # the kernel accounts stolen and busy time in different ticks, so the quotient may pass 1
    used = (machine.busy_cores / left).between(0.0, 1.0)
    waiting = _waiting(exam)
    pressure = _waiting_share(exam, waiting)
    held_up = waiting.ordinary / (waiting.ordinary + machine.busy_cores.between(1e-9, np.inf))
    evidence = [
        figure("cpu-used", exam.typical(used), of=exam.processors),
        figure("cpu-pressure", exam.typical(pressure))
        if "cpu" in machine.stalled
        else figure("cpu-pressure-queue", exam.typical(pressure)),
        figure("cpu-held-up", exam.typical(held_up)),
        *_load(exam),
        *_split(exam),
    ]
    conditions = cpu_levels(used, pressure, held_up, exam.limits.cpu)
    return [ResourceInstance(None, used, pressure, conditions, evidence)]


def _load(exam: Examination) -> list[EvidenceFigure]:
    load = exam.series.machine.load_one.median()
    if load is None:
        return []
    return [figure("load-per-processor", load / exam.processors, of=load)]


def _split(exam: Examination) -> list[EvidenceFigure]:
    evidence = []
    for kind, key in SPLIT_KEYS.items():
        shares = [processor.share(kind).values for processor in exam.series.machine.processors]
        part = float(np.nanmean(shares)) if not np.isnan(shares).all() else 0.0
        if part >= exam.limits.cpu.split_least:
            evidence.append(figure(key, part))
    return evidence


class Waiting(NamedTuple):
    """Mean tasks that waited for a CPU: those of ordinary work, and all."""

    ordinary: Rate
    all: Rate


def _waiting(exam: Examination) -> Waiting:
    """Return the waiting applications; processes too short to be seen count as ordinary work.

    Run-queue delay tells it for processes that live long enough, the mean length of the run queue
    for the others.
    """
    line, ordinary = exam.series.line, exam.once(ordinary_applications)
    seen = Rate.total_of(line, [application.waiting for application in exam.applications])
    of_ordinary = Rate.total_of(line, [application.waiting for application in ordinary])
    unseen = _unseen_waiting(exam, seen, of_ordinary, len(ordinary) == len(exam.applications))
    return Waiting(of_ordinary + unseen, seen + unseen)


def _unseen_waiting(exam: Examination, seen: Rate, of_ordinary: Rate, all_ordinary: bool) -> float:
    queue = _queue(exam).known()
    if not len(queue):
        return 0.0
    # the queue is one sample a tick: only its mean over the capture is steady enough
    mean = float(queue.mean())
    if not all_ordinary:
        if seen.total() <= of_ordinary.total():
            return 0.0  # how long the others waited is not published
        # they are taken out of a figure that has an error of its own
        mean -= ERRORS * float(queue.std()) / len(queue) ** 0.5
    return max(0.0, mean - float(exam.series.machine.online.values.mean()) - seen.mean())


def _waiting_share(exam: Examination, waiting: Waiting) -> Rate:
    """Return the share of time in which ordinary tasks waited for a CPU.

    The kernel counts tasks of low priority that wait as well; they are taken out in proportion.
    Lower bound: the time in which ordinary tasks measurably waited.
    """
    machine = exam.series.machine
    # stall accounting does not know priorities; run-queue delay is known for each process
    part: Floats = np.divide(
        waiting.ordinary.values,
        waiting.all.values,
        out=np.ones_like(waiting.all.values),
        where=waiting.all.values > WAITING_LEAST,
    )
    stalled = machine.stalled.get("cpu")
    if stalled is not None:
        real = np.minimum(stalled.values, np.nan_to_num(waiting.ordinary.values))
        return Rate(machine.line, np.maximum(stalled.values * part, real))
    # without stall accounting: more tasks that could run than processors means that one waits,
    # which is also true of those too short-lived to be seen
    crowded = (_queue(exam) - machine.online).at_least(NOTHING)
    return waiting.ordinary.between(0.0, 1.0) | crowded


def _queue(exam: Examination) -> Rate:
    """Return the tasks that ran or waited at the end of each interval, the sampler left out."""
    # the reader of the count is running itself
    own = 1.0 if exam.series.header.observer else 0.0
    return (exam.series.machine.runnable.at_ends() - own).between(0.0, np.inf)


def _demand(exam: Examination) -> Demand:
    """Return the CPU use of each application, and its part in the total.

    Waiting is no demand: who waits takes nothing that others could have instead. Low-priority time
    makes nobody else wait for long.
    """
    machine, table = exam.series.machine, exam.limits.cpu
    gives = exam.once(find_yielding)
    weights = [
        1.0 - gives[application.number] * (1.0 - table.low_priority_weight)
        for application in exam.applications
    ]
    ran_s = [application.cores.total() for application in exam.applications]
    whole_s = max(machine.busy_cores.total(), sum(ran_s), NOTHING)
    parts = np.asarray(ran_s) * np.asarray(weights) / whole_s
    return Demand(
        [application.cores for application in exam.applications], machine.busy_cores, "cores", parts
    )


def attributed_cpu_s(series: Series) -> tuple[float, float]:
    """Return CPU seconds attributed to somebody, and those that the kernel counted busy.

    The kernel counts the first exactly, and the second by sampling the running task at each clock
    tick, so over a short capture the first may be the greater.
    """
    machine = series.machine
    attributed_s = sum(application.cores.total() for application in series.applications)
    return attributed_s + machine.interrupt_cores.total(), machine.busy_cores.total()


def cpu_coverage(exam: Examination) -> float | None:
    """Return the share of CPU time of processes, short-lived children and interrupts."""
    attributed_s, counted_s = attributed_cpu_s(exam.series)
    if counted_s < exam.limits.coverage.cpu_least_s:
        return None
    return min(1.0, attributed_s / counted_s)


# also of heat: nobody can tell how many kelvin a computer is cooler without a program
CPU_SAVING = Saving("cpu", lambda application: application.cores.mean(), "cores")
CPU = Resource("cpu", 2, _instances, _demand, CPU_SAVING, cpu_coverage, follows_at_once=True)
