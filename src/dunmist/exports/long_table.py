"""Write all metrics as one long table, and each table of the views, as CSV or Parquet."""

from collections.abc import Iterable
from typing import Any

import pandas as pd

from dunmist.advice import Judged
from dunmist.errors import OutputError
from dunmist.exports.points import Metric
from dunmist.harmless import harmless_cell
from dunmist.tables import TOPICS, Filled, fill, plain

SERIES = "series"
COLUMNS = ("time", "metric", "unit", "kind", "attributes", "value")
SCHEMA_VERSION = "1"


def long_table(metrics: Iterable[Metric]) -> pd.DataFrame:
    """Return a row for each point: time (UTC), metric, unit, kind, attributes as text, value."""
    parts = [
        pd.DataFrame(
            {
                "time": pd.to_datetime(metric.at_ns, unit="ns", utc=True),
                "metric": metric.name,
                "unit": metric.unit,
                "kind": metric.kind,
                "attributes": ";".join(
                    f"{word}={value}" for word, value in metric.attributes.items()
                ),
                "value": metric.values,
            }
        )
        for metric in metrics
    ]
    return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=list(COLUMNS))


def csv_of(table: pd.DataFrame) -> str:
    """Return the table as CSV (RFC 4180); no cell is a formula."""
    texts = table.assign(attributes=table["attributes"].map(harmless_cell))
    text: str = texts.to_csv(index=False, date_format="%Y-%m-%dT%H:%M:%S.%fZ")
    return text


def parquet_bytes(table: pd.DataFrame) -> bytes:
    """Return a table as a Parquet file; raises OutputError without pyarrow."""
    try:
        import pyarrow as pa
        from pyarrow import parquet
    except ImportError as error:
        raise OutputError(
            "Parquet needs pyarrow; install it with 'pip install dunmist[fleet]'"
        ) from error
    made = pa.Table.from_pandas(table, preserve_index=False)
    made = made.replace_schema_metadata({b"dunmist_schema": SCHEMA_VERSION.encode()})
    sink = pa.BufferOutputStream()
    parquet.write_table(made, sink, compression="zstd")
    return bytes(sink.getvalue().to_pybytes())


def view_tables(judged: Judged) -> dict[str, pd.DataFrame]:
    """Return the tables of the views by their keys, those that have rows."""
    frames = {}
    for tables in TOPICS.values():
        for table in tables:
            filled = fill(table, judged)
            if filled.rows:
                frames[table.key] = _plain_frame(filled)
    return frames


def _plain_frame(filled: Filled) -> pd.DataFrame:
    """Return a frame with one type a column: figures, flags, lists of figures, else texts."""
    return pd.DataFrame(
        {name: _column([plain(cell) for cell in filled.cells(name)]) for name in filled.table.names}
    )


def _column(cells: list[Any]) -> "pd.Series[Any]":
    known = [cell for cell in cells if cell is not None]
    if all(isinstance(cell, bool) for cell in known):
        return pd.Series(cells, dtype="boolean")
    if all(isinstance(cell, int | float) and not isinstance(cell, bool) for cell in known):
        return pd.Series(cells, dtype="float64")
    if all(isinstance(cell, list) for cell in known):
        return pd.Series(cells, dtype="object")
    return pd.Series([None if cell is None else str(cell) for cell in cells], dtype="object")
