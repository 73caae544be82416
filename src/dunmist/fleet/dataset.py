"""The tables of a fleet as a Parquet data set, and read back."""

import os
from collections.abc import Iterable, Iterator, Mapping
from contextlib import ExitStack
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from dunmist.errors import OutputError
from dunmist.fleet.records import SCHEMA_VERSION, CaptureRecord, HistoryRecord, Record
from dunmist.output import NewFile

if TYPE_CHECKING:
    import pyarrow as pa

# the first has one row of each file
TABLES_OF: Mapping[type[Record], tuple[str, ...]] = {
    CaptureRecord: ("captures", "culprits", "findings", "packages", "changes"),
    HistoryRecord: ("histories", "drifts"),
}
TABLES = tuple(chain.from_iterable(TABLES_OF.values()))
# rows that are held at a time
BATCH = 2000


def _schemas() -> "dict[str, pa.Schema]":
    import pyarrow as pa

    text, real = pa.string(), pa.float64()
    figures = pa.map_(text, real)
    columns = {
        "captures": [
            ("key", text),
            ("place", text),
            ("site", text),
            ("trouble", text),
            ("host", text),
            ("started", text),
            ("duration_s", real),
            ("hardware", text),
            ("processor", text),
            ("distribution", text),
            ("kernel", text),
            ("memory_bytes", pa.int64()),
            ("level", text),
            ("limiting", text),
            ("culprit", text),
            ("confidence", real),
            ("headline", text),
            ("first_step", text),
            ("used", figures),
            ("pressure", figures),
            ("triage_json", text),
        ],
        "culprits": [
            ("key", text),
            ("rank", pa.int64()),
            ("name", text),
            ("role", text),
            ("score", real),
            ("confidence", real),
            ("package", text),
            ("version", text),
        ],
        "findings": [
            ("key", text),
            ("kind", text),
            ("severity", text),
            ("subject", text),
            ("text", text),
        ],
        "packages": [("key", text), ("package", text), ("version", text)],
        "changes": [
            ("key", text),
            ("at_s", real),
            ("kind", text),
            ("package", text),
            ("old", text),
            ("new", text),
        ],
        "histories": [
            ("key", text),
            ("place", text),
            ("site", text),
            ("trouble", text),
            ("host", text),
            ("until_s", real),
            ("days", pa.int64()),
            ("followed", pa.list_(text)),
        ],
        "drifts": [
            ("key", text),
            ("figure", text),
            ("kind", text),
            ("name", text),
            ("since", text),
            ("level", real),
            ("now", real),
            ("unit", text),
            ("changes", pa.list_(text)),
        ],
    }
    about = {b"dunmist_fleet_schema": str(SCHEMA_VERSION).encode()}
    return {name: pa.schema(fields, metadata=about) for name, fields in columns.items()}


class DataSet:
    """Writes rows as they come; each table is put in its place when it is whole."""

    def __init__(self, folder: Path) -> None:
        try:
            from pyarrow import parquet
        except ImportError as error:
            raise OutputError(
                "the tables of a fleet need pyarrow; install it with 'pip install dunmist[fleet]'"
            ) from error
        self._schemas = _schemas()
        self._waiting: dict[str, list[dict[str, Any]]] = {name: [] for name in TABLES}
        with ExitStack() as unless_made:
            self._files = {}
            for name in self._schemas:
                self._files[name] = NewFile(folder / f"{name}.parquet", force=True)
                unless_made.callback(self._files[name].discard)
            self._streams = {
                name: os.fdopen(file.descriptor, "wb", closefd=False)
                for name, file in self._files.items()
            }
            self._writers = {
                name: parquet.ParquetWriter(self._streams[name], schema, compression="zstd")
                for name, schema in self._schemas.items()
            }
            unless_made.pop_all()

    def add(self, record: Record) -> None:
        """Take the rows of one capture or history."""
        name, *parts = TABLES_OF[type(record)]
        self._waiting[name].append(msgspec.structs.asdict(record.file))
        for name in parts:
            self._waiting[name] += [msgspec.structs.asdict(row) for row in getattr(record, name)]
        if any(len(rows) >= BATCH for rows in self._waiting.values()):
            self._flush()

    def _flush(self) -> None:
        import pyarrow as pa

        for name, rows in self._waiting.items():
            if rows:
                for row in rows:
                    for word in ("used", "pressure"):
                        if word in row:
                            row[word] = sorted(row[word].items())
                self._writers[name].write_table(pa.Table.from_pylist(rows, self._schemas[name]))
                rows.clear()

    def put_in_place(self) -> None:
        """Write what waits, and give each table its name."""
        self._flush()
        for name, writer in self._writers.items():
            writer.close()
            self._streams[name].flush()
            self._files[name].put_in_place()

    def close(self) -> None:
        """Leave nothing half-written: what was not put in its place is gone."""
        for name, writer in self._writers.items():
            writer.close()
            self._streams[name].close()
            self._files[name].discard()


def write_all(folder: Path, records: Iterable[Record]) -> Iterator[Record]:
    """Write the rows of all records, and yield each on its way."""
    data = DataSet(folder)
    try:
        for record in records:
            data.add(record)
            yield record
        data.put_in_place()
    finally:
        data.close()
