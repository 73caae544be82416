"""One round of reading after another, turned into records.

Given a root, the machine, a plan and a clock, it yields records in the order of a capture. New
processes, new sockets and events come before the tick they belong to. The two surveys come after
the first tick that leaves time for one, and after the last.
"""

import math
from collections.abc import Callable, Iterator

import msgspec

from dunmist.computer import Inventory, Machine, ParseError, Root, parse_process_stat
from dunmist.errors import UnreadableComputer
from dunmist.sampling.clock import Clock
from dunmist.sampling.pace import Due, Plan, pace
from dunmist.sampling.records import Event, ProcessLine, SocketLine, Tick
from dunmist.sampling.sources import Round, read_round
from dunmist.sampling.survey import Survey, begin_survey, survey
from dunmist.sampling.tick_context import OpenComputer

Record = ProcessLine | SocketLine | Event | Tick | Survey
# the two clocks of the kernel differ by more than this only after a suspend
ASLEEP_LEAST_S = 1.0
# of a run that goes on, when what is read last is read for the first time
SURVEYED_AFTER_S = 20.0
# a clock that is corrected slowly moves by less
CLOCK_SET_LEAST_S = 1.0
# a survey that would make the next tick late waits for a tick that leaves this of its interval
LEFT_SHARE, SURVEYED_BY_TICK = 0.5, 3
# a source read before the last tick leaves it as much of the pause
AHEAD_SPARED_S = 0.1


class Observer(msgspec.Struct, frozen=True):
    """The identity of the sampling program itself."""

    pid: int
    start_clk: int


def find_observer(root: Root, pid: int | None = None) -> Observer | None:
    """Return the identity of the sampler: this program, or the process that reads for it.

    None when it is not part of the computer it samples.
    """
    if pid is None and not root.is_this_computer:
        return None
    try:
        own = parse_process_stat(root.read(f"proc/{pid or 'self'}/stat"))
    except (OSError, ParseError):
        if pid is None:
            raise
        return None
    return Observer(own.pid, own.start_clk)


def sample(
    root: Root,
    machine: Machine,
    inventory: Inventory,
    plan: Plan,
    clock: Clock,
    *,
    survey_every_s: float = math.inf,
    with_code: bool = False,
    with_files: bool = False,
    code_wanted: Callable[[], bool] | None = None,
) -> Iterator[Record]:
    """Yield the records of one capture; raises UnreadableComputer when the root goes away.

    One that goes on and on takes its last survey early, and again every so often. ``code_wanted``
    says at each tick whether to sample which code runs.
    """
    computer = OpenComputer(
        root, machine, inventory, clock, with_code=with_code, with_files=with_files
    )
    before = _Before(online=len(machine.processors))
    number = 0
    next_survey_s = math.inf if math.isinf(survey_every_s) else SURVEYED_AFTER_S
    try:
        for due in pace(plan, clock, computer.meanwhile, computer.pause_s):
            began_s = clock.monotonic_s()
            yield from _events_before(due, before, clock)
            if code_wanted is not None:
                computer.sample_code(wanted=code_wanted())
            tick = read_round(computer, due, plan, due.at_s - before.at_s)
            yield from _changes(due.number, tick)
            online = len(tick.tick.processors.times_clk)
            if online != before.online:
                before.online = online
                yield Event("processors", due.number, count=online)
            yield tick.tick
            before.at_s, number = due.at_s, due.number
            if not before.surveyed:
                done_s = due.at_s + clock.monotonic_s() - began_s
                if done_s <= due.due_s + LEFT_SHARE * plan.every_s or number >= SURVEYED_BY_TICK:
                    before.surveyed = True
                    yield _survey(computer, number, clock, is_last=False)
            elif not before.drives_asked:
                # their children are started when nothing else is read for the first time
                before.drives_asked = True
                computer.ask_drives()
            elif due.at_s >= next_survey_s:
                next_survey_s = due.at_s + survey_every_s
                yield _survey(computer, due.number, clock, is_last=True)
            # time that comes in frames is over as soon as it was read
            if due.number == plan.intervals - 1 and clock.frame_early_s is None:
                until_s = began_s + due.due_s - due.at_s + plan.every_s - AHEAD_SPARED_S
                if clock.monotonic_s() < until_s:
                    begin_survey(computer, clock.now().timestamp(), until_s)
        if not before.surveyed:
            yield _survey(computer, number, clock, is_last=False)
        yield _survey(computer, number, clock, is_last=True)
    except OSError as error:
        raise UnreadableComputer(
            f"{root.path}/proc: {error.strerror} while sampling; check that it is still there"
        ) from error
    finally:
        computer.close()


class _Before(msgspec.Struct):
    """Figures of the round before."""

    online: int
    at_s: float = 0.0
    surveyed: bool = False
    drives_asked: bool = False
    asleep_s: float | None = None
    wall_s: float | None = None


def _survey(computer: OpenComputer, number: int, clock: Clock, *, is_last: bool) -> Survey:
    now_s = clock.now().timestamp()
    return survey(computer, number, now_s, is_last=is_last)


def _events_before(due: Due, before: _Before, clock: Clock) -> Iterator[Event]:
    if due.missed:
        yield Event("gap", due.number, count=due.missed)
    boot_s = clock.boottime_s()
    asleep_s = boot_s - clock.monotonic_s()
    if before.asleep_s is not None and asleep_s - before.asleep_s > ASLEEP_LEAST_S:
        yield Event("asleep", due.number, seconds=round(asleep_s - before.asleep_s, 3))
    before.asleep_s = asleep_s
    wall_s = clock.now().timestamp() - boot_s
    if before.wall_s is not None and abs(wall_s - before.wall_s) > CLOCK_SET_LEAST_S:
        yield Event("clock-set", due.number, seconds=round(wall_s - before.wall_s, 3))
    before.wall_s = wall_s


def _changes(number: int, round: Round) -> Iterator[ProcessLine | SocketLine | Event]:
    # exits first: a number may have been given away again within the same interval
    if round.processes.ended:
        yield Event("exit", number, processes=list(round.processes.ended))
    for identity, facts in round.processes.appeared:
        yield ProcessLine(identity, number, facts)
    for identity, facts in round.processes.became:
        yield Event("exec", number, processes=[identity], facts=facts)
    for identity, about in round.sockets.appeared:
        yield SocketLine(identity, number, about)
