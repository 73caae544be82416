"""Words that have to be in a list."""

from collections.abc import Collection
from difflib import get_close_matches

import click


def check_word(kind: str, word: str, words: Collection[str]) -> None:
    """Raise UsageError with the nearest right word when one is in no list."""
    if word not in words:
        near = get_close_matches(word, words, n=1)
        hint = f"did you mean '{near[0]}'?" if near else f"choose from {', '.join(words)}"
        raise click.UsageError(f"there is no {kind} '{word}'; {hint}")
