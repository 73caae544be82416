"""Writes the lists of columns in docs/views.md from the tables' own declarations."""

import re
import textwrap
from pathlib import Path

from dunmist.tables import FORMS, LOCKS, TOPICS, Table

PAGE = Path(__file__).parent / "views.md"
WIDTH = 100
MARKED = re.compile(r"(<!-- tables of (\w+) -->\n).*?(<!-- end -->)", re.S)


def described(table: Table) -> str:
    """Return a table with all its columns, those that a terminal shows in bold."""
    shown = {column.name for column in table.shown_columns()}
    lines = [f"`{table.key}`: {table.about}.", ""]
    for column in table.columns:
        mark = "**" if column.name in shown else ""
        item = f"- {mark}`{column.name}`{mark} ({column.unit}): {column.meaning}"
        lines += textwrap.wrap(
            item, WIDTH, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False
        )
    return "\n".join(lines) + "\n"


def tables_of(topic: str) -> list[Table]:
    """Return the tables that a section of the page lists."""
    if topic == "process":
        return [LOCKS]
    others = (
        [table for tables in FORMS.values() for table in tables] if topic == "processes" else []
    )
    # --each and --flat show the same columns in another order
    return [
        *TOPICS[topic],
        *(other for other in others if other.records is not FORMS["each"][0].records),
    ]


def renewed(page: str) -> str:
    """Return the page with every marked list written anew."""
    return MARKED.sub(
        lambda match: match[1] + "\n".join(map(described, tables_of(match[2]))) + match[3], page
    )


if __name__ == "__main__":
    PAGE.write_text(renewed(PAGE.read_text()))
