"""Describe the files that an application reads and writes most."""

import os
import re
from collections.abc import Iterator

from dunmist.advice.amounts import percent, size_text, span_text
from dunmist.advice.evidence import rounded
from dunmist.advice.triage import Doing
from dunmist.advice.wording import wording
from dunmist.diagnosis import Thresholds
from dunmist.series import FileUse, MovedFile

SOURCE = "/proc/PID/fdinfo, /proc/PID/io"
_LOG = re.compile(r"^/var/log/|\.log(?:$|\.)|/logs?/")
INSTANT_S = 1e-9


def file_filling(use: FileUse | None, limits: Thresholds) -> dict[str, str]:
    """Return by the word of the ladder the log that it fills, and the folder of its many files."""
    found: dict[str, str] = {}
    for file in _files_shown(use, limits):
        if file.manner == "writes" and _LOG.search(file.path):
            found.setdefault("fills-log", file.path)
    if use and not _files_shown(use, limits) and (folder := _common_folder(use, limits)):
        found["many-files"] = folder
    return found


def doing_of_files(use: FileUse | None, limits: Thresholds) -> Iterator[Doing]:
    """Yield the files that it moves most along; of many small ones, the folder they are in."""
    if use is None or use.read_bytes + use.written_bytes < limits.code.file_bytes_least:
        return
    words = wording()["doing"]
    shown = _files_shown(use, limits)
    for file in shown:
        a_second = (file.moved_bytes or 0) / max(use.seconds, INSTANT_S)
        text = words[f"file-{file.manner}"].format(
            path=file.path, amount=size_text(a_second), share=percent(file.share or 0.0)
        )
        if file.appended_bytes is not None and a_second > 0:
            length, since = size_text(float(file.appended_bytes)), file.appended_bytes / a_second
            text += words["file-grown"].format(length=length, since=span_text(since))
        share = rounded(file.share or 0.0)
        yield Doing("file", file.path, share, rounded(a_second), "bytes/s", text, SOURCE)
    if shown:
        return
    if folder := _common_folder(use, limits):
        counted = [file for file in use.files if file.moved_bytes is not None]
        share = rounded(min(1.0, sum(file.share or 0.0 for file in counted)))
        text = words["folder"].format(path=folder, count=len(counted))
        yield Doing("file", folder, share, float(len(counted)), "files", text, SOURCE)
        return
    untold = [file for file in use.files if file.moved_bytes is None]
    for file in untold[: int(limits.code.files_shown)]:
        text = words[f"file-untold-{file.manner}"].format(path=file.path)
        yield Doing("file", file.path, None, None, None, text, SOURCE)


def _files_shown(use: FileUse | None, limits: Thresholds) -> list[MovedFile]:
    """Return the files that a good part of what it moves goes along."""
    if use is None or use.read_bytes + use.written_bytes < limits.code.file_bytes_least:
        return []
    shown = [file for file in use.files if (file.share or 0.0) >= limits.code.file_share_least]
    return shown[: int(limits.code.files_shown)]


def _common_folder(use: FileUse, limits: Thresholds) -> str | None:
    """Return the folder that many files lie in; None if they are few or lie anywhere."""
    paths = [file.path for file in use.files if file.moved_bytes is not None]
    if len(paths) < limits.code.folder_files_least:
        return None
    folder = os.path.commonpath([os.path.dirname(path) for path in paths])  # noqa: PTH120
    return folder if folder.count("/") > 1 else None
