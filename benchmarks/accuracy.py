"""Measures how often the diagnosis is right, on patients whose truth is known.

Run it with ``make accuracy``. It captures and triages every patient that ships with the program, a
number of random ones drawn from a seed on which nothing was tuned, hard ones, and live faults on
this computer, prints what it finds and writes docs/accuracy.md; the cases of the booted computer
are taken from docs/bottle.json.
"""

import json
import multiprocessing
import os
import sys
import tempfile
import time
from collections import defaultdict
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

from live import outcomes as live_faults

from dunmist.jobs.judge import judge
from dunmist.jobs.patient import capture_patient
from dunmist.simulation import illness_of, load_scenario, random_scenario, scenario_names
from dunmist.simulation.hard_cases import hard_patient

HERE = Path(__file__).parent
REPORT = HERE.parent / "docs" / "accuracy.md"
EARLY = HERE.parent / "docs" / "early.json"
PROOFS = HERE.parent / "docs" / "proofs.json"
PAIRS = HERE.parent / "docs" / "pairs.json"
BOTTLE = HERE.parent / "docs" / "bottle.json"
# rules may be tuned on seeds below this one; what is reported comes from those above
FIRST_REPORTED_SEED = 25000
RANDOM_PATIENTS = 200
# a strength this close to 1 is neither ill nor well
UNDECIDED = 0.15
BINS = (0.0, 0.5, 0.7, 0.8, 0.9, 1.01)
# hard cases: those below were tuned on, those from it on never
HARD_SEEDS, FIRST_UNSEEN_SEED = range(41000, 42200), 41600


class Outcome(NamedTuple):
    """One patient judged, beside its truth."""

    group: str
    name: str
    strength: float
    wanted: tuple[str | None, str | None]
    limiting: str | None
    culprits: list[str]
    confidence: float
    missed: list[str]
    false: list[str]
    coverage: float | None

    @property
    def is_decided(self):
        return self.group == "patients" or abs(self.strength - 1.0) > UNDECIDED

    @property
    def first_right(self):
        return self.culprits[:1] == ([self.wanted[1]] if self.wanted[1] else [])

    @property
    def among_three(self):
        return self.wanted[1] in self.culprits[:3] if self.wanted[1] else not self.culprits

    @property
    def limiting_right(self):
        return self.limiting == self.wanted[0]

    @property
    def false_alarm(self):
        return self.wanted[0] is None and (self.limiting is not None or bool(self.culprits))


def judged(scenario, group, name):
    with tempfile.TemporaryDirectory() as folder:
        found = judge(capture_patient(scenario, Path(folder) / "x.jsonl.gz")).triage
    kinds = {one.kind for one in found.findings}
    truth = scenario.truth
    return Outcome(
        group,
        name,
        truth.strength,
        (truth.limiting, truth.culprit),
        found.verdict.limiting,
        [one.name for one in found.culprits],
        found.verdict.confidence,
        [kind for kind in truth.must if kind not in kinds],
        [kind for kind in truth.must_not if kind in kinds],
        found.coverage["cpu"],
    )


def one_patient(name):
    return judged(load_scenario(name), "patients", name)


def one_random(seed):
    return judged(random_scenario(seed), illness_of(seed), str(seed))


def one_hard(seed):
    patient = hard_patient(seed)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.jsonl.gz"
        found = judge(
            capture_patient(patient.scenario, path, patient.duration_s, patient.every_s)
        ).triage
    truth = patient.scenario.truth
    return Outcome(
        patient.illness,
        str(seed),
        truth.strength,
        (truth.limiting, truth.culprit),
        found.verdict.limiting,
        [one.name for one in found.culprits],
        found.verdict.confidence,
        [],
        [],
        found.coverage["cpu"],
    )


def as_outcome(found):
    """Return what a live case came to beside its truth."""
    case, named = found.case, found.named
    limiting = found.limiting if found.limiting in case.limiting else case.limiting[0]
    culprit = None
    if case.culprits:
        is_right = named and named[0].startswith(case.culprits)
        culprit = named[0] if is_right else case.culprits[0]
    return Outcome(
        "live",
        case.name,
        2.0,
        (limiting, culprit),
        found.limiting,
        named,
        found.confidence,
        found.wrong,
        [],
        found.coverage,
    )


def share(outcomes, name):
    values = [getattr(one, name) for one in outcomes]
    return f"{100 * sum(values) / len(values):.1f} %" if values else "–"


def by_group(outcomes):
    groups = defaultdict(list)
    for one in outcomes:
        groups[one.group].append(one)
    return groups


def accuracy_lines(outcomes):
    titles = "group | cases | right culprit first | among three | right limiting | false alarms"
    yield f"| {titles} |"
    yield "| --- | ---: | ---: | ---: | ---: | ---: |"
    rows = [*by_group(outcomes).items(), ("all", outcomes)]
    for group, cases in rows:
        well = [one for one in cases if one.wanted[0] is None]
        alarms = f"{sum(one.false_alarm for one in well)} of {len(well)}"
        shares = [share(cases, name) for name in ("first_right", "among_three", "limiting_right")]
        yield f"| {group} | {len(cases)} | {' | '.join(shares)} | {alarms} |"


def calibration_lines(outcomes):
    """Yield a reliability table of the first culprit's confidence, and the calibration error."""
    named = [one for one in outcomes if one.culprits]
    yield "| confidence | cases | mean confidence | right |"
    yield "| --- | ---: | ---: | ---: |"
    error = 0.0
    for low, high in pairwise(BINS):
        cases = [one for one in named if low <= one.confidence < high]
        if not cases:
            continue
        mean = sum(one.confidence for one in cases) / len(cases)
        right = sum(one.first_right for one in cases) / len(cases)
        error += abs(mean - right) * len(cases) / len(named)
        yield f"| {low:.1f} to {min(high, 1):.1f} | {len(cases)} | {mean:.2f} | {right:.2f} |"
    yield ""
    yield f"Expected calibration error: {error:.3f} over {len(named)} named culprits."


def weakness_lines(outcomes):
    yield "| strength | cases | right limiting resource |"
    yield "| --- | ---: | ---: |"
    drawn = [one for one in outcomes if one.group not in ("patients", "live", "well")]
    for low, high in ((0.0, 0.85), (0.85, 1.0), (1.0, 1.15), (1.15, 1.5), (1.5, 9.0)):
        cases = [one for one in drawn if low <= one.strength < high]
        if cases:
            yield f"| {low:g} to {high:g} | {len(cases)} | {share(cases, 'limiting_right')} |"


def finding_lines(patients):
    missed = sorted((kind, one.name) for one in patients for kind in one.missed)
    false = sorted((kind, one.name) for one in patients for kind in one.false)
    wanted = sum(len(load_scenario(one.name).truth.must) for one in patients)
    yield f"Of {wanted} findings that must appear, {wanted - len(missed)} did."
    yield f"Findings that must not appear and did: {len(false)}."
    yield ""
    for title, rows in (("Missed", missed), ("False", false)):
        yield from (f"- {title}: `{kind}` on {name}" for kind, name in rows)


def live_lines(live):
    """Yield what each real fault came to."""
    right = sum(not one.missed for one in live)
    named = [one for one in live if one.wanted[1]]
    first = sum(one.first_right for one in named)
    yield (
        f"{len(live)} faults and calm computers were started for real on kernel "
        f"{os.uname().release} with {os.cpu_count()} CPUs. {right} are right in all points. "
        f"The right program is named first in {first} of {len(named)}."
    )
    yield ""
    yield "| case | limiting | named | confidence | what went wrong |"
    yield "| --- | --- | --- | ---: | --- |"
    for one in live:
        yield (
            f"| {one.name} | {one.limiting or '–'} | {', '.join(one.culprits[:3]) or '–'} | "
            f"{one.confidence:.2f} | {'; '.join(one.missed) or '–'} |"
        )


def hard_lines(hard):
    """Yield how often hard cases are right, and how sure they are of it."""
    for title, chosen in (
        (
            "those that the curve of confidence was set on",
            hard[: FIRST_UNSEEN_SEED - HARD_SEEDS[0]],
        ),
        ("those never tuned on", hard[FIRST_UNSEEN_SEED - HARD_SEEDS[0] :]),
    ):
        yield f"### {title[0].upper()}{title[1:]}"
        yield ""
        yield from accuracy_lines(chosen)
        yield ""
        yield from calibration_lines(chosen)
        yield ""


def binomial_interval(right, count):
    """Return the 95 % interval of a share (Clopper and Pearson, 1934)."""
    from scipy.stats import binomtest

    found = binomtest(right, count).proportion_ci(0.95)
    return found.low, found.high


def earned_lines(live):
    """Yield whether the confidence of real faults is what it should be."""
    named = [one for one in live if one.culprits]
    right = sum(one.first_right for one in named)
    mean = sum(one.confidence for one in named) / len(named)
    low, high = binomial_interval(right, len(named))
    yield (
        f"Of the live faults with a named program {right} of {len(named)} are right. This is a "
        f"share between {low:.2f} and {high:.2f} (95 %). Their mean confidence is {mean:.2f}."
    )


def report(patients, drawn, live, hard, took_s):
    decided = [one for one in drawn if one.is_decided]
    everything = [*patients, *decided, *live]
    wrong = [
        one
        for one in everything
        if not (one.limiting_right and one.first_right) or (one.group == "live" and one.missed)
    ]
    covered = [one.coverage for one in everything if one.coverage is not None]
    return [
        "# Accuracy",
        "",
        f"Written by `make accuracy` from {len(patients)} patients that ship with the program, "
        f"{len(drawn)} random ones, and {len(live)} live faults on the measuring computer.",
        f"The random ones begin at seed {FIRST_REPORTED_SEED}; no rule was tuned on them.",
        f"Random patients within {UNDECIDED:g} of strength 1 count in the table of strengths only.",
        "Model computers and rules have the same makers, so these figures do not test what the "
        "model simplifies. The live faults and those of the booted computer are real.",
        f"The random ones took {took_s:.0f} s on {os.cpu_count()} CPUs.",
        "",
        "## By illness",
        "",
        *accuracy_lines(everything),
        "",
        f"Least coverage of CPU time: {100 * min(covered):.1f} %.",
        "",
        "## By strength (random patients, all of them)",
        "",
        *weakness_lines(drawn),
        "",
        "## Confidence",
        "",
        *calibration_lines([*decided, *live]),
        "",
        *earned_lines(live),
        "",
        "## Live faults",
        "",
        *live_lines(live),
        "",
        f"## Hard cases ({len(hard)}, outside of all other tables)",
        "",
        "Near the limit, with rivals, second faults and decoys, on other hardware, with less "
        "published, and short (`simulation/hard_cases.py`). A part of them nobody can tell.",
        "",
        *hard_lines(hard),
        "## Findings of the patients",
        "",
        *finding_lines(patients),
        "",
        "## On a booted computer",
        "",
        *bottle_lines(),
        "",
        "## Before and after",
        "",
        *pair_lines(),
        "",
        "## Sure before the end",
        "",
        *early_lines(),
        "",
        "## Proof by alternation",
        "",
        *proof_lines(),
        "",
        "## What went wrong",
        "",
        *(
            f"- {one.group}, {one.name} (strength {one.strength:g}): wanted {one.wanted[0]} by "
            f"{one.wanted[1]}, found {one.limiting} by {', '.join(one.culprits[:3]) or 'nobody'}"
            for one in wrong
        ),
        *(f"- {one.name}: {'; '.join(one.missed)}" for one in live if one.missed),
        *([] if wrong else ["Nothing in this run."]),
        "",
    ]


def pair_lines():
    """Yield what comparisons of pairs came to, as they were last run."""
    if not PAIRS.exists():
        yield "`make pairs` has not been run."
        return
    found = json.loads(PAIRS.read_text())
    yield (
        f"Run on {found['date']} with `make pairs`, on model computers of seeds that nothing was "
        f"tuned on, {found['span_s']:g} s each. Of pairs without a change "
        f"{found['wrong']} of {found['pairs']} were called changed. In others one more program "
        f"took at least 10 points of the CPU. There {found['found']} of {found['changed']} "
        f"changes were found, {found['right_way']} of them in the right direction."
    )
    live = found.get("live", [])
    right = sum(expected == said for expected, said in live)
    yield (
        f"On this computer a fault started and ended for real between captures of 12 s. The "
        f"answer (better, worse, no clear change) was right for {right} of {len(live)} pairs."
    )


def early_lines():
    """Yield how soon verdicts were sure, and whether they were those of the whole capture."""
    if not EARLY.exists():
        yield "`make early` has not been run."
        return
    found = json.loads(EARLY.read_text())
    yield (
        f"Run on {found['date']} with `make early` on {found['cases']} captures of 30 s, "
        f"{found['live']} of them of live faults. {found['clear']} of them are not borderline. In "
        f"{found['same']} of these the verdict at the stop was that of the whole: level, limiting "
        f"resource, first culprit. Of {found['sick']} sick ones {found['sick_within_10_s']} were "
        f"sure within 10 s, half of them within {found['sick_median_s']} s. Half of the well ones "
        f"were sure within {found['well_median_s']} s."
    )


def proof_lines():
    """Yield what experiments on faults and their decoys came to, as they were last run."""
    if not PROOFS.exists():
        yield "`make proofs` has not been run."
        return
    found = json.loads(PROOFS.read_text())
    tried = [one for one in found if "culprit" in one]
    proven = sum(one["culprit"][0] == "cause" for one in tried)
    decoys = [one["decoy"][0] for one in found]
    yield (
        "`make proofs` starts faults for real, each with a victim and a decoy. "
        f"In experiments of 20 s, {proven} of {len(tried)} culprits of the triage were proven to "
        f"be the cause. So were {decoys.count('cause')} of {len(decoys)} decoys "
        f"({decoys.count('nothing')} times nothing followed, {decoys.count('part')} times a part)."
    )
    yield ""
    yield "| fault | limiting | culprit | its proof | the decoy's |"
    yield "| --- | --- | --- | --- | --- |"
    for one in found:
        first = one["named"][0] if one["named"] else "nobody"
        proof = one.get("culprit", ["none"])[0]
        yield f"| {one['fault']} | {one['limiting']} | {first} | {proof} | {one['decoy'][0]} |"


def bottle_lines():
    """Yield what the cases of the emulated computer came to, as they were last run."""
    if not BOTTLE.exists():
        yield "`make bottle-test` has not been run."
        return
    found = json.loads(BOTTLE.read_text())
    cases = found["cases"]
    right = sum(not case["wrong"] for case in cases)
    named = [case for case in cases if case.get("culprits")]
    first = sum(
        any(case.get("named", [""])[:1] == [one] for one in case["culprits"]) for case in named
    )
    yield (
        f"Run on {found['date']} with `make bottle-test`: kernel {found['kernel']}, "
        f"{found['service_manager']}, {found['processors']} emulated processors. Of {len(cases)} "
        f"cases {right} are right in all that their truth says; the right program is named first "
        f"in {first} of {len(named)}."
    )
    yield ""
    yield "| case | limiting | named | confidence | what went wrong |"
    yield "| --- | --- | --- | ---: | --- |"
    for case in cases:
        sure = case.get("confidence")
        exact = ", ".join(
            f"{one['figure']} of {one['unit']} off by {100 * one['off']:.1f} %"
            for one in case.get("exact", ())
        )
        cells = (
            case["name"] + (f" ({exact})" if exact else ""),
            case.get("limiting") or "–",
            ", ".join(case.get("named", ())[:3]) or "–",
            f"{sure:.2f}" if sure is not None else "–",
            "; ".join(case["wrong"]).replace("|", "/") or "–",
        )
        yield f"| {' | '.join(cells)} |"


def main(arguments):
    count = int(arguments[0]) if arguments else RANDOM_PATIENTS
    seeds = range(FIRST_REPORTED_SEED, FIRST_REPORTED_SEED + count)
    live = [as_outcome(found) for found in live_faults()]
    with multiprocessing.Pool() as pool:
        patients = pool.map(one_patient, scenario_names(), chunksize=1)
        began = time.perf_counter()
        drawn = pool.map(one_random, seeds, chunksize=1)
        took_s = time.perf_counter() - began
        hard = pool.map(one_hard, HARD_SEEDS if count else (), chunksize=1)
    lines = report(patients, drawn, live, hard, took_s)
    print("\n".join(lines))
    REPORT.write_text("\n".join(lines), encoding="utf-8")


if __name__ == "__main__":
    main(sys.argv[1:])
