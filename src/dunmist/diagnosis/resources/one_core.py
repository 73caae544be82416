"""Resource ``core``: does a program hang on the one logical CPU that it can use?"""

from collections import Counter
from typing import NamedTuple

import numpy as np

from dunmist.diagnosis.cpu_binding import Binding, find_bindings
from dunmist.diagnosis.cpu_yielding import find_yielding
from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.process_chains import Chain, find_chains
from dunmist.diagnosis.quotas import quota_limited
from dunmist.diagnosis.records import figure
from dunmist.diagnosis.resources.cpu import CPU_SAVING, cpu_coverage
from dunmist.diagnosis.resources.declared import Demand, Resource, ResourceInstance, shares_of
from dunmist.diagnosis.thread_bottleneck import OneThread, find_one_threads
from dunmist.diagnosis.words import EvidenceKey, LevelWord
from dunmist.series import Application, Floats, Process, Rate


class Bound(NamedTuple):
    """A process of which one thread keeps a CPU full, or that is bound to a full one."""

    process: Process
    wanted: Rate  # share of one CPU that the thread ran or waited for
    full: Rate  # intervals in which it was full
    typical: float
    full_share: float  # of the known time
    key: EvidenceKey = "core-full"


def find_bound(exam: Examination) -> list[Bound]:
    """Return the processes bound by one processor, the fullest first.

    It follows the process, not the processor: the scheduler may move it about. Low-priority work,
    what has a quota that runs out, the kernel's own tasks and the sampler are left out.
    """
    table, limited = exam.limits.core, exam.once(quota_limited)
    given, gives = _given(exam), exam.once(find_yielding)
    bounds = []
    for process, thread in exam.once(find_one_threads).items():
        application = process.application
        low = gives[application.number] >= exam.limits.cpu.low_priority_share
        if application.observer or application.kernel or low or application.number in limited:
            continue
        bound = _bound(exam, process, thread, given)
        ran = exam.typical(thread.ran / given)
        if bound.full_share >= table.bound_share and ran >= table.ran_least:
            bounds.append(bound)
    # a program that fills many processors at once is not bound by one of them
    # a pool of full processes wants more processors, not a faster one
    filled = Counter(bound.process.application.number for bound in bounds)
    # as many as there are processors are enough, however few there are
    many = max(min(table.many_least, exam.processors), table.many_share * exam.processors)
    single = [bound for bound in bounds if filled[bound.process.application.number] < many]
    found = {bound.process.application.number for bound in single}
    single += [
        bound
        for binding in exam.once(find_bindings)
        if binding.cpus == 1 and binding.application.number not in found
        for bound in _together(exam, binding, given)
    ]
    found |= {bound.process.application.number for bound in single}
    single += [
        bound
        for chain in exam.once(find_chains)
        if chain.application.number not in found
        for bound in _in_turn(exam, chain, given)
    ]
    return sorted(single, key=lambda bound: (-bound.full_share, -bound.typical))


def _bound(exam: Examination, process: Process, thread: OneThread, given: Rate) -> Bound:
    table = exam.limits.core
    crowded = exam.series.machine.used.at_least(exam.limits.cpu.strained_used)
    waited = thread.wanted - thread.ran
    # a task that waits while CPUs are free waits for its quota, which no CPU mends
    waited = Rate(
        waited.line,
        np.where(crowded.values > 0, waited.values, np.minimum(waited.values, table.waited_most)),
    )
    # a process is read some milliseconds sooner or later within a tick, which in a short interval
    # is as much as the margin between full and not full
    wanted = ((thread.ran + waited) / given).over(table.least_s)
    full = wanted.at_least(table.full)
    known = Rate(wanted.line, 1.0 - np.isnan(wanted.values))
    if known.mean() >= exam.limits.lasting.share:
        full = full.where(known)
    typical = min(1.0, exam.typical(wanted))
    return Bound(process, wanted.between(0.0, 1.0), full, typical, full.mean())


def _together(exam: Examination, binding: Binding, given: Rate) -> list[Bound]:
    """Return the busiest process of those bound to one CPU, if together they keep it full."""
    table, line = exam.limits.core, exam.series.line
    ran = Rate.total_of(line, [each.cores.known_or(0.0) for each in binding.processes])
    wanted = ((ran + binding.waiting) / given).over(table.least_s)
    full = wanted.at_least(table.full)
    if full.mean() < table.bound_share or exam.typical(ran / given) < table.ran_least:
        return []
    busiest = max(binding.processes, key=lambda process: process.cpu_s)
    typical = min(1.0, exam.typical(wanted))
    wanted = wanted.between(0.0, 1.0)
    return [Bound(busiest, wanted, full, typical, full.mean(), "core-full-bound")]


def _in_turn(exam: Examination, chain: Chain, given: Rate) -> list[Bound]:
    """Return the durable process of a chain, if its processes keep a CPU full."""
    table = exam.limits.core
    ran = chain.ran / given
    full = ran.at_least(table.in_turn_full)
    if full.mean() < table.bound_share:
        return []
    first = min(chain.application.members, key=lambda process: process.first_row)
    typical = min(1.0, exam.typical(ran))
    return [Bound(first, ran.between(0.0, 1.0), full, typical, full.mean(), "core-full-in-turn")]


def _given(exam: Examination) -> Rate:
    """Return the share of each interval that the hypervisor left to the fullest processor.

    Stolen time counts neither as a thread's running nor as its waiting.
    """
    processors, line = exam.series.machine.processors, exam.series.line
    stolen = np.array([processor.share("steal").known_or(0.0).values for processor in processors])
    busy = np.array([processor.busy.known_or(0.0).values for processor in processors])
    fullest = np.argmax(busy + stolen, axis=0)
    left: Floats = 1.0 - np.take_along_axis(stolen, fullest[None, :], axis=0)[0]
    return Rate(line, np.maximum(left, exam.limits.core.left_least))


def _instances(exam: Examination) -> list[ResourceInstance]:
    """Return the fullest single processor, as the program that it limits sees it."""
    processors, line = exam.series.machine.processors, exam.series.line
    busiest = max(processors, key=lambda processor: exam.typical(processor.busy))
    share = exam.typical(busiest.busy)
    name = f"cpu{busiest.number}"
    evidence = [figure("core-busiest", share, name=name)]
    used = Rate(
        line, np.max([processor.busy.known_or(0.0).values for processor in processors], axis=0)
    )
    conditions: dict[LevelWord, Rate] = {"busy": used.at_least(exam.limits.core.busy)}
    bound = exam.once(find_bound)
    if not bound:
        # the sampler's own share is free once sampling ends
        own = min(share, _own_share(exam, busiest.number))
        if own >= exam.limits.core.own_least:
            evidence.append(figure("core-own", own, name=name))
        # no single processor is busy when it is another one at each moment
        level: LevelWord = "busy" if share - own >= exam.limits.core.busy else "calm"
        return [
            ResourceInstance(
                name, used, None, conditions, evidence, level, pressure_value=0.0, used_value=share
            )
        ]
    first = bound[0]
    process = first.process
    # the scheduler may move it about, so that no single CPU is full
    if share < exam.limits.core.busy:
        evidence.clear()
    evidence.insert(0, figure(first.key, first.typical, name=process.name, pid=float(process.pid)))
    conditions["strained"] = first.full
    return [
        ResourceInstance(
            process.name,
            Rate(line, np.fmax(used.values, first.wanted.values)),
            first.wanted,
            conditions,
            evidence,
            pressure_value=first.full_share,
            used_value=first.typical,
        )
    ]


def _own_share(exam: Examination, number: int) -> float:
    """Return the share of a CPU that the sampler used, by where it was seen at the ticks."""
    used, own = exam.series.processor_cpu_s, exam.series.sampler
    if own is None or number >= len(used):
        return 0.0
    return float(used[number][own.application.number]) / exam.series.line.measured_s


def _demand(exam: Examination) -> Demand:
    """Return the use of one processor by the threads of each application."""
    machine, line = exam.series.machine, exam.series.line
    bound = exam.once(find_bound)
    if not bound:
        has = [application.cores for application in exam.applications]
        return Demand(has, machine.busy_cores, "cores", np.zeros(len(has)))

    def of(application: Application) -> list[Bound]:
        return [task for task in bound if task.process.application is application]

    has = [
        Rate.total_of(line, [task.wanted.known_or(0.0) for task in of(application)])
        for application in exam.applications
    ]
    full = [sum(task.full_share for task in of(application)) for application in exam.applications]
    return Demand(has, Rate.total_of(line, has), "processor", shares_of(full))


CORE = Resource("core", 3, _instances, _demand, CPU_SAVING, cpu_coverage, follows_at_once=True)
