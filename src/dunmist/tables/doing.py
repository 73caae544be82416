"""Topic ``doing``: what the programs do, by code, thread, file, part, wait and peer."""

from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Doing, Judged, brief_of, file_name, kind_of_code
from dunmist.series import Application, CodeLocation
from dunmist.tables.declared import Column, Table, Width
from dunmist.tables.shared_columns import APPLICATION, APPLICATION_NUMBER, PID

# functions of each application; the rest is in none of the first ones
FUNCTIONS_MOST = 12


def _busiest(judged: Judged) -> list[Application]:
    return sorted(judged.series.applications, key=lambda application: -application.cores.mean())


class Activity(NamedTuple):
    """One thing that an application does."""

    application: Application
    item: Doing


def _doing(judged: Judged) -> Iterator[Activity]:
    for application in _busiest(judged):
        case = judged.cases.of(application)
        for item in case.doing if case else []:
            yield Activity(application, item)


class SampledFunction(NamedTuple):
    """One function in which an application was found, of so many samples."""

    application: Application
    location: CodeLocation
    samples: int


def _code(judged: Judged) -> Iterator[SampledFunction]:
    for application in _busiest(judged):
        use = judged.series.code.get(application.number)
        if use is None or use.samples < judged.diagnosis.limits.code.samples_least:
            continue
        for location in use.locations[:FUNCTIONS_MOST]:
            yield SampledFunction(application, location, use.samples)


def _main_pid(row: Activity | SampledFunction) -> int | None:
    return row.application.main.pid if row.application.main else None


def _work(row: SampledFunction) -> str | None:
    kind = kind_of_code(row.location.mapping, row.location.function)
    return kind.does if kind else None


DOING: Table[Activity] = Table(
    "doing",
    "what each program does, as far as it was seen; the busiest program first",
    (
        APPLICATION.of(lambda row: row.application.name),
        APPLICATION_NUMBER.of(lambda row: row.application.number),
        PID.of(_main_pid),
        Column("what", "text", "started, code, thread, part, file, wait, memory, peer or origin",
            lambda row: row.item.what, answers=("state",)),
        Column("name", "text", "kind of work, thread, process or address",
            lambda row: row.item.name, width=Width(14, 30)),
        Column("share", "share", "of what the program does of that", lambda row: row.item.share,
            answers=("least",)),
        Column("does", "text", "the same in few words", lambda row: brief_of(row.item),
            width=Width(40, 120)),
        Column("text", "text", "the same in a sentence", lambda row: row.item.text,
            width=Width(30, 110)),
        Column("source", "text", "where it comes from", lambda row: row.item.source, width=Width()),
    ),
    _doing,
    shown=("application", "pid", "what", "share", "does"),
)
CODE: Table[SampledFunction] = Table(
    "code",
    "functions in which the programs were found, of all samples of each",
    (
        APPLICATION.of(lambda row: row.application.name),
        APPLICATION_NUMBER.of(lambda row: row.application.number),
        PID.of(_main_pid),
        Column("share", "share", "of the samples of the program", lambda row: row.location.share,
            answers=("least",)),
        Column("samples", "number", "how often it was found there",
            lambda row: round(row.location.share * row.samples)),
        Column("function", "text", "name of the function, where one is known",
            lambda row: row.location.function, width=Width(14, 40)),
        Column("file", "text", "program, library or kernel",
            lambda row: file_name(row.location.mapping), width=Width(14, 40)),
        Column("work", "text", "kind of work that it is for", _work, width=Width(20, 60)),
        Column("path", "text", "where the file lies", lambda row: row.location.mapping,
            width=Width(20, 60)),
    ),
    _code,
    shown=("application", "share", "samples", "function", "file", "work"),
)
