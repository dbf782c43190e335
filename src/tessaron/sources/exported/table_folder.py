"""Tables in a folder, one file each: read back as record batches with the types that a layout says."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq

from tessaron.core.base.arrays import ArrowArray, ArrowRows, ArrowSchema, ArrowType
from tessaron.core.base.errors import Code, DataError, Place, SourceError, TessaronError
from tessaron.core.base.formulas import without_apostrophes
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import Table

ENDINGS = (".parquet", ".csv")
BATCH_ROWS = 8_192
"""Rows read at once; of the top table, so many records are made at once."""
_CSV_BLOCK = 4 * 1024 * 1024


class TableFolder:
    """The files of some tables.

    Args:
        folder: Where they are.
        has_apostrophes: Whether texts of CSV that look like formulas begin with an apostrophe.

    Raises:
        SourceError: When there is no such folder.
    """

    def __init__(self, folder: Path, has_apostrophes: bool = False):
        self.folder = folder
        self._has_apostrophes = has_apostrophes
        if not folder.is_dir():
            what = "is a file" if folder.exists() else "is not there"
            raise SourceError(f"{folder}: {what}; expected the folder of an export, or of tables")

    def file(self, table: str) -> Path:
        """Return the file of a table.

        Raises:
            SourceError: When there is none.
        """
        for ending in ENDINGS:
            path = self.folder / (table + ending)
            if path.is_file():
                return path
        there = sorted(path.name for path in self.folder.iterdir() if path.suffix in ENDINGS)
        shown = f"; there are {', '.join(there[:5])}" if there else "; there is no table in the folder"
        raise SourceError(f"{self.folder}: no file {table}.parquet or {table}.csv{shown}")

    def batches(
        self, table: Table, columns: Sequence[str], batch_rows: int = BATCH_ROWS
    ) -> Iterator[ArrowRows]:
        """Yield the rows of a table as record batches of these columns, in the types of the table.

        Raises:
            SourceError: When the file cannot be read, or has not one of the columns.
            DataError: When a value is not of the type.
        """
        path = self.file(table.name)
        schema = _schema_of(table, columns)
        read = _parquet_batches if path.suffix == ".parquet" else _csv_batches
        row = 0
        try:
            for batch in read(path, schema, batch_rows):
                cast = _cast(batch, schema, path, row)
                is_marked = self._has_apostrophes and path.suffix == ".csv"
                yield without_apostrophes(cast) if is_marked else cast
                row += batch.num_rows
        except TessaronError:
            raise
        except (pa.ArrowException, OSError) as error:
            raise SourceError(f"{path}: cannot be read: {_first_line(error)}") from error


def _schema_of(table: Table, columns: Sequence[str]) -> ArrowSchema:
    whole = table.arrow_schema()
    return pa.schema([pa.field(name, whole.field(name).type) for name in columns])


def _missing(path: Path, name: str, there: Sequence[str]) -> SourceError:
    shown = ", ".join(there[:8]) + (" …" if len(there) > 8 else "")
    return SourceError(
        f"{path}: has no column {in_quotes(name)}, which the layout speaks of; there are {shown}; "
        "take the column out of the layout, or give its name there"
    )


def _parquet_batches(path: Path, schema: ArrowSchema, batch_rows: int) -> Iterator[ArrowRows]:
    with pq.ParquetFile(path) as file:
        there = file.schema_arrow.names
        for name in schema.names:
            if name not in there:
                raise _missing(path, name, there)
        for batch in file.iter_batches(batch_rows, columns=schema.names, use_threads=False):
            yield batch.select(schema.names)


def _csv_batches(path: Path, schema: ArrowSchema, batch_rows: int) -> Iterator[ArrowRows]:
    """Yield rows of CSV in the types of the table; an empty field is null, `""` an empty text."""
    if path.stat().st_size == 0:
        raise SourceError(f"{path}: is empty; expected at least the line with the names of the columns")
    try:
        yield from csv_batches(path, schema, batch_rows)
    except pa.ArrowKeyError as error:
        there = pa_csv.open_csv(path, parse_options=_PARSED).schema.names
        name = next(name for name in schema.names if name not in there)
        raise _missing(path, name, there) from error


_PARSED = pa_csv.ParseOptions(newlines_in_values=True)


def csv_batches(source: Any, schema: ArrowSchema, batch_rows: int) -> Iterator[ArrowRows]:
    """Yield rows of CSV, a file or a stream with a line of names, in the types of the schema.

    An empty field is null, `""` an empty text; `t` and `f` are booleans, too.

    Raises:
        pyarrow.ArrowException: When a column is not there, or a value is not of its type.
    """
    options = pa_csv.ConvertOptions(
        column_types=_csv_types(schema),
        include_columns=schema.names,
        strings_can_be_null=True,
        quoted_strings_can_be_null=False,
        null_values=[""],
        true_values=["true", "t"],
        false_values=["false", "f"],
    )
    read = pa_csv.ReadOptions(block_size=_CSV_BLOCK, use_threads=False)
    with pa_csv.open_csv(source, read, _PARSED, options) as reader:
        for batch in reader:
            for start in range(0, batch.num_rows, batch_rows):
                yield with_moments(batch.slice(start, batch_rows), schema)


def _csv_types(schema: ArrowSchema) -> dict[str, ArrowType]:
    """Return the types that columns of CSV are read in: moments, some of them beyond year 9999, as texts."""
    return {field.name: pa.string() if _is_moment(field.type) else field.type for field in schema}


def _is_moment(kind: ArrowType) -> bool:
    return pa.types.is_timestamp(kind) and kind.tz is not None


_BEYOND, _LAST_DAY = "10000-01-01", "9999-12-31"


def with_moments(batch: ArrowRows, schema: ArrowSchema) -> ArrowRows:
    """Return a batch whose moments are no texts any more."""
    columns = [
        _moments(column, field.type) if _is_moment(field.type) else column
        for field, column in zip(schema, batch.columns, strict=True)
    ]
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


def _moments(texts: ArrowArray, kind: ArrowRows) -> ArrowRows:
    """Return texts as moments; of an offset of less than a day, only one day lies beyond year 9999."""
    beyond = pc.starts_with(texts, _BEYOND)
    if not pc.any(beyond).as_py():
        return texts.cast(kind)
    made = pc.replace_substring(texts, _BEYOND, _LAST_DAY, max_replacements=1).cast(kind)
    day = pa.scalar(timedelta(days=1), pa.duration(kind.unit))
    return pc.if_else(pc.fill_null(beyond, False), pc.add(made, day), made)


def _cast(batch: ArrowRows, schema: ArrowSchema, path: Path, row: int) -> ArrowRows:
    if batch.schema.equals(schema):
        return batch
    arrays = []
    for field, column in zip(schema, batch.columns, strict=True):
        try:
            arrays.append(column if column.type.equals(field.type) else column.cast(field.type))
        except pa.ArrowException as error:
            reason = f"column {field.name}: expected {field.type}, got {column.type}: {_first_line(error)}"
            raise DataError(reason, Place(str(path), record=row + 1), Code.TYPE) from error
    return pa.RecordBatch.from_arrays(arrays, schema=schema)


def _first_line(error: BaseException) -> str:
    return str(error).strip().split("\n")[0]
