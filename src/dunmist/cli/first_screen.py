"""The first screen of a triage: what limits, who, how sure, and what to do, on one page.

At most thirty lines of a hundred columns, or twenty-four of eighty. Nothing that could be pasted is
cut or wrapped: where a command does not fit, ``dunmist fix`` stands for it.
"""

import shlex
import textwrap
from collections.abc import Iterator
from typing import NamedTuple

import click

from dunmist.advice import GUESSES, Case, FilledStep, Judged, percent
from dunmist.cli.sparklines import curve_text
from dunmist.diagnosis import ResourceState
from dunmist.harmless import cut_middle, harmless
from dunmist.reports import (
    LEVEL_LOOKS,
    PLAIN,
    RISK_LOOKS,
    ROLE_LOOKS,
    Look,
    culprit_shares,
    resource_figures,
    resource_name,
    resource_shares,
)
from dunmist.series import Series

# columns and lines of a usual window, and of the least that is laid out for
WIDE, NARROW = (100, 30), (80, 24)
# what a person in a hurry takes in; --full has all
CULPRITS_SHOWN = STEPS_SHOWN = 3
# lines of the verdict before it is shortened
VERDICT_MOST = 5
LABEL, WORD, FIGURES = 13, 10, 30
CALM_ALWAYS = ("cpu", "memory")


class Piece(NamedTuple):
    """A piece of a line with its look; None is plain."""

    text: str
    look: Look | None = None


Line = list[Piece]
BOLD = PLAIN._replace(bold=True)


def first_screen(judged: Judged, columns: int, *, colours: bool) -> str:
    """Return the screen for a terminal of so many columns."""
    width, most = WIDE if columns >= WIDE[0] else (min(columns, NARROW[0]), NARROW[1])
    above = [*_verdict(judged, width), [], *_resources(judged, width, is_wide=width == WIDE[0]), []]
    below = [*_steps(judged, width), [], *_rest(judged, width)]
    who: list[Line] = []
    # of the culprits so many as there is room for
    for shown in range(CULPRITS_SHOWN, 0, -1):
        who = list(_culprits(judged, width, shown))
        if len(above) + len(who) + len(below) <= most:
            break
    lines = [*above, *who, *below]
    # room between the parts goes before any part does
    while len(lines) > most and [] in lines:
        lines.remove([])
    lines = lines[:most]
    return "".join(f"{_styled(line, colours=colours)}\n" for line in lines)


def _styled(line: Line, *, colours: bool) -> str:
    return "".join(
        click.style(one.text, fg=one.look.terminal, bold=one.look.bold or None)
        if one.look and colours
        else one.text
        for one in line
    ).rstrip()


def _verdict(judged: Judged, width: int) -> Iterator[Line]:
    facts, found = judged.triage.capture, judged.triage.verdict
    head = f"{facts.host or 'this computer'}, {facts.duration_s:g} s from {facts.started[:19]}"
    yield [Piece(cut_middle(harmless(head), width))]
    for text in textwrap.wrap(harmless(found.headline), width, break_long_words=False,
                              max_lines=VERDICT_MOST, placeholder=" …"):  # fmt: skip
        yield [Piece(text, BOLD)]
    yield [
        Piece(found.level, LEVEL_LOOKS[found.level]),
        Piece(f"; limiting: {found.limiting or 'nothing'}; sure: {percent(found.confidence)}"),
    ]


def _resources(judged: Judged, width: int, *, is_wide: bool) -> Iterator[Line]:
    """Yield each resource with its level over time; on a narrow screen the calm ones together."""
    calm = []
    for state in judged.diagnosis.resources:
        shown = is_wide or state.level != "calm" or state.resource in CALM_ALWAYS
        if not shown or (state.trace is None and state.level == "calm"):
            calm.append(" ".join(filter(None, (state.resource, state.name))))
            continue
        yield _resource(state, judged.series, width)
    if calm:
        text = f"{'calm':<{LABEL}}{', '.join(calm)}"
        yield [Piece(cut_middle(harmless(text), width))]


def _resource(state: ResourceState, series: Series, width: int) -> Line:
    name = cut_middle(harmless(resource_name(state)), LABEL - 1)
    room = max(1, width - LABEL - WORD - FIGURES)
    look = LEVEL_LOOKS[state.level]
    return [
        Piece(f"{name:<{LABEL}}"),
        Piece(f"{state.level:<{WORD}}", look),
        Piece(f"{resource_figures(state, series):<{FIGURES}}"),
        Piece(curve_text(resource_shares(state, room), 1.0), look),
    ]


def _culprits(judged: Judged, width: int, shown: int) -> Iterator[Line]:
    for culprit in judged.diagnosis.culprits[:shown]:
        advice = next(one for one in judged.triage.culprits if one.name == culprit.name)
        head = f"{advice.rank} {cut_middle(harmless(culprit.name), 30)}"
        sure = f", sure {percent(culprit.confidence)}" if culprit.role == "cause" else ""
        part = f"  {percent(culprit.score)} of it{sure}  "
        room = width - len(head) - len(part) - len(culprit.role) - 3
        yield [
            Piece(head, BOLD), Piece("  "), Piece(culprit.role, ROLE_LOOKS[culprit.role]),
            Piece(part), Piece(curve_text(culprit_shares(judged, culprit, max(1, room)), 1.0)),
        ]  # fmt: skip
        case = judged.cases.of_culprit(culprit)
        of = ", ".join(advice.users) or "unknown"
        about = "; ".join(filter(None, (f"  of {of}", _what(case) if case else "")))
        yield [Piece(_fitted(about, width))]
    if judged.diagnosis.culprits:
        yield []


def _what(case: Case) -> str:
    """Return what a program is in few words; nothing where that is not known."""
    about = case.about
    if about.recognised:
        kind = about.recognised.kind.what.partition(":")[0]
        return f"probably {kind}" if about.recognised.by in GUESSES else kind
    package = about.package.about if about.package else None
    return package or about.unit_about or ""


def _steps(judged: Judged, width: int) -> Iterator[Line]:
    rungs, fix = _ladder(judged)
    for number, rung in enumerate(rungs[:STEPS_SHOWN], start=1):
        risk = rung.step.risk
        text = rung.brief or rung.step.text
        text = text[:1].upper() + text[1:]
        said = _fitted(f"{number}. {text}", width - len(risk) - 8)
        yield [Piece(said), Piece("  risk "), Piece(risk, RISK_LOOKS[risk])]
        command = rung.step.command
        if command is None:
            continue
        undo = f"   undo: {rung.step.undo}" if rung.step.undo else ""
        if len(command) + 5 + len(undo) <= width:
            yield [Piece(f"     {harmless(command)}{harmless(undo)}")]
        elif len(command) + 5 <= width and fix is None:
            yield [Piece(f"     {harmless(command)}")]
        elif fix is not None:
            yield [Piece(f"     {fix} --step {number}")]


def _ladder(judged: Judged) -> tuple[list[FilledStep], str | None]:
    """Return the steps that the headline means, and the command that carries them out."""
    diagnosis, cases = judged.diagnosis, judged.cases
    if diagnosis.culprits and not diagnosis.external_cause:
        case = cases.of_culprit(diagnosis.culprits[0])
        path = shlex.quote(str(judged.triage.capture.path))
        return (case.rungs if case else []), f"dunmist fix {path} --culprit 1"
    finding = diagnosis.external_cause or next(
        (finding for finding in diagnosis.findings if finding.severity != "note"), None
    )
    return (cases.of_finding(finding) if finding else []), None


def _rest(judged: Judged, width: int) -> Iterator[Line]:
    triage = judged.triage
    # what the verdict says already is not said again
    others = [
        finding for finding in triage.findings
        if finding.severity != "note" and finding.text not in triage.verdict.headline
    ]  # fmt: skip
    if others:
        more = f" (and {len(others) - 1} more)" if len(others) > 1 else ""
        yield [Piece(_fitted(f"Also: {others[0].text}", width - len(more)) + more)]
    if triage.blind_spots:
        spots = ", ".join(blind_spot.what for blind_spot in triage.blind_spots)
        yield [Piece(_fitted(f"Not seen: {spots}", width))]
    path = shlex.quote(str(triage.capture.path))
    yield [Piece(f"Everything: dunmist triage {path} --full")]


def _fitted(text: str, width: int) -> str:
    """Return a sentence in one line; what does not fit is left out at its end, and shown to be."""
    clean = harmless(text)
    return clean if len(clean) <= width else f"{clean[: max(0, width - 1)].rstrip()}…"
