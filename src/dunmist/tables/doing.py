"""Topic ``doing``: what the programs do, by code, thread, file, part, wait and peer."""

from collections.abc import Iterator

from dunmist.advice import Judged, brief_of, file_name, kind_of_code
from dunmist.series import Application
from dunmist.tables.declared import Column, Row, Table, Width
from dunmist.tables.shared_columns import APPLICATION, APPLICATION_NUMBER, PID

# functions of each application; the rest is in none of the first ones
FUNCTIONS_MOST = 12


def _busiest(judged: Judged) -> list[Application]:
    return sorted(judged.series.applications, key=lambda application: -application.cores.mean())


def _doing(judged: Judged) -> Iterator[Row]:
    for application in _busiest(judged):
        case = judged.cases.of(application)
        for item in case.doing if case else []:
            yield {
                "application": application.name,
                "application_number": application.number,
                "pid": application.main.pid if application.main else None,
                "what": item.what,
                "name": item.name,
                "share": item.share,
                "does": brief_of(item),
                "text": item.text,
                "source": item.source,
            }


def _code(judged: Judged) -> Iterator[Row]:
    for application in _busiest(judged):
        use = judged.series.code.get(application.number)
        if use is None or use.samples < judged.diagnosis.limits.code.samples_least:
            continue
        for place in use.places[:FUNCTIONS_MOST]:
            kind = kind_of_code(place.mapping, place.function)
            yield {
                "application": application.name,
                "application_number": application.number,
                "pid": application.main.pid if application.main else None,
                "share": place.share,
                "samples": round(place.share * use.samples),
                "function": place.function,
                "file": file_name(place.mapping),
                "work": kind.does if kind else None,
                "path": place.mapping,
            }


DOING = Table(
    "doing",
    "what each program does, as far as it was seen; the busiest program first",
    (
        APPLICATION,
        APPLICATION_NUMBER,
        PID,
        Column(
            "what",
            "text",
            "code, thread, part, file, wait, memory, peer or origin",
            answers=("state",),
        ),
        Column("name", "text", "kind of work, thread, process or address", Width(14, 30)),
        Column("share", "share", "of what the program does of that", answers=("least",)),
        Column("does", "text", "the same in few words", Width(40, 120)),
        Column("text", "text", "the same in a sentence", Width(30, 110)),
        Column("source", "text", "where it comes from", Width()),
    ),
    _doing,
    shown=("application", "pid", "what", "share", "does"),
)
CODE = Table(
    "code",
    "functions in which the programs were found, of all samples of each",
    (
        APPLICATION,
        APPLICATION_NUMBER,
        PID,
        Column("share", "share", "of the samples of the program", answers=("least",)),
        Column("samples", "number", "how often it was found there"),
        Column("function", "text", "name of the function, where one is known", Width(14, 40)),
        Column("file", "text", "program, library or kernel", Width(14, 40)),
        Column("work", "text", "kind of work that it is for", Width(20, 60)),
        Column("path", "text", "where the file lies", Width(20, 60)),
    ),
    _code,
    shown=("application", "share", "samples", "function", "file", "work"),
)
