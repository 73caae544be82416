"""In whose code each application was found at work, of all samples of its code.

A sample says process, thread and file. Which functions they were is known of the whole capture: the
samples of a file are divided among its functions as the samples of all ticks are.
"""

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import NamedTuple

from dunmist.applications import Grouping
from dunmist.sampling import FunctionSamples, Tick


class CodeLocation(NamedTuple):
    """One function, or what of a file is in no known one; ``share`` is of all its samples."""

    mapping: str  # path, or [kernel], [generated], [vdso], [unknown]
    function: str | None
    share: float


class CodeUse(NamedTuple):
    """Sampled code of an application, the greatest shares first."""

    samples: int
    locations: list[CodeLocation]
    threads: list[tuple[str, float]]  # by name, those of its own processes
    programs: list[tuple[str, float]]  # short-lived children that were never seen


class CodeCollector:
    """Adds up what ticks say of code."""

    fields = ("code",)

    def __init__(self) -> None:
        self._samples: Counter[tuple[int, str | None, str | None, str]] = Counter()

    def add(self, row: int, tick: Tick) -> None:
        """Add the figures of the ``row``-th tick; the first one tells of the time before."""
        if row:
            for sample in tick.code:
                key = (sample.process, sample.program, sample.thread, sample.mapping)
                self._samples[key] += sample.samples

    def finish(
        self, grouping: Grouping, functions: Sequence[FunctionSamples]
    ) -> dict[int, CodeUse]:
        """Return the use of code by the number of the application."""
        of_application: defaultdict[int, Counter[tuple[int, str | None, str | None, str]]]
        of_application = defaultdict(Counter)
        for key, samples in self._samples.items():
            number = grouping.application_of.get(key[0])
            if number is not None:
                of_application[number][key] += samples
        parts = _parts(functions)
        return {number: _use(samples, parts) for number, samples in of_application.items()}


def readable(function: str) -> str:
    """Return the name of a function as its source has it, as far as that is in the symbol.

    Names of C++ and Rust begin with _ZN and hold each part after its length (Itanium C++ ABI).
    """
    if not function.startswith("_ZN"):
        return function
    parts, rest = [], function.removeprefix("_ZN").lstrip("KV")
    while match := re.match(r"(\d{1,3})", rest):
        length = int(match[1])
        parts.append(rest[match.end() : match.end() + length])
        rest = rest[match.end() + length :]
    # Rust ends with a number of its own
    named = [part for part in parts if not re.fullmatch(r"h[0-9a-f]{16}", part)]
    return "::".join(named) or function


def _parts(
    functions: Sequence[FunctionSamples],
) -> dict[tuple[int, str], list[tuple[str | None, float]]]:
    """Return of each file of a process its functions with their shares."""
    by_file: defaultdict[tuple[int, str], list[FunctionSamples]] = defaultdict(list)
    for function in functions:
        by_file[function.process, function.mapping].append(function)
    return {
        location: [
            (
                readable(item.function) if item.function else None,
                item.samples / max(1, sum(each.samples for each in known)),
            )
            for item in known
        ]
        for location, known in by_file.items()
    }


def _use(
    samples: Counter[tuple[int, str | None, str | None, str]],
    parts: dict[tuple[int, str], list[tuple[str | None, float]]],
) -> CodeUse:
    total = samples.total()
    locations: defaultdict[tuple[str, str | None], float] = defaultdict(float)
    threads: Counter[str] = Counter()
    programs: Counter[str] = Counter()
    for (process, program, thread, mapping), count in samples.items():
        for function, share in parts.get((process, mapping), [(None, 1.0)]):
            locations[mapping, function] += share * count
        if thread is not None:
            threads[thread] += count
        if program is not None:
            programs[program] += count
    return CodeUse(
        total,
        sorted(
            (CodeLocation(*location, share / total) for location, share in locations.items()),
            key=lambda location: -location.share,
        ),
        [(name, count / total) for name, count in threads.most_common()],
        [(name, count / total) for name, count in programs.most_common()],
    )
