"""The first screen of a triage: the answer, who, and what to type, on one page.

It is laid out for the terminal's own size. Nothing that could be pasted is cut or wrapped: where a
command does not fit, ``dunmist fix`` stands for it. More room gives more programs, steps and
findings.
"""

import shlex
import textwrap
from collections import Counter
from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

import click

from dunmist.advice import GUESSES, Case, Judged, change_brief, doing_text, percent, span_text
from dunmist.diagnosis import ResourceState, real_time_process
from dunmist.harmless import cut_middle, harmless
from dunmist.reports import (
    LEVEL_LOOKS,
    PLAIN,
    RISK_LOOKS,
    ROLE_LOOKS,
    SEVERITY_LOOKS,
    Look,
    ProgramRow,
    busiest_rows,
    culprit_rows,
    heading_of,
    leading_steps,
    resource_figures,
    resource_name,
    resource_shares,
)
from dunmist.series import Series
from dunmist.sparklines import curve_text

# the least that is laid out for, and the width beyond which lines are no easier to read
LEAST_COLUMNS, LEAST_LINES, MOST_COLUMNS, MOST_LINES = 80, 24, 160, 60
# from this width on a program has a second line, and steps are not cut
WIDE = 100
# programs that are shown before steps are
PROGRAMS_LEAST = 3
# lines that are left before evidence is worth showing
WHY_LEAST = 4
# steps, and lines for each, from the most that is shown to the least
STEPS_TRIED = ((5, 4), (5, 2), (4, 2), (3, 4), (3, 2))
# lines of the verdict before it is shortened
VERDICT_MOST = 5
LABEL, WORD, FIGURES = 13, 10, 31
RISK, STEP_COLUMNS = 10, 110
CALM_ALWAYS = ("cpu", "memory")
# characters between columns, and of a name and an owner
GAP, NAME_MOST, OWNER_MOST = 2, 22, 12
CLOCK = "%d %b %H:%M %z"
KEPT = "\N{NO-BREAK SPACE}"


class Piece(NamedTuple):
    """A piece of a line with its look; None is plain."""

    text: str
    look: Look | None = None


Line = list[Piece]
BOLD = PLAIN._replace(bold=True, terminal=None)


def first_screen(judged: Judged, columns: int, rows: int, *, colours: bool) -> str:
    """Return the screen for a terminal of so many columns and rows."""
    width = max(LEAST_COLUMNS, min(columns, MOST_COLUMNS)) if columns >= LEAST_COLUMNS else columns
    # the shell's prompt takes the last line
    most = max(LEAST_LINES, min(rows, MOST_LINES)) - 1
    above = [*_head(judged, width), [], *_resources(judged, width), []]
    last = list(_last(judged, width))
    ranked = len(judged.diagnosis.culprits) or 1
    # some programs and another finding have room next to the steps, with a heading and two gaps
    room = most - len(above) - len(last) - min(PROGRAMS_LEAST, ranked) - 4
    steps: list[Line] = []
    for count, lines_each in STEPS_TRIED:
        steps = _steps(judged, width, count, lines_each)
        if len(steps) <= room:
            break
    room = most - len(above) - len(steps) - len(last) - 2
    who = list(_who(judged, width, max(2, room - 1)))
    others = list(_others(judged, width, room - len(who)))
    lines = [*above, *who, [], *steps, [], *others]
    lines += _why(judged, width, most - len(lines) - len(last))
    lines += last
    # room between the parts goes before any part does
    while len(lines) > most and [] in lines:
        lines.remove([])
    lines = lines[: most - 1] + lines[-1:] if len(lines) > most else lines
    return "".join(f"{_styled(line, colours=colours)}\n" for line in lines)


def _styled(line: Line, *, colours: bool) -> str:
    """Return a line for the terminal, which no name can write anything else to."""
    return "".join(
        click.style(harmless(piece.text), fg=piece.look.terminal, bold=piece.look.bold or None)
        if piece.look and colours
        else harmless(piece.text)
        for piece in line
    ).rstrip()


def _head(judged: Judged, width: int) -> Iterator[Line]:
    """Yield where and when, what was complained of, and the answer."""
    facts, verdict = judged.triage.capture, judged.triage.verdict
    began = datetime.fromisoformat(facts.started)
    head = f"{facts.host or 'this computer'}, {began:{CLOCK}}, {span_text(facts.duration_s)}"
    header = judged.series.header
    said = header.note or ", ".join(header.complaints)
    about = f'"{said}"' if said else ""
    if len(head) + len(about) + 3 <= width:
        yield [Piece(harmless(f"{head}   {about}"))]
    else:
        yield [Piece(cut_middle(harmless(head), width))]
        yield [Piece(cut_middle(harmless(about), width))]
    if verdict.answer:
        for text in textwrap.wrap(harmless(verdict.answer), width, break_long_words=False):
            yield [Piece(text)]
    worst = verdict.worst
    word = worst.severity if worst.source == "finding" and worst.severity else verdict.level
    look = (
        SEVERITY_LOOKS[worst.severity] if worst.source == "finding" else LEVEL_LOOKS[verdict.level]
    )
    lines = textwrap.wrap(
        f"{word.upper()}  {harmless(verdict.headline)}",
        width,
        break_long_words=False,
        max_lines=VERDICT_MOST,
        placeholder=" …",
    )
    yield [
        Piece(lines[0][: len(word)], look._replace(bold=True)),
        Piece(lines[0][len(word) :], BOLD),
    ]
    yield from ([Piece(text, BOLD)] for text in lines[1:])
    if since := _since(judged):
        yield [Piece(_fitted(since[:1].upper() + since[1:], width))]
    table = judged.diagnosis.limits.confidence
    rivals = [culprit.name for culprit in judged.diagnosis.culprits if culprit.role == "cause"]
    if rivals and verdict.confidence < table.told_below:
        is_one = not judged.diagnosis.partners
        who = rivals[0] if is_one else f"one of these {len(judged.diagnosis.partners)}"
        yield [Piece(f"{percent(verdict.confidence)} sure that it is {who}")]


def _since(judged: Judged) -> str:
    """Return the onset of the finding that the verdict rests on."""
    worst, external = judged.triage.verdict.worst, judged.diagnosis.external_cause
    kind = worst.what if worst.source == "finding" else external.kind if external else None
    # findings of the whole capture come after these
    for finding, advised in zip(judged.diagnosis.findings, judged.triage.findings, strict=False):
        if finding.kind == kind and finding.onset is not None and advised.since is not None:
            return advised.since.text if finding.onset.is_news else ""
    return ""


def _resources(judged: Judged, width: int) -> Iterator[Line]:
    """Yield each resource that is not calm with its use over time; the calm ones share a line."""
    calm = []
    for state in judged.diagnosis.resources:
        if state.level == "calm":
            calm.append(_calm(state, judged.series))
        else:
            yield _resource(state, judged.series, width)
    # a figure stays on the line of its resource
    text = ", ".join(harmless(part).replace(" ", KEPT) for part in calm if part)
    lines = textwrap.wrap(text, width - LABEL, max_lines=2, placeholder=" …")
    for number, line in enumerate(lines):
        yield [Piece(f"{'' if number else 'calm':<{LABEL}}{line.replace(KEPT, ' ')}")]


def _calm(state: ResourceState, series: Series) -> str:
    """Return a calm resource in few words; a disk or interface that did nothing is left out."""
    if state.resource not in CALM_ALWAYS and not state.used:
        return ""
    name = state.name if state.resource in ("disk", "storage", "link") else state.resource
    return f"{name or state.resource} {resource_figures(state, series).removesuffix(' used')}"


def _resource(state: ResourceState, series: Series, width: int) -> Line:
    name = harmless(resource_name(state))
    # a long name is shown below
    name = name if len(name) < LABEL else state.resource
    room = max(1, width - LABEL - WORD - FIGURES)
    look = LEVEL_LOOKS[state.level]
    # a resource without a course over time, as a file system, stays as full as it is
    shares = resource_shares(state, room) or [min(state.used, 1.0)] * room
    return [
        Piece(f"{name:<{LABEL}}"),
        Piece(f"{state.level:<{WORD}}", look),
        Piece(f"{resource_figures(state, series):<{FIGURES}}"),
        Piece(curve_text(shares, 1.0), look),
    ]


def _who(judged: Judged, width: int, room: int) -> Iterator[Line]:
    """Yield the ranked programs, or the busiest ones, which are not to blame."""
    ranked = culprit_rows(judged)
    rows = ranked or busiest_rows(judged)
    is_wide = width >= WIDE and bool(ranked)
    each = 2 if is_wide and 2 * len(rows) + 1 <= room else 1
    head = (
        "",
        "program" if ranked else "the busiest",
        "process",
        "owner",
        heading_of(judged),
        "role",
    )
    cells = [_cells(row) for row in rows]
    widths = [GAP + max(map(len, column)) for column in zip(head, *cells, strict=True)]
    widths[0] = GAP
    if all(row.role == "cause" for row in ranked):
        # a column of one role says nothing
        widths[-1] = 0
    titles = "".join(f"{name:<{size}}" for name, size in zip(head, widths, strict=True) if size)
    yield [Piece(f"{titles}command")]
    shown = rows[: max(1, (room - 1) // each)]
    spare = room - 1 - each * len(shown)
    suspects = {row.application.number for row in ranked or rows[:1]}
    for row, texts in zip(shown, cells, strict=False):
        looks = (
            BOLD,
            BOLD if row.rank else None,
            None,
            None,
            None,
            ROLE_LOOKS[row.role] if row.role else None,
        )
        line = [
            Piece(f"{text:<{size}}", look)
            for text, size, look in zip(texts, widths, looks, strict=True)
            if size
        ]
        yield [*line, Piece(cut_middle(harmless(row.command), width - sum(widths)))]
        if each > 1:
            yield [Piece(_fitted(f"  {_background(judged, row)}", width))]
        case = judged.cases.of(row.application) if row.application.number in suspects else None
        doing = doing_text(case.doing, judged.diagnosis.limiting) if case else None
        if doing and spare > 0:
            spare -= 1
            yield [Piece(_fitted(f"  doing: {doing}", width))]


def _cells(row: ProgramRow) -> tuple[str, ...]:
    """Return rank, name, process, owner, figure and role of a program."""
    more = f"+{row.more}" if row.more else ""
    return (
        str(row.rank or ""),
        cut_middle(harmless(row.name), NAME_MOST),
        f"{row.pid}{more}",
        cut_middle(harmless(row.owner), OWNER_MOST),
        row.figure,
        row.role or "",
    )


def _background(judged: Judged, row: ProgramRow) -> str:
    """Return when a program began, who started it, and what it is."""
    case = judged.cases.of(row.application)
    if case is None:
        return "it has ended"
    about, parts = case.about, []
    if about.started_s is not None:
        zone = datetime.fromisoformat(judged.triage.capture.started).tzinfo
        began = datetime.fromtimestamp(about.started_s, zone)
        parts.append(f"since {began:{CLOCK}} ({span_text(about.running_s or 0.0)})")
    onset = next(
        (c.onset for c in judged.diagnosis.culprits if c.application is row.application), None
    )
    if onset is not None and onset.at_most_s is not None and onset.is_later:
        parts.append(f"but like this for at most {span_text(onset.at_most_s)},")
    if changed := change_brief(case.recent):
        parts.append(f"{changed},")
    if (urgent := real_time_process(row.application, judged.diagnosis.limits)) is not None:
        parts.append(f"real-time priority {urgent.facts.rt_priority},")
    parents = about.process.ancestors
    if parents:
        parts.append(f"started by {parents[0].name} ({parents[0].pid})")
    return "; ".join(filter(None, [" ".join(parts), _what(case)]))


def _what(case: Case) -> str:
    """Return the kind of a program in few words; empty if unknown."""
    about = case.about
    if about.recognised:
        kind = about.recognised.kind.what.partition(":")[0]
        return f"probably {kind}" if about.recognised.by in GUESSES else kind
    package = about.package.about if about.package else None
    return package or about.unit_about or ""


def _steps(judged: Judged, width: int, count: int, lines_each: int) -> list[Line]:
    """Return the first steps, each in at most so many lines and with its command."""
    steps, fix = leading_steps(judged)
    if not steps:
        return []
    shown = steps[:count]
    action = 1 + max(len(filled.step.action) for filled in shown)
    room = min(width, STEP_COLUMNS) - action - RISK - 4
    lines: list[Line] = [[Piece(f"  {'what to do':<{action + room + 2}}risk")]]
    for number, filled in enumerate(shown, start=1):
        step = filled.step
        text = filled.brief or step.text
        said = textwrap.wrap(
            harmless(text[:1].upper() + text[1:]), room, max_lines=lines_each, placeholder=" …"
        )
        lines.append(
            [
                Piece(f"{number} {step.action:<{action}}{said[0]:<{room + 2}}"),
                Piece(step.risk, RISK_LOOKS[step.risk]),
            ]
        )
        lines += [[Piece(f"{'':<{action + 2}}{line}")] for line in said[1:]]
        command = step.command
        if command is None:
            continue
        undo = f"   undo: {step.undo}" if step.undo else ""
        if fix is not None and filled.act is not None:
            command = fix.format(step.action)
            lines.append([Piece(f"{'':<{5 if len(command) + 5 <= width else 2}}{command}")])
        elif len(command) + 5 + len(undo) <= width:
            lines.append([Piece(f"     {harmless(command)}{harmless(undo)}")])
        elif len(command) + 5 <= width:
            lines.append([Piece(f"     {harmless(command)}")])
    return lines


def _others(judged: Judged, width: int, room: int) -> Iterator[Line]:
    """Yield other findings, as many as there is room for."""
    triage = judged.triage
    # no repetition of the verdict
    others = [
        finding
        for finding in triage.findings
        if finding.severity != "note" and finding.text not in triage.verdict.spoken
    ]
    # several of a kind are one line with their count
    counts = Counter(finding.kind for finding in others)
    first_of = {finding.kind: finding for finding in reversed(others)}
    firsts = [finding for finding in others if finding is first_of[finding.kind]]
    shown = max(1, room) if firsts else 0
    for finding in firsts[:shown]:
        alike, hidden = counts[finding.kind] - 1, len(firsts) - shown
        more = f" ({alike} more like it)" if alike else ""
        if finding is firsts[:shown][-1] and hidden > 0:
            more += f" (and {hidden} more)"
        yield [
            Piece("also  ", SEVERITY_LOOKS[finding.severity]),
            Piece(_fitted(finding.text, width - len(more) - 6) + more),
        ]


def _why(judged: Judged, width: int, room: int) -> list[Line]:
    """Return the evidence of the answer where there is room for a gap and some of it."""
    triage = judged.triage
    worst = triage.verdict.worst
    evidence = []
    if worst.source == "finding":
        first = next(finding for finding in triage.findings if finding.kind == worst.what)
        evidence = first.evidence
    elif worst.source == "resource":
        limiting = next(
            resource for resource in triage.resources if resource.resource == worst.what
        )
        culprits = triage.culprits[0].evidence if triage.culprits else []
        # the first finding explains the strain, and may rest on the same figures
        outside = triage.findings[0].evidence if judged.diagnosis.external_cause else []
        evidence = [*outside, *limiting.evidence, *culprits]
    facts = dict.fromkeys(f"why   {fact.text} [{fact.source}]" for fact in evidence)
    lines = [[Piece(_fitted(fact, width))] for fact in facts]
    return [[], *lines[: room - 1]] if room >= WHY_LEAST and lines else []


def _last(judged: Judged, width: int) -> Iterator[Line]:
    triage = judged.triage
    path = shlex.quote(str(triage.capture.path))
    unseen = "" if triage.capture.privileged else "; more is seen as administrator"
    text = f"everything: dunmist triage {path} --full"
    yield [Piece(text + (unseen if len(text) + len(unseen) <= width else ""))]


def _fitted(text: str, width: int) -> str:
    """Return a sentence in one line; what does not fit is left out at its end, and shown to be."""
    clean = harmless(text)
    return clean if len(clean) <= width else f"{clean[: max(0, width - 1)].rstrip()}…"
