"""Columns by the words that people use for them: names, headings, everyday words."""

from collections.abc import Mapping
from difflib import get_close_matches
from typing import Any

import click

from dunmist.tables import Filled, Table

# an everyday word, and the columns that it can mean, the first that a table has
WORDS: Mapping[str, tuple[str, ...]] = {
    "cpu": ("cores_mean", "busy_mean", "busiest_cores", "cpu_s", "cpu"),
    "core": ("core", "cores_mean"),
    "cores": ("cores_mean", "busiest_cores"),
    "usage": ("cores_mean", "busy_mean", "used_share"),
    "used": ("used", "used_share", "used_bytes", "cores_mean"),
    "memory": ("private_bytes", "rss_bytes", "bytes", "memory_used_bytes"),
    "mem": ("private_bytes", "rss_bytes", "bytes", "memory_used_bytes"),
    "resident": ("rss_bytes",),
    "rss": ("rss_bytes",),
    "virtual": ("virtual_bytes",),
    "swap": ("swap_bytes",),
    "disk": ("disk_bytes_per_s", "disk", "read_bytes"),
    "io": ("disk_bytes_per_s", "read_bytes_per_s", "read_bytes"),
    "read": ("read_bytes_per_s", "read_bytes"),
    "reads": ("read_bytes_per_s", "read_bytes"),
    "write": ("write_bytes_per_s", "write_bytes"),
    "writes": ("write_bytes_per_s", "write_bytes"),
    "network": ("network_bytes_per_s", "received_bytes_per_s", "received_bytes"),
    "net": ("network_bytes_per_s", "received_bytes_per_s", "received_bytes"),
    "sent": ("sent_bytes_per_s", "sent_bytes"),
    "received": ("received_bytes_per_s", "received_bytes"),
    "owner": ("users", "user"),
    "user": ("user", "users"),
    "name": ("label", "program", "name", "unit", "application", "sensor", "disk", "link"),
    "command": ("command_line", "command"),
    "time": ("cpu_total_s", "cpu_s", "took_s", "at_s"),
    "age": ("started_s", "since_s"),
    "start": ("started_s", "since_s", "began_s"),
    "waiting": ("waiting_tasks",),
    "wait": ("waiting_tasks", "latency_mean_s"),
    "files": ("descriptors",),
    "size": ("size_bytes", "virtual_bytes", "bytes"),
    "free": ("available_bytes",),
    "full": ("used_share",),
    "temperature": ("last", "greatest"),
    "latency": ("latency_mean_s",),
    "errors": ("errors",),
    "duration": ("took_s",),
    "process": ("pid", "pids"),
}


def column_of(table: Table[Any], word: str) -> str | None:
    """Return the name of the column that a word means in a table, in any case of letters."""
    word = word.strip().lower()
    if word in table.names:
        return word
    by_heading = {column.heading.lower(): column.name for column in table.columns}
    meant = by_heading.get(word) or by_heading.get(word.replace("_", " "))
    return meant or next((name for name in WORDS.get(word, ()) if name in table.names), None)


def columns_of(tables: list[Filled], words: list[str]) -> dict[str, list[str]]:
    """Return by table the columns that words mean; raises UsageError for a word that none has."""
    meant = {
        table.table.name: [
            name for word in words if (name := column_of(table.table, word)) is not None
        ]
        for table in tables
    }
    for word in words:
        if all(column_of(table.table, word) is None for table in tables):
            known = {name for table in tables for name in table.table.names}
            near = get_close_matches(word.lower(), [*known, *WORDS], n=1)
            hint = f"did you mean '{near[0]}'?" if near else "'--columns help' lists them"
            raise click.UsageError(f"unknown column '{word}'; {hint}")
    return meant
