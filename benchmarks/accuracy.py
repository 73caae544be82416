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

from drawn import hard_patient, illness_of, random_scenario
from live import outcomes as live_faults

from dunmist.jobs.judge import judge
from dunmist.jobs.patient import capture_patient
from dunmist.simulation import load_scenario, scenario_names

HERE = Path(__file__).parent
REPORT = HERE.parent / "docs" / "accuracy.md"
EARLY = HERE.parent / "docs" / "early.json"
PROOFS = HERE.parent / "docs" / "proofs.json"
PAIRS = HERE.parent / "docs" / "pairs.json"
BOTTLE = HERE.parent / "docs" / "bottle.json"
REAL = HERE.parent / "docs" / "real_programs.json"
AILMENTS = HERE.parent / "docs" / "real_ailments.json"
# rules may be tuned on seeds below this one; what is reported comes from those above
FIRST_REPORTED_SEED = 25000
RANDOM_PATIENTS = 200
# a strength this close to 1 is neither ill nor well
UNDECIDED = 0.15
# from so much on a patient that is well is as full as one that is not
NEARLY = 0.96
BINS = (0.0, 0.5, 0.7, 0.8, 0.9, 1.01)
# hard cases: those below were tuned on, those from it on never
HARD_SEEDS, FIRST_UNSEEN_SEED = range(41000, 42200), 41600


class Outcome(NamedTuple):
    """One patient judged, with its truth."""

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
    partners: int = 0  # how many leading causes are named together

    @property
    def is_decided(self):
        return self.group == "patients" or abs(self.strength - 1.0) > UNDECIDED

    @property
    def first_right(self):
        return self.culprits[:1] == ([self.wanted[1]] if self.wanted[1] else [])

    @property
    def set_right(self):
        """Whether it is among those that are named together; of them the confidence speaks."""
        named = self.culprits[: max(1, self.partners)]
        return self.wanted[1] in named if self.wanted[1] else not named

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
        whole = judge(capture_patient(scenario, Path(folder) / "x.jsonl.gz"))
    result = whole.triage
    kinds = {finding.kind for finding in result.findings}
    truth = scenario.truth
    return Outcome(
        group,
        name,
        truth.strength,
        (truth.limiting, truth.culprit),
        result.verdict.limiting,
        [culprit.name for culprit in result.culprits],
        result.verdict.confidence,
        [kind for kind in truth.must if kind not in kinds],
        [kind for kind in truth.must_not if kind in kinds],
        result.coverage["cpu"],
        len(whole.diagnosis.partners),
    )


def one_patient(name):
    return judged(load_scenario(name), "patients", name)


def one_random(seed):
    return judged(random_scenario(seed), illness_of(seed), str(seed))


def one_hard(seed):
    patient = hard_patient(seed)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.jsonl.gz"
        how = patient.duration_s, patient.every_s
        whole = judge(capture_patient(patient.scenario, path, *how, clock=patient.clock))
    result = whole.triage
    truth = patient.scenario.truth
    return Outcome(
        patient.illness,
        str(seed),
        truth.strength,
        (truth.limiting, truth.culprit),
        result.verdict.limiting,
        [culprit.name for culprit in result.culprits],
        result.verdict.confidence,
        [],
        [],
        result.coverage["cpu"],
        len(whole.diagnosis.partners),
    )


def as_outcome(result):
    """Return what a live case came to with its truth."""
    case, named = result.case, result.named
    limiting = result.limiting if result.limiting in case.limiting else case.limiting[0]
    culprit = None
    if case.culprits:
        is_right = named and named[0].startswith(case.culprits)
        culprit = named[0] if is_right else case.culprits[0]
    return Outcome(
        "live",
        case.name,
        2.0,
        (limiting, culprit),
        result.limiting,
        named,
        result.confidence,
        result.wrong,
        [],
        result.coverage,
    )


def share(outcomes, name):
    values = [getattr(outcome, name) for outcome in outcomes]
    return f"{100 * sum(values) / len(values):.1f} %" if values else "–"


def by_group(outcomes):
    groups = defaultdict(list)
    for outcome in outcomes:
        groups[outcome.group].append(outcome)
    return groups


def accuracy_lines(outcomes):
    titles = "group | cases | right culprit first | among three | right limiting | false alarms"
    yield f"| {titles} |"
    yield "| --- | ---: | ---: | ---: | ---: | ---: |"
    rows = [*by_group(outcomes).items(), ("all", outcomes)]
    for group, cases in rows:
        well = [case for case in cases if case.wanted[0] is None]
        alarms = f"{sum(item.false_alarm for item in well)} of {len(well)}"
        shares = [share(cases, name) for name in ("first_right", "among_three", "limiting_right")]
        yield f"| {group} | {len(cases)} | {' | '.join(shares)} | {alarms} |"


def calibration_lines(outcomes):
    """Yield a reliability table: the confidence that those named first hold the cause."""
    named = [outcome for outcome in outcomes if outcome.culprits]
    yield "| confidence | cases | mean confidence | right |"
    yield "| --- | ---: | ---: | ---: |"
    error = 0.0
    for low, high in pairwise(BINS):
        cases = [item for item in named if low <= item.confidence < high]
        if not cases:
            continue
        mean = sum(case.confidence for case in cases) / len(cases)
        right = sum(case.set_right for case in cases) / len(cases)
        error += abs(mean - right) * len(cases) / len(named)
        yield f"| {low:.1f} to {min(high, 1):.1f} | {len(cases)} | {mean:.2f} | {right:.2f} |"
    yield ""
    yield f"Expected calibration error: {error:.3f} over {len(named)} named culprits."


def weakness_lines(outcomes):
    yield "| strength | cases | right limiting resource |"
    yield "| --- | ---: | ---: |"
    drawn = [outcome for outcome in outcomes if outcome.group not in ("patients", "live", "well")]
    for low, high in ((0.0, 0.85), (0.85, 1.0), (1.0, 1.15), (1.15, 1.5), (1.5, 9.0)):
        cases = [item for item in drawn if low <= item.strength < high]
        if cases:
            yield f"| {low:g} to {high:g} | {len(cases)} | {share(cases, 'limiting_right')} |"


def finding_lines(patients):
    missed = sorted((kind, patient.name) for patient in patients for kind in patient.missed)
    false = sorted((kind, patient.name) for patient in patients for kind in patient.false)
    wanted = sum(len(load_scenario(patient.name).truth.must) for patient in patients)
    yield f"Of {wanted} findings that must appear, {wanted - len(missed)} did."
    yield f"Findings that must not appear and did: {len(false)}."
    yield ""
    for title, rows in (("Missed", missed), ("False", false)):
        yield from (f"- {title}: `{kind}` on {name}" for kind, name in rows)


def live_lines(live):
    """Yield what each real fault came to."""
    right = sum(not item.missed for item in live)
    named = [item for item in live if item.wanted[1]]
    first = sum(item.first_right for item in named)
    yield (
        f"{len(live)} faults and calm computers were started for real on kernel "
        f"{os.uname().release} with {os.cpu_count()} CPUs. {right} are right in all points. "
        f"The right program is named first in {first} of {len(named)}."
    )
    yield ""
    yield "| case | limiting | named | confidence | what went wrong |"
    yield "| --- | --- | --- | ---: | --- |"
    for entry in live:
        yield (
            f"| {entry.name} | {entry.limiting or '–'} | {', '.join(entry.culprits[:3]) or '–'} | "
            f"{entry.confidence:.2f} | {'; '.join(entry.missed) or '–'} |"
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
        below = [item for item in chosen if not item.wanted[0] and item.strength < NEARLY]
        alarms = sum(item.false_alarm for item in below)
        yield (
            f"Of the {len(below)} that are asked for less than {100 * NEARLY:g} % of what they can "
            f"give, {alarms} were false alarms. Between that and all of it, nobody can tell."
        )
        yield ""
        yield from calibration_lines(chosen)
        yield ""


def binomial_interval(right, count):
    """Return the 95 % interval of a share (Clopper and Pearson, 1934)."""
    from scipy.stats import binomtest

    result = binomtest(right, count).proportion_ci(0.95)
    return result.low, result.high


def earned_lines(live):
    """Yield whether the confidence of real faults is what it should be."""
    named = [item for item in live if item.culprits]
    right = sum(item.first_right for item in named)
    mean = sum(item.confidence for item in named) / len(named)
    low, high = binomial_interval(right, len(named))
    yield (
        f"Of the live faults with a named program {right} of {len(named)} are right. This is a "
        f"share between {low:.2f} and {high:.2f} (95 %). Their mean confidence is {mean:.2f}."
    )


def report(patients, drawn, live, hard, took_s):
    decided = [item for item in drawn if item.is_decided]
    everything = [*patients, *decided, *live]
    wrong = [
        item
        for item in everything
        if not (item.limiting_right and item.first_right) or (item.group == "live" and item.missed)
    ]
    covered = [item.coverage for item in everything if item.coverage is not None]
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
        "published, and short (`benchmarks/drawn/hard_cases.py`). A part of them nobody can tell.",
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
        "## Real programs",
        "",
        *ailment_lines(),
        "",
        "## What real programs are doing",
        "",
        *real_lines(),
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
            f"- {item.group}, {item.name} (strength {item.strength:g}): wanted {item.wanted[0]} by "
            f"{item.wanted[1]}, found {item.limiting} by {', '.join(item.culprits[:3]) or 'nobody'}"
            for item in wrong
        ),
        *(f"- {item.name}: {'; '.join(item.missed)}" for item in live if item.missed),
        *([] if wrong else ["Nothing in this run."]),
        "",
    ]


def pair_lines():
    """Yield what comparisons of pairs came to, as they were last run."""
    if not PAIRS.exists():
        yield "`make pairs` has not been run."
        return
    result = json.loads(PAIRS.read_text())
    yield (
        f"Run on {result['date']} with `make pairs`, on model computers of seeds that nothing was "
        f"tuned on, {result['span_s']:g} s each. Of pairs without a change "
        f"{result['wrong']} of {result['pairs']} were called changed. In others one more program "
        f"took at least 10 points of the CPU. There {result['found']} of {result['changed']} "
        f"changes were found, {result['right_way']} of them in the right direction."
    )
    live = result.get("live", [])
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
    result = json.loads(EARLY.read_text())
    yield (
        f"Run on {result['date']} with `make early` on {result['cases']} captures of 30 s, "
        f"{result['live']} of them of live faults. {result['clear']} of them are not borderline. "
        f"In {result['same']} of these the verdict at the stop was that of the whole: level, "
        f"limiting resource, first culprit. Of {result['sick']} sick ones "
        f"{result['sick_within_10_s']} were "
        f"sure within 10 s, half of them within {result['sick_median_s']} s. Half of the well ones "
        f"were sure within {result['well_median_s']} s."
    )


def proof_lines():
    """Yield what experiments on faults and their decoys came to, as they were last run."""
    if not PROOFS.exists():
        yield "`make proofs` has not been run."
        return
    result = json.loads(PROOFS.read_text())
    tried = [item for item in result if "culprit" in item]
    proven = sum(item["culprit"][0] == "cause" for item in tried)
    decoys = [item["decoy"][0] for item in result]
    yield (
        "`make proofs` starts faults for real, each with a victim and a decoy. "
        f"In experiments of 20 s, {proven} of {len(tried)} culprits of the triage were proven to "
        f"be the cause. So were {decoys.count('cause')} of {len(decoys)} decoys "
        f"({decoys.count('nothing')} times nothing followed, {decoys.count('part')} times a part)."
    )
    yield ""
    yield "| fault | limiting | culprit | its proof | the decoy's |"
    yield "| --- | --- | --- | --- | --- |"
    for entry in result:
        first = entry["named"][0] if entry["named"] else "nobody"
        proof = entry.get("culprit", ["none"])[0]
        decoy = entry["decoy"][0]
        yield f"| {entry['fault']} | {entry['limiting']} | {first} | {proof} | {decoy} |"


def bottle_lines():
    """Yield what the cases of the emulated computer came to, as they were last run."""
    if not BOTTLE.exists():
        yield "`make bottle-test` has not been run."
        return
    result = json.loads(BOTTLE.read_text())
    cases = result["cases"]
    right = sum(not case["wrong"] for case in cases)
    named = [case for case in cases if case.get("culprits")]
    first = sum(
        any(case.get("named", [""])[:1] == [item] for item in case["culprits"]) for case in named
    )
    yield (
        f"Run on {result['date']} with `make bottle-test`: kernel {result['kernel']}, "
        f"{result['service_manager']}, {result['processors']} emulated processors. Of {len(cases)} "
        f"cases {right} are right in all that their truth says; the right program is named first "
        f"in {first} of {len(named)}."
    )
    yield ""
    yield "| case | limiting | named | confidence | what went wrong |"
    yield "| --- | --- | --- | ---: | --- |"
    for case in cases:
        sure = case.get("confidence")
        exact = ", ".join(
            f"{item['figure']} of {item['unit']} off by {100 * item['off']:.1f} %"
            for item in case.get("exact", ())
        )
        cells = (
            case["name"] + (f" ({exact})" if exact else ""),
            case.get("limiting") or "–",
            ", ".join(case.get("named", ())[:3]) or "–",
            f"{sure:.2f}" if sure is not None else "–",
            "; ".join(case["wrong"]).replace("|", "/") or "–",
        )
        yield f"| {' | '.join(cells)} |"


def ailment_lines():
    """Yield the verdicts on real programs that make this computer ill or leave it well."""
    if not AILMENTS.exists():
        yield "`make real-programs` has not been run."
        return
    results = json.loads(AILMENTS.read_text())
    well = [result for result in results if result["healthy"]]
    ill = [result for result in results if not result["healthy"]]
    alarms = sum(any("false" in text for text in result["wrong"]) for result in well)
    idle = sum(not result["named"] and not result["wrong"] for result in ill)
    yield (
        f"Written by `make real-programs`. Real programs made this computer slow {len(ill)} times. "
        f"The culprit is the process with the largest use by the kernel's own counters, read by "
        f"the case itself. Limiting resource, culprit and first step are right in "
        f"{sum(not result['wrong'] for result in ill)}. In {idle} of these the load filled no CPU "
        f"by the same counters, and nothing was named. The computer was well {len(well)} times "
        f"with real programs on it; {alarms} of these were false alarms."
    )
    yield ""
    yield "| case | limiting | named | first step | confidence | what went wrong |"
    yield "| --- | --- | --- | --- | ---: | --- |"
    for result in results:
        cells = (
            result["name"],
            result["limiting"] or "–",
            ", ".join(result["named"]) or "–",
            result["first"] or "–",
            f"{result['confidence']:.2f}",
            "; ".join(result["wrong"]) or "–",
        )
        yield f"| {' | '.join(cells)} |"


def real_lines():
    """Yield what was said of programs that nobody here wrote, as they were last run."""
    if not REAL.exists():
        yield "`make real-programs` has not been run."
        return
    results = json.loads(REAL.read_text())
    right = [result["kind_is_right"] and result["step_is_there"] for result in results]
    unseen = [ok for ok, result in zip(right, results, strict=True) if result["unseen"]]
    yield (
        f"Written by `make real-programs`: each program works alone. Its first kind of work and "
        f"the first step that follows are judged. Of some it is what they wait for, move or talk "
        f"to. {sum(right)} of {len(right)} are right. Of "
        f"{len(unseen)} cases nothing was known when the tables were made: 15 were right at first. "
        f"In one the case itself was wrong, and rows for awk and for digests were added."
    )
    yield ""
    yield "| program | said | step | right |"
    yield "| --- | --- | --- | --- |"
    for ok, result in zip(right, results, strict=True):
        says = (result["says"] or "nothing").replace("|", "/")
        name = result["name"] + (" (unseen)" if result["unseen"] else "")
        yield f"| {name} | {says} | {result['step'] or '–'} | {'yes' if ok else 'no'} |"


def main(arguments):
    count = int(arguments[0]) if arguments else RANDOM_PATIENTS
    seeds = range(FIRST_REPORTED_SEED, FIRST_REPORTED_SEED + count)
    live = [as_outcome(live_fault) for live_fault in live_faults()]
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
