"""Frames as text: a table for a terminal, JSON and CSV for programs."""

import json
import math
import shutil
import sys

import pandas as pd
from rich.console import Console
from rich.table import Table
from rich.text import Text

from dunmist.advice import percent, size_text, span_text
from dunmist.cli.harmless import cut_middle, harmless, harmless_cell

PIPED_WIDTH = 160
TEXT_WIDTH = 36
# a column's unit is the end of its name; each has its way of being shown
SHARES = ("share", "busy_mean", "busy_median", "busy_max", "user", "nice", "system", "iowait",
          "irq", "softirq", "steal", "machine_share")  # fmt: skip
LEFT_OUT = ("observer", "executable", "cgroup", "parent_pid", "cpu_s", "rss_bytes",
            "short_lived_cores", "major_faults_per_s")  # fmt: skip


def json_text(frame: pd.DataFrame) -> str:
    """Return the rows as a JSON list of objects; what is unknown is null."""
    rows = [
        {str(name): _plain(value) for name, value in row.items()}
        for row in frame.to_dict(orient="records")
    ]
    return json.dumps(rows, indent=2, ensure_ascii=False) + "\n"


def csv_text(frame: pd.DataFrame) -> str:
    """Return the rows as CSV (RFC 4180) with a header; no cell is a formula."""
    return frame.map(harmless_cell).to_csv(index=False)


def print_table(frame: pd.DataFrame) -> None:
    """Print the rows as a table as wide as the terminal."""
    width = shutil.get_terminal_size((PIPED_WIDTH, 24)).columns if sys.stdout.isatty() else None
    console = Console(width=width or PIPED_WIDTH, highlight=False)
    table = Table(box=None, pad_edge=False, header_style="bold")
    shown = [name for name in frame.columns if name not in LEFT_OUT]
    for name in shown:
        numeric = pd.api.types.is_numeric_dtype(frame[name])
        table.add_column(_heading(name), justify="right" if numeric else "left",
                         no_wrap=True, overflow="ellipsis")  # fmt: skip
    facts = "fact" in frame.columns
    for row in frame.to_dict(orient="records"):
        unit = str(row["fact"]) if facts else ""
        table.add_row(*(Text(_cell(unit if facts and name == "value" else name, row[name]))
                        for name in shown))  # fmt: skip
    console.print(table)


def _plain(value: object) -> object:
    if isinstance(value, float):
        return None if math.isnan(value) else float(f"{value:.6g}")
    if hasattr(value, "item"):
        return value.item()
    return harmless(value) if isinstance(value, str) else value


def _heading(name: str) -> str:
    for ending in ("_bytes", "_hz", "_per_s", "_s"):
        name = name.removesuffix(ending) if ending != "_per_s" else name
    return name.replace("_", " ")


def _cell(name: str, value: object) -> str:
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return _number(name, float(value))
    return cut_middle(harmless(str(value)), TEXT_WIDTH)


def _number(name: str, value: float) -> str:
    if name in SHARES:
        return percent(value)
    if name.endswith("_bytes") or name == "bytes":
        return size_text(value)
    if name.endswith("_hz"):
        return f"{value / 1e6:.0f} MHz"
    if name.endswith("_s"):
        return span_text(value)
    if value.is_integer() and "cores" not in name:
        return f"{value:.0f}"
    return f"{value:.2f}" if abs(value) < 100 else f"{value:.0f}"
