"""Proves by alternation whether a suspect is the cause: the only experiment there is at a desk."""

import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Literal, NamedTuple

from dunmist.advice import Act, Target, act_against, describe_proof
from dunmist.captures import Header
from dunmist.compare import Design, Experiment, Phase, Proof, draw_order, proof_of
from dunmist.computer import Machine, Root
from dunmist.diagnosis import RESOURCE_BY_WORD, Culprit, ResourceWord
from dunmist.errors import Stopped, Unsuccessful
from dunmist.fixing import Alternating, Outcome, Result, carry_out
from dunmist.jobs.acts import this_computer
from dunmist.jobs.capture import CaptureOptions, Follower, RecordSink, follow_nothing, run_capture
from dunmist.jobs.interim_verdict import InterimVerdict
from dunmist.jobs.judge import load
from dunmist.jobs.measure import same_applications
from dunmist.jobs.selection import Chosen
from dunmist.jobs.settings import journal_path
from dunmist.sampling import Observer, Plan, Record, Tick
from dunmist.series import Application

Unprovable = Literal["calm", "slow-to-follow", "write-back", "unseen"]
# a phase of two seconds then has eight ticks
EVERY_S = 0.25
# with fewer phases than this, orders are too few for a two-sided interval
PHASES, PHASES_LONG, LONG_S = 10, 14, 60.0
# a server is paused for less than its clients would notice, and never twice in a row
SERVING_PHASES, SERVING_PAUSED, SERVING_PAUSE_MOST_S = 16, 5, 2.5


class Proven(NamedTuple):
    """Result of an experiment: the act with its number, the proof, and a sentence."""

    outcome: Outcome
    proof: Proof
    text: str


def suspected_resource(chosen: Chosen) -> tuple[ResourceWord, str | None]:
    """Return the resource that the suspect is tested against, and the name of a disk or link."""
    diagnosis = chosen.judged.diagnosis
    resource = diagnosis.limiting or "cpu"
    states = [state for state in diagnosis.resources if state.resource == resource]
    return resource, max(states, key=lambda state: state.used).name if states else None


def why_unprovable(chosen: Chosen, phase_s: float) -> Unprovable | None:
    """Return why no pause of some seconds would prove anything; None if it would."""
    diagnosis, series = chosen.judged.diagnosis, chosen.judged.series
    resource, name = suspected_resource(chosen)
    if diagnosis.limiting is None:
        return "calm"
    if not RESOURCE_BY_WORD[resource].follows_at_once:
        return "slow-to-follow"
    if resource == "disk":
        disk = next((disk for disk in series.devices.disks if disk.name == name), None)
        if disk is None:
            return "unseen"
        waiting = sum(
            series.machine.memory_bytes(word).median() or 0.0 for word in ("Dirty", "Writeback")
        )
        written = max(disk.write_bytes_per_s.mean(), 1.0)
        most_s = diagnosis.limits.prove.backlog_most * phase_s
        if disk.write_bytes_per_s.mean() > disk.read_bytes_per_s.mean():
            return "write-back" if waiting / written > most_s else None
    return None


def design_for(chosen: Chosen, span_s: float) -> Design:
    """Return the design of a crossover trial for a span."""
    if _serves(chosen):
        phase_s = min(span_s / SERVING_PHASES, SERVING_PAUSE_MOST_S)
        return Design(SERVING_PHASES, SERVING_PAUSED, 1, SERVING_PHASES, phase_s)
    phases = PHASES_LONG if span_s >= LONG_S else PHASES
    return Design(phases, phases // 2, 2, 2, span_s / phases)


def _serves(chosen: Chosen) -> bool:
    """Whether somebody has a connection to a port that the suspect listens on."""
    series = chosen.judged.series
    own = {process.identity for process in chosen.suspect.application.members}
    theirs = [
        socket
        for socket in series.sockets
        if not own.isdisjoint(socket.owners) and not socket.ended
    ]
    ports = {socket.facts.local_port for socket in theirs if socket.listens}
    ports.discard(None)
    return any(not socket.listens and socket.facts.local_port in ports for socket in theirs)


def suspecting(chosen: Chosen) -> Act:
    """Return the act that alternates a suspect."""
    return act_against(chosen.suspect, "alternate")


def prove_suspect(chosen: Chosen, design: Design, follow: Follower = follow_nothing) -> Proven:
    """Alternate a suspect while the computer is sampled, and say what follows.

    Raises Refused where it must not be, Stopped on a signal, Unsuccessful where the suspect
    ended. However it ends, the suspect goes on.
    """
    kept: list[Proof] = []

    def do(act: Act, targets: list[Target], root: Root) -> Result:
        del act
        experiment = _experiment(chosen, targets, root, design, follow)
        kept.append(experiment)
        return Result(describe_proof(experiment, chosen.name, _next_suspect(chosen)), True)

    header: Header = chosen.judged.series.header
    outcome = carry_out(suspecting(chosen), header, this_computer(), journal_path(), do)
    return Proven(outcome, kept[0], outcome.text)


def _next_suspect(chosen: Chosen) -> tuple[int, str] | None:
    """Return the culprit after this one with its rank, None if there is none."""
    culprits = chosen.judged.diagnosis.culprits
    rest: list[tuple[int, Culprit]] = [
        (rank, culprit)
        for rank, culprit in enumerate(culprits, start=1)
        if culprit.role == "cause" and culprit.application is not chosen.application
    ]
    return next(((rank, culprit.name) for rank, culprit in rest), None)


def _experiment(
    chosen: Chosen, targets: list[Target], root: Root, design: Design, follow: Follower
) -> Proof:
    span_s = design.phases * design.phase_s
    with (
        tempfile.TemporaryDirectory(prefix="dunmist-") as folder,
        Alternating(targets, root, draw_order(design), design.phase_s) as alternating,
    ):
        path, begins_s = Path(folder) / "proving.jsonl.gz", list[float]()
        # the last phase ends inside of what is sampled
        options = CaptureOptions(
            path, span_s + 2 * EVERY_S, EVERY_S, keeps_when_stopped=False, with_code=False
        )
        try:
            run_capture(options, follow=_beginning(alternating, begins_s, follow))
        except KeyboardInterrupt as stop:
            raise Stopped(f"stopped; {chosen.name} goes on, and nothing was proven") from stop
        if alternating.trouble:
            raise Unsuccessful(f"{chosen.name}: {alternating.trouble}")
        series = load(path)
    began_s = min(begins_s)
    phases = [
        Phase(phase.begin_s - began_s, phase.end_s - began_s, phase.paused)
        for phase in alternating.phases
    ]
    suspects: list[Application] = same_applications(chosen.suspect.application, series)
    limits = chosen.judged.diagnosis.limits.prove
    return proof_of(
        series, suspected_resource(chosen), suspects, Experiment(design, phases), limits
    )


def _beginning(alternating: Alternating, begins_s: list[float], follow: Follower) -> Follower:
    """Follow a capture, begin with its first tick, and note when the first was by each."""

    @contextmanager
    def following(plan: Plan, observer: Observer | None, machine: Machine) -> Iterator[RecordSink]:
        with follow(plan, observer, machine) as sink:

            def note(record: Record | InterimVerdict) -> None:
                if isinstance(record, Tick):
                    # the least delay between a tick and its record tells best when it was
                    begins_s.append(time.monotonic() - record.at_s)
                    if len(begins_s) == 1:
                        alternating.begin()
                    if alternating.trouble:
                        raise Unsuccessful(alternating.trouble)
                sink(record)

            yield note

    return following
