"""The sections of a report that a triage gives: verdict, what to do, why, ranking, findings."""

from collections import Counter
from collections.abc import Iterator, Sequence

from dunmist.advice import (
    CulpritAdvice,
    Doing,
    Evidence,
    FindingAdvice,
    ResourceAdvice,
    Step,
    Triage,
    percent,
)
from dunmist.diagnosis import LevelWord, Severity
from dunmist.reports.document import (
    Block,
    Document,
    Figure,
    Items,
    Paragraph,
    Section,
    StepList,
    TextTable,
    made_harmless,
)
from dunmist.timestamps import started_text

BY_FIX = (
    "Process numbers are those of the capture; the kernel may have reused them. 'dunmist fix do "
    "{path} STEP' checks that they are still the same before it acts, and can undo."
)
# the look of a page whose worst is a finding
LEVEL_OF: dict[Severity | None, LevelWord] = {
    "note": "busy",
    "concern": "strained",
    "urgent": "choked",
}
# if no program is to blame, the steps of this many findings are listed together
FINDINGS_FIRST = 3
# resources whose figures people ask for even when they are calm
ALWAYS_SHOWN = ("cpu", "memory")
# calm ones of one kind that are shown one by one; a server has hundreds of disks
CALM_MOST = 12


def triage_document(triage: Triage, more: Sequence[Section] = ()) -> Document:
    """Return the sections of a triage for a terminal; ``more`` follows the steps."""
    sections = [
        verdict(triage, more),
        what_to_do(triage),
        *more,
        why(triage),
        ranking(triage),
        findings(triage),
        unseen(triage),
        sampling(triage),
    ]
    return document_of(triage, sections)


def document_of(triage: Triage, sections: list[Section]) -> Document:
    """Return a document with those sections that say something."""
    title = f"Triage of {triage.capture.host or 'an unnamed computer'}"
    kept = [section for section in sections if section.blocks]
    worst = triage.verdict.worst
    is_finding = worst.source == "finding" and worst.severity is not None
    level = LEVEL_OF[worst.severity] if is_finding else triage.verdict.level
    return made_harmless(Document(title, level, kept))


def verdict(triage: Triage, more: Sequence[Section] = ()) -> Section:
    """Return the headline with its level and confidence, and the summaries of further sections."""
    shown = triage.verdict
    limiting = shown.limiting or "nothing limits"
    facts = f"Level: {shown.level}. Limiting: {limiting}. Confidence: {percent(shown.confidence)}."
    answer = [Paragraph(shown.answer, lead=True)] if shown.answer else []
    summaries = [Paragraph(section.summary) for section in more if section.summary]
    headline = Paragraph(shown.headline, lead=True)
    return Section("Verdict", [*answer, headline, *summaries, Paragraph(facts)])


def what_to_do(triage: Triage) -> Section:
    """Return the ladder against the first culprit, or the steps of the foremost findings."""
    blocks: list[Block] = []
    if not triage.culprits:
        for finding, steps in _foremost(triage):
            blocks += [Paragraph(finding.text), StepList(steps)]
        if not blocks and triage.verdict.limiting is None:
            blocks = [Paragraph("Nothing needs to be done.")]
        elif not blocks:
            blocks = [Paragraph("Look at the findings below; no single program can be acted on.")]
        return Section("What to do", blocks)
    worst = triage.verdict.worst
    if worst.source == "finding":
        leading = next(finding for finding in triage.findings if finding.kind == worst.what)
        blocks += [Paragraph(leading.text), StepList(leading.steps)] if leading.steps else []
    first = triage.culprits[0]
    if first.caution:
        blocks.append(Paragraph(f"Caution: {first.caution}"))
    blocks.append(StepList(first.steps))
    if any(step.command for step in first.steps):
        blocks.append(Paragraph(BY_FIX.format(path=triage.capture.path)))
    return Section("What to do", blocks)


def _foremost(triage: Triage) -> list[tuple[FindingAdvice, list[Step]]]:
    """Return the first findings that have steps, with those that were not said before."""
    pairs = list(_new_steps(triage.findings, set()))
    return [(finding, steps) for finding, steps in pairs if steps][:FINDINGS_FIRST]


def _new_steps(
    findings: list[FindingAdvice], said: set[str]
) -> Iterator[tuple[FindingAdvice, list[Step]]]:
    """Yield each finding with the steps that were not said before."""
    for finding in findings:
        steps = [step for step in finding.steps if step.text not in said]
        said |= {step.text for step in steps}
        yield finding, steps


def done_section(acts: Sequence[str]) -> Section:
    """Return the acts before the capture, and their effect."""
    return Section("What was done", [Items([(text, "") for text in acts])] if acts else [])


def why(triage: Triage, figure: Figure | None = None) -> Section:
    """Return the resources with the figures that their levels rest on."""
    blocks: list[Block] = [figure] if figure else []
    blocks.append(
        TextTable(
            "Resources",
            ["Resource", "About", "Level", "Used", "Tasks waited"],
            _resource_rows(triage.resources),
            frozenset((3, 4)),
        )
    )
    for resource in triage.resources:
        if resource.level != "calm" or resource.resource in ALWAYS_SHOWN:
            limits = resource.resource == triage.verdict.limiting
            blocks.append(_evidence(resource.evidence, is_detail=not limits))
    return Section("Why", blocks)


def _resource_rows(resources: list[ResourceAdvice]) -> list[list[str]]:
    """Return a row for each resource; of many calm ones of a kind the first few, and how many."""
    calm: Counter[str] = Counter()
    rows = []
    for resource in resources:
        if resource.level == "calm":
            calm[resource.resource] += 1
            if calm[resource.resource] > CALM_MOST:
                continue
        rows.append(
            [
                resource.resource,
                resource.name or "",
                resource.level,
                _used_text(resource),
                _pressure_text(resource),
            ]
        )
    for kind, count in calm.items():
        if count > CALM_MOST:
            last = max(index for index, row in enumerate(rows) if row[0] == kind)
            rows.insert(last + 1, [kind, f"{count - CALM_MOST} more", "calm", "", ""])
    return rows


def _used_text(resource: ResourceAdvice) -> str:
    """Return the use of a resource; for heat the temperature."""
    celsius = (evidence.value for evidence in resource.evidence if evidence.unit == "°C")
    value = next(celsius, None) if resource.resource == "heat" else None
    return percent(resource.used) if value is None else f"{value:.0f} °C"


def _pressure_text(state: ResourceAdvice) -> str:
    if state.pressure is None:
        return "unknown"
    # heat holds work up by taking clock, not by making it wait
    return f"{percent(state.pressure)} of the {'clock' if state.resource == 'heat' else 'time'}"


def ranking(triage: Triage) -> Section:
    """Return the culprits with their evidence."""
    if not triage.culprits:
        return Section("Culprits")
    table = TextTable(
        "Culprits",
        ["Rank", "Application", "Role", "Part in the strain", "Confidence", "Users", "Processes"],
        [
            [
                str(culprit.rank),
                culprit.name,
                culprit.role,
                percent(culprit.score),
                percent(culprit.confidence),
                ", ".join(culprit.users),
                _pids(culprit),
            ]
            for culprit in triage.culprits
        ],
        frozenset((0, 3, 4)),
        refers={6: "process"},
    )
    blocks: list[Block] = [table]
    for culprit in triage.culprits:
        since = f": {culprit.since.text}" if culprit.since else ""
        title = f"{culprit.rank}. {culprit.name}{since}"
        blocks.append(Paragraph(title, is_detail=culprit.rank > 1))
        facts: list[Evidence | Doing] = [*culprit.doing, *culprit.evidence]
        blocks.append(_evidence(facts, is_detail=culprit.rank > 1))
    return Section("Culprits", blocks)


def findings(triage: Triage) -> Section:
    """Return the other findings, each with its evidence and its new steps."""
    said = {step.text for culprit in triage.culprits[:1] for step in culprit.steps}
    if not triage.culprits:
        said = {step.text for _, steps in _foremost(triage) for step in steps}
    blocks: list[Block] = []
    shown = [culprit.doing for culprit in triage.culprits]
    for finding, steps in _new_steps(triage.findings, said):
        # several findings may be about one program
        doing = [] if finding.doing in shown else finding.doing
        shown.append(doing)
        since = f" ({finding.since.text})" if finding.since else ""
        blocks.append(Paragraph(f"{finding.severity}: {finding.text}{since}"))
        blocks.append(_evidence([*finding.evidence, *doing], is_detail=True))
        if steps:
            blocks.append(StepList(steps, is_detail=finding.severity == "note"))
    return Section("Findings", blocks)


def unseen(triage: Triage) -> Section:
    """Return the blind spots with what would reveal them."""
    spots = [
        (f"{blind_spot.what}: {blind_spot.why}", f"to see it: {blind_spot.remedy}")
        for blind_spot in triage.blind_spots
    ]
    return Section("What could not be seen", [Items(spots)] if spots else [])


def sampling(triage: Triage, more: str = "") -> Section:
    """Return the length, the pace and the coverage of the sampling."""
    facts = triage.capture
    covered = [
        f"{percent(share)} of the {name} figures that the kernel counted were attributed"
        for name, share in triage.coverage.items()
        if share is not None
    ]
    rights = "as administrator" if facts.privileged else "without administrator rights"
    return Section(
        "How it was sampled",
        [
            Paragraph(
                f"{facts.ticks} ticks over {facts.duration_s:g} s from "
                f"{started_text(facts.started)}, {rights}.{more}"
            ),
            Items([(text, "") for text in covered]),
        ],
    )


def _evidence(evidence: Sequence[Evidence | Doing], *, is_detail: bool = False) -> Items:
    return Items([(item.text, item.source) for item in evidence], is_detail)


def _pids(culprit: CulpritAdvice, most: int = 4) -> str:
    shown = ", ".join(map(str, culprit.pids[:most]))
    more = len(culprit.pids) - most
    return f"{shown} and {more} more" if more > 0 else shown
