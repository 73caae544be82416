"""``dunmist explain``: what a word on the screen means, with this computer's figure."""

import shutil
import textwrap
from collections.abc import Iterator
from difflib import get_close_matches
from pathlib import Path

import click

from dunmist.cli.completion import complete_word
from dunmist.cli.parameters import CAPTURE

WIDTH_MOST, LINES_MOST = 80, 8


@click.command()
@click.argument("word", required=False, shell_complete=complete_word)
@click.argument("file", type=CAPTURE, required=False)
def explain(word: str | None, file: Path | None) -> None:
    """Say what WORD means: a column, a level, a kind of finding, a figure or a sensor's label.

    With a capture FILE (or 'last') it gives the figure of that computer as well. Without WORD it
    lists the words.
    """
    from dunmist.advice.glossary import explain as find
    from dunmist.advice.glossary import glossary, spellings

    width = min(WIDTH_MOST, shutil.get_terminal_size((WIDTH_MOST, 24)).columns)
    if word is None:
        click.echo(textwrap.fill(", ".join(glossary()), width))
        return
    known = find(word)
    lines = list(_declared(word)) if known is None else [f"{known.word}: {known.text}"]
    if known is not None and known.others:
        lines.append(f"also: {', '.join(known.others)}")
    if not lines:
        near = get_close_matches(word.lower(), spellings(), n=1)
        hint = f"did you mean '{near[0]}'?" if near else "'dunmist explain' lists the words"
        raise click.UsageError(f"unknown word '{word}'; {hint}")
    if file is not None and known is not None:
        lines += _figure(known.word, file)
    shown = [part for line in lines for part in textwrap.wrap(line, width)]
    click.echo("\n".join(shown[:LINES_MOST]))


def _declared(word: str) -> Iterator[str]:
    """Yield the declared meaning of a kind of finding or a column."""
    from dunmist.advice import wording
    from dunmist.tables import FORMS, TOPICS

    sentence = wording()["finding"].get(word.lower())
    if sentence is not None:
        yield f"{word.lower()}, a kind of finding: {sentence.format(subject='NAME')}"
        return
    wanted = word.lower().replace(" ", "_")
    tables = [table for some in (*TOPICS.values(), *FORMS.values()) for table in some]
    meanings = {
        f"{column.name}, a column of {table.name} ({column.unit}): {column.meaning}"
        for table in tables
        for column in table.columns
        if column.name == wanted
    }
    yield from sorted(meanings)[:3]


def _figure(word: str, file: Path) -> list[str]:
    """Return the figure of a word in a capture, and whose it is."""
    from dunmist.advice.glossary import figure_of
    from dunmist.harmless import harmless
    from dunmist.jobs.judge import judge

    judged = judge(file, looks_for_bad_window=False)
    figure = figure_of(word, judged.series, judged.diagnosis)
    host = judged.series.header.machine.host or "this computer"
    return [] if figure is None else [harmless(f"on {host}: {figure}")]
