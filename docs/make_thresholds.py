"""Writes docs/thresholds.md from the defaults and the comments above them in the code."""

import ast
from collections.abc import Iterator
from pathlib import Path

from dunmist.diagnosis import thresholds

PAGE = Path(__file__).parent / "thresholds.md"
MODULES = Path(__file__).parent.parent / "src" / "dunmist" / "thresholds"
UNITS = {
    "Share": "share, 0 to 1",
    "Seconds": "s",
    "Bytes": "bytes",
    "BytesPerSecond": "bytes/s",
    "PerSecond": "1/s",
    "Cores": "cores",
    "Celsius": "°C",
    "Kelvin": "K",
    "Watts": "W",
    "Hours": "h",
    "Percent": "%",
    "Number": "number",
    "int": "count",
}
HEAD = """# Thresholds

Each figure that decides something, with its unit and its reason. This page is generated from
`src/dunmist/thresholds/` by `make docs`.

A file `thresholds.toml` in your settings folder (README) changes single figures. A name that is not
on this page is an error:

```toml
[cpu]
strained_used = 0.8
```
"""

Row = tuple[str, str, str]


def reason_above(lines: list[str], number: int) -> str:
    """Return the comment that ends right above a line, which counts from 1."""
    words: list[str] = []
    while lines[number - 2].strip().startswith("#"):
        words.insert(0, lines[number - 2].strip().lstrip("# "))
        number -= 1
    return " ".join(words)


def rows_of(module: Path) -> Iterator[tuple[str, str, list[Row]]]:
    """Yield the name of each record of a module, its meaning, and name, unit and reason a field."""
    text = module.read_text(encoding="utf-8")
    lines, tree = text.splitlines(), ast.parse(text)
    kinds: dict[str, dict[str, str]] = {}
    for node in tree.body:
        if isinstance(node, ast.ClassDef):
            fields = [field for field in node.body if isinstance(field, ast.AnnAssign)]
            kinds[node.name] = {
                ast.unparse(item.target): ast.unparse(item.annotation) for item in fields
            }
            rows = [
                (
                    ast.unparse(item.target),
                    ast.unparse(item.annotation),
                    reason_above(lines, item.lineno),
                )
                for item in fields
            ]
            yield node.name, ast.get_docstring(node) or "", rows
        elif (
            isinstance(node, ast.Assign) and ast.unparse(getattr(node.value, "func", node)) in kinds
        ):
            assert isinstance(node.value, ast.Call)  # it has a function
            units = kinds[ast.unparse(node.value.func)]
            yield (
                ast.unparse(node.targets[0]),
                "",
                [
                    (
                        str(keyword.arg),
                        units[str(keyword.arg)],
                        reason_above(lines, keyword.value.lineno),
                    )
                    for keyword in node.value.keywords
                ],
            )
        elif isinstance(node, ast.Assign) and isinstance(node.value, ast.Dict):
            yield (
                ast.unparse(node.targets[0]),
                "",
                [
                    (str(ast.literal_eval(key)), "", reason_above(lines, key.lineno))
                    for key in node.value.keys
                    if key is not None
                ],
            )


def exact(figure: float) -> str:
    """Return a figure with all of its digits."""
    short = f"{figure:g}"
    return short if float(short) == figure else f"{figure:.0f}"


def page() -> str:
    """Return the whole page, a section a subject."""
    described = {
        name: (meaning, rows)
        for module in sorted(MODULES.glob("*.py"))
        for name, meaning, rows in rows_of(module)
    }
    defaults, text = thresholds(), HEAD
    for subject in defaults.__struct_fields__:
        figures = getattr(defaults, subject)
        if isinstance(figures, dict):
            meaning, _ = described["KernelMessageLimits"]
            text += f"\n## {subject}\n\n{meaning}\n\n"
            text += "| class | least | within s | reason |\n| --- | --- | --- | --- |\n"
            for name, _, reason in described["KERNEL_MESSAGES"][1]:
                limits = figures[name]
                text += f"| `{name}` | {limits.least} | {limits.within_s:.0f} | {reason} |\n"
            continue
        own = subject.removeprefix("disk_").upper()
        meaning, rows = described[own if own in described else type(figures).__name__]
        text += f"\n## {subject}\n\n{meaning or described[type(figures).__name__][0]}\n\n"
        text += "| name | default | unit | reason |\n| --- | --- | --- | --- |\n"
        for name, unit, reason in rows:
            figure = exact(getattr(figures, name))
            text += f"| `{name}` | {figure} | {UNITS[unit]} | {reason} |\n"
    return text


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
