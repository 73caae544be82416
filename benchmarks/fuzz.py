"""Looks for a capture that ends ``triage``, ``report`` or ``view`` otherwise than in one line.

``pip install -e . atheris`` and then ``python benchmarks/fuzz.py CORPUS -max_total_time=3600``: the
options are libFuzzer's. Captures of small model computers are changed as the fuzzer's bytes say:
numbers, texts, lists and lines, and those changes that reach new code are carried on. What ends in
a traceback, a warning or a figure that cannot be is a crash, and its capture is kept in CORPUS.
"""

import gzip
import json
import sys
import tempfile
import warnings
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["dunmist"]):
    from dunmist.advice.complaints import COMPLAINTS
    from dunmist.errors import DunmistError
    from dunmist.jobs.judge import judge
    from dunmist.reports import document_text, triage_document, triage_json, write_report
    from dunmist.tables import TOPICS, fill

from dunmist.jobs.patient import capture_patient
from dunmist.simulation import load_scenario

PATIENTS = ("two-faults", "dusty-desk", "worn-spinner", "narrow-burrow", "odd-corner")
NUMBERS = (
    0,
    -1,
    1,
    7,
    10**6,
    2**31,
    2**32,
    2**53,
    2**62,
    2**63 - 1,
    2**63,
    2**64,
    10**40,
    0.5,
    1e12,
    1e300,
    5e-324,
    -2.5,
)
TEXTS = (
    "",
    "\n",
    "`` ``` ~~~",
    "\x1b[2J",
    "\u202ekcol",
    "a" * 5000,
    "-rf /",
    "$(reboot)",
    "'\"",
    "|",
    "{unit}",
    "%s",
    "\ud800".encode("utf-8", "replace").decode(),
    "1970-01-01",
    "init",
    "cpu0",
    "<script>",
    "\0",
    "../..",
    "user@1000.service",
    "tty1",
    "0x0",
    "*",
    "[::]",
)
VALUES = (None, True, [], {}, [[]], *NUMBERS, *TEXTS)
REPORT_EVERY = 8
ASKED = (*COMPLAINTS, "program:n")


def places(value, path=()):
    """Yield the path of everything in a JSON value."""
    items = value.items() if isinstance(value, dict) else enumerate(value)
    for key, inner in items:
        yield (*path, key)
        if isinstance(inner, dict | list):
            yield from places(inner, (*path, key))


def changed(lines, data):
    """Return the lines of a capture with some changed as the fuzzer's bytes say."""
    lines = list(lines)
    for _ in range(data.ConsumeIntInRange(1, 8)):
        at = data.ConsumeIntInRange(0, len(lines) - 1)
        way = data.ConsumeIntInRange(0, 9)
        if way == 0 and len(lines) > 2:
            del lines[at]
        elif way == 1:
            lines.insert(at, lines[data.ConsumeIntInRange(0, len(lines) - 1)])
        else:
            record = json.loads(lines[at])
            result = list(places(record))
            if not result:
                continue
            *above, last = result[data.ConsumeIntInRange(0, len(result) - 1)]
            inner = record
            for key in above:
                inner = inner[key]
            change(inner, last, way, data)
            lines[at] = json.dumps(record)
    return lines


def change(inner, last, way, data):
    """Change one value of a record where it stands."""
    kept = inner[last]
    if way == 2:
        inner[last] = VALUES[data.ConsumeIntInRange(0, len(VALUES) - 1)]
    elif way == 3:
        del inner[last]
    elif way == 4 and isinstance(inner, list):
        inner.extend([kept] * data.ConsumeIntInRange(1, 400))
    elif isinstance(kept, bool):
        inner[last] = not kept
    elif isinstance(kept, int):
        inner[last] = data.PickValueInList([kept // 2, kept + 1, -kept, data.ConsumeInt(8)])
    elif isinstance(kept, float):
        inner[last] = data.PickValueInList([kept / 3, -kept, data.ConsumeRegularFloat()])
    elif isinstance(kept, str):
        inner[last] = TEXTS[data.ConsumeIntInRange(0, len(TEXTS) - 1)]
    elif isinstance(kept, list):
        inner[last] = kept[::-1]


def captures():
    """Return the lines of a small capture of each patient."""
    with tempfile.TemporaryDirectory() as folder:
        for name in PATIENTS:
            path = Path(folder) / f"{name}.jsonl.gz"
            capture_patient(load_scenario(name), path, 4.0, 1.0)
            yield gzip.decompress(path.read_bytes()).decode().splitlines()


def main():
    """Search until libFuzzer's own limits end it."""
    wholes = list(captures())
    folder = Path(tempfile.mkdtemp())
    path = folder / "fuzzed.jsonl"
    warnings.simplefilter("error")
    tried = 0

    def try_one(given):
        nonlocal tried
        tried += 1
        data = atheris.FuzzedDataProvider(given)
        lines = changed(wholes[data.ConsumeIntInRange(0, len(wholes) - 1)], data)
        path.write_text("\n".join(lines) + "\n")
        try:
            try_all(path, ("html", "md", "json") if tried % REPORT_EVERY == 0 else ())
        except DunmistError as error:
            if "\n" in str(error):
                raise AssertionError(f"more than a line: {error}") from error
        except BaseException:
            (Path(sys.argv[1]) / f"crash-{tried}.jsonl").write_bytes(path.read_bytes())
            raise

    atheris.Setup(sys.argv, try_one)
    atheris.Fuzz()


def try_all(path, endings):
    """Judge a capture and write of it what can be written."""
    judged = judge(path, ASKED)
    text = triage_json(judged.triage)
    if "NaN" in text or "Infinity" in text:
        raise AssertionError("a number that is none")
    document = triage_document(judged.triage)
    document_text(document)
    for table in {item.key: item for tables in TOPICS.values() for item in tables}.values():
        fill(table, judged)
    for ending in endings:
        write_report(judged, path.with_suffix(f".{ending}"), force=True)


if __name__ == "__main__":
    main()
