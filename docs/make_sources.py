"""Writes the list of files in docs/sources.md from the table that the collector is made from."""

import re
from pathlib import Path

from dunmist.computer.read_paths import READ_PATHS

PAGE = Path(__file__).parent / "sources.md"
MARKED = re.compile(r"(<!-- read paths -->\n).*?(<!-- end -->)", re.S)


def rows() -> str:
    """Return the table of files, one row a subject."""
    lines = ["| what it tells | files | over a shell |", "| --- | --- | --- |"]
    for read in READ_PATHS:
        paths = ", ".join(f"`{path}`" if path[0] == "/" else path for path in read.paths)
        lines.append(f"| {read.tells} | {paths} | {'yes' if read.by_shell else 'no'} |")
    return "\n".join(lines) + "\n"


def renewed(page: str) -> str:
    """Return the page with the table written anew."""
    return MARKED.sub(lambda match: match[1] + rows() + match[2], page)


if __name__ == "__main__":
    PAGE.write_text(renewed(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
