"""Reads the table of figures that the rules use, ``thresholds.toml`` beside this module.

A file of the same form may change single figures; a name that the table does not have is an error,
so that a slip does not go unseen.
"""

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from pathlib import Path

from dunmist.errors import SettingsError

Thresholds = Mapping[str, Mapping[str, float]]


@cache
def thresholds() -> Thresholds:
    """Return each figure by its subject and name."""
    text = (files("dunmist.diagnosis") / "thresholds.toml").read_text(encoding="utf-8")
    table: Thresholds = tomllib.loads(text)
    return table


def load_thresholds(path: Path) -> Thresholds:
    """Return the figures with those of a file in their place; raises SettingsError.

    Without a file they are those of the table.
    """
    try:
        changes = tomllib.loads(path.read_text(encoding="utf-8"))
    except (FileNotFoundError, PermissionError):  # none, or in somebody else's home
        return thresholds()
    except (OSError, ValueError) as error:
        raise SettingsError(
            f"{path}: no table of thresholds ({error}); mend it, or move it away"
        ) from error
    merged = {subject: dict(figures) for subject, figures in thresholds().items()}
    for subject, figures in changes.items():
        for name, figure in figures.items() if isinstance(figures, dict) else [("", None)]:
            known = name in merged.get(subject, {})
            if not known or isinstance(figure, bool) or not isinstance(figure, int | float):
                raise SettingsError(
                    f"{path}: there is no threshold '{subject}.{name}' that is a number; "
                    f"docs/ranking.md lists them"
                )
            merged[subject][name] = float(figure)
    return merged
