"""Writes several forms of one report at the same time, each in a process of its own."""

from collections.abc import Sequence
from importlib import import_module
from multiprocessing import get_context
from pathlib import Path
from typing import TYPE_CHECKING

from dunmist.advice import Judged
from dunmist.errors import OutputError
from dunmist.reports.document import Document
from dunmist.reports.writing import fitted, write_report

if TYPE_CHECKING:
    from multiprocessing.connection import Connection


def write_reports(judged: Judged, paths: Sequence[Path], *, force: bool = False) -> None:
    """Write a report in all the forms that are named, the first of them here.

    Raises OutputError for the first that could not be written; the others are whole.
    """
    # heavy modules are loaded once, before the workers start
    from dunmist.reports.report import report_document

    import_module("dunmist.reports.pictures")
    document = report_document(judged)
    # a forked process has what was judged as it is
    context = get_context("fork")
    others = []
    for path in paths[1:]:
        here, there = context.Pipe(duplex=False)
        child = context.Process(target=_write_apart, args=(judged, path, document, force, there))
        child.start()
        there.close()
        others.append((path, child, here))
    try:
        _write(judged, paths[0], document, force=force)
    finally:
        answers = [_answer(here) for _, _, here in others]
        for _, child, _ in others:
            child.join()
    for (path, child, _), trouble in zip(others, answers, strict=True):
        if trouble or child.exitcode:
            raise OutputError(trouble or f"{path}: could not be written; run it again")


def _write(judged: Judged, path: Path, document: Document, *, force: bool) -> None:
    write_report(judged, path, fitted(document, path.suffix.lower()), force=force)


def _write_apart(
    judged: Judged, path: Path, document: Document, force: bool, answer: "Connection"
) -> None:
    try:
        _write(judged, path, document, force=force)
    except OutputError as error:
        answer.send(str(error))


def _answer(here: "Connection") -> str:
    """Return the error of a process, empty if it ended without one."""
    try:
        return str(here.recv())
    except EOFError:
        return ""
