"""Write the recent changes of a model computer: its package log, and times of files."""

from collections.abc import Iterator
from datetime import datetime, timedelta

from dunmist.simulation.model import ModelComputer
from dunmist.simulation.scenario import ChangeSpec

LOG, HISTORY = "var/log/dpkg.log", "var/log/apt/history.log"
ACTS = {"installed": "install", "upgraded": "upgrade", "removed": "remove"}


def _changed_at(model: ModelComputer, change: ChangeSpec) -> datetime:
    return datetime.fromisoformat(model.scenario.machine.started) - timedelta(seconds=change.ago_s)


def change_files(model: ModelComputer) -> Iterator[tuple[str, str]]:
    """Yield the logs, and files that were changed by hand."""
    lately = sorted(model.scenario.lately, key=lambda change: -change.ago_s)
    log, history = [], []
    for change in lately:
        at = f"{_changed_at(model, change):%Y-%m-%d %H:%M:%S}"
        if change.act == "file":
            yield change.what.lstrip("/"), change.text
            continue
        versions = f"{change.old or '<none>'} {change.new or '<none>'}"
        log.append(f"{at} {ACTS[change.act]} {change.what}:amd64 {versions}\n")
        if change.by:
            date, _, clock = at.partition(" ")
            history.append(
                f"Start-Date: {date}  {clock}\nCommandline: apt upgrade\n"
                f"Requested-By: {change.by} (1004)\nEnd-Date: {date}  {clock}\n\n"
            )
    if log:
        yield LOG, "".join(log)
    if history:
        yield HISTORY, "".join(history)


def changed_at(model: ModelComputer) -> Iterator[tuple[str, float]]:
    """Yield each file that was changed by hand with when that was, in seconds since 1970."""
    for change in model.scenario.lately:
        if change.act == "file":
            yield change.what.lstrip("/"), _changed_at(model, change).timestamp()
