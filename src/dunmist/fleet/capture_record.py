"""Makes the record of one capture or history; this is what a worker runs."""

import hashlib
import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path

from dunmist.advice import Judged
from dunmist.errors import CaptureError, DunmistError
from dunmist.fleet.capture_locations import CaptureLocation
from dunmist.fleet.history_record import history_record
from dunmist.fleet.records import (
    CaptureRecord,
    CaptureRow,
    ChangeRow,
    CulpritRow,
    FindingRow,
    HistoryRecord,
    HistoryRow,
    PackageRow,
    Record,
)
from dunmist.jobs.collector_files import capture_of_collected
from dunmist.jobs.judge import judge
from dunmist.plain_files import open_plain
from dunmist.reports import triage_json

KEY_DIGITS = 32
DAY_S = 86_400.0
# no capture that anybody sends is longer
MOST_BYTES = 1 << 30


def key_of(data: bytes) -> str:
    """Return the digest of contents."""
    return hashlib.sha256(data).hexdigest()[:KEY_DIGITS]


def read(location: CaptureLocation) -> bytes:
    """Return the contents of a file anywhere; raises CaptureError."""
    import fsspec

    address = location.address
    try:
        # a name in a folder may look like an address to fsspec
        opened = open_plain(Path(address)) if location.is_local else fsspec.open(address, "rb")
        with opened as file:
            data: bytes = file.read(MOST_BYTES + 1)
    except CaptureError:
        raise
    except Exception as error:
        raise CaptureError(f"{address}: {error or type(error).__name__}") from error
    if len(data) > MOST_BYTES:
        raise CaptureError(f"{address}: longer than any capture")
    return data


def record_of(location: CaptureLocation) -> Record:
    """Return the record of a capture or a history; of one that cannot be read, why."""
    key = ""
    make: Callable[[CaptureLocation, str, Path], Record] = (
        history_record if location.is_history else _record
    )
    try:
        data = read(location)
        key = key_of(data)
        if location.is_local:
            return make(location, key, Path(location.address))
        with tempfile.TemporaryDirectory(prefix="dunmist-") as folder:
            path = Path(folder) / location.address.rpartition("/")[2]
            path.write_bytes(data)
            return make(location, key, path)
    except DunmistError as error:
        return troubled(location, str(error), key)


def troubled(location: CaptureLocation, trouble: str, key: str = "") -> Record:
    """Return the record of a file that could not be read or judged."""
    key = key or key_of(location.address.encode())
    said = " ".join(trouble.split())
    if location.is_history:
        return HistoryRecord(HistoryRow(key, location.address, location.site, trouble=said))
    return CaptureRecord(CaptureRow(key, location.address, location.site, trouble=said))


def _record(location: CaptureLocation, key: str, path: Path) -> CaptureRecord:
    judged = judge(capture_of_collected(path) or path)
    triage, series = judged.triage, judged.series
    machine, firmware = series.header.machine, series.header.inventory.firmware
    first = triage.culprits[0] if triage.culprits else None
    steps = (
        first.steps if first else [step for finding in triage.findings for step in finding.steps]
    )
    capture = CaptureRow(
        key=key,
        place=location.address,
        site=location.site,
        host=machine.host,
        started=series.header.started,
        duration_s=series.duration_s,
        hardware=" ".join(filter(None, (firmware.maker, firmware.model))) if firmware else None,
        processor=machine.model,
        distribution=machine.distribution,
        kernel=machine.kernel,
        memory_bytes=machine.memory_bytes,
        level=triage.verdict.level,
        limiting=triage.verdict.limiting,
        culprit=first.name if first else None,
        confidence=triage.verdict.confidence,
        headline=triage.verdict.headline,
        first_step=steps[0].text if steps else None,
        used=_greatest((resource.resource, resource.used) for resource in triage.resources),
        pressure=_greatest((resource.resource, resource.pressure) for resource in triage.resources),
        triage_json=triage_json(triage),
    )
    return CaptureRecord(
        capture,
        [_culprit(judged, key, index) for index in range(len(triage.culprits))],
        [
            FindingRow(key, finding.kind, finding.severity, finding.subject, finding.text)
            for finding in triage.findings
        ],
        [PackageRow(key, name, version) for name, version in sorted(_packages(judged).items())],
        _changes(judged, key),
    )


def _changes(judged: Judged, key: str) -> list[ChangeRow]:
    surveyed = judged.series.surveyed
    since_s = surveyed.ended_s - DAY_S * judged.diagnosis.limits.advice.changed_days
    return [
        ChangeRow(key, change.at_s, change.kind, change.what, change.old, change.new)
        for change in surveyed.changes
        if change.log and change.at_s >= since_s
    ]


def _greatest(figures: Iterable[tuple[str, float | None]]) -> dict[str, float]:
    """Return a figure of each resource, that of the worst of several of a kind."""
    greatest: dict[str, float] = {}
    for word, value in figures:
        if value is not None:
            greatest[word] = max(greatest.get(word, 0.0), value)
    return greatest


def _culprit(judged: Judged, key: str, index: int) -> CulpritRow:
    advised, ranked = judged.triage.culprits[index], judged.diagnosis.culprits[index]
    case = judged.cases.of_culprit(ranked)
    package = case.about.package if case else None
    return CulpritRow(
        key,
        advised.rank,
        advised.name,
        advised.role,
        advised.score,
        advised.confidence,
        package.name if package else None,
        package.version if package else None,
    )


def _packages(judged: Judged) -> dict[str, str | None]:
    surveys = judged.series.surveyed.surveys
    return {package.name: package.version for survey in surveys for package in survey.packages}
