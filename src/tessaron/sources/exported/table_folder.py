"""Tables in a folder, in one file or several each: read back as record batches with the types of a layout."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows, ArrowSchema
from tessaron.core.base.errors import SourceError, TessaronError
from tessaron.core.layout.table_set import Table
from tessaron.core.types.formulas import without_apostrophes
from tessaron.sources.exported.file_readers import (
    cast_batch,
    columns_of,
    file_batches,
    first_line_of,
    from_texts,
)
from tessaron.sources.forms.file_form import NO_VALUE, FileForm

ENDINGS = (".parquet", ".csv", ".csv.gz", ".tsv", ".tsv.gz", ".arrow", ".jsonl", ".jsonl.gz")
BATCH_ROWS = 8_192
"""Rows read at once; of the top table, so many records are made at once."""


class TableFolder:
    """The files of some tables.

    Args:
        folder: Where they are.
        form: How they are written; else as tables usually are.
        may_lack: Whether files may be without columns that others of their table have: these are null there.

    Raises:
        SourceError: When there is no such folder.
    """

    def __init__(self, folder: Path, form: FileForm | None = None, may_lack: bool = False):
        self.folder, self._may_lack = folder, may_lack
        self._form = form or FileForm("csv")
        if not folder.is_dir():
            what = "is a file" if folder.exists() else "is not there"
            raise SourceError(f"{folder}: {what}; expected the folder of an export, or of tables")

    def file(self, table: str) -> Path:
        """Return the file of a table, or the folder of its files.

        Raises:
            SourceError: When there is none.
        """
        for ending in ENDINGS:
            path = self.folder / (table + ending)
            if path.is_file():
                return path
        if any(_files_below(self.folder / table)):
            return self.folder / table
        there = sorted(path.name for path in self.folder.iterdir() if path.name.endswith(ENDINGS))
        shown = f"; there are {', '.join(there[:5])}" if there else "; there is no table in the folder"
        raise SourceError(f"{self.folder}: no file {table}.parquet or {table}.csv{shown}")

    def batches(
        self, table: Table, columns: Sequence[str], batch_rows: int = BATCH_ROWS
    ) -> Iterator[ArrowRows]:
        """Yield the rows of a table as record batches of these columns, in the types of the table.

        Raises:
            SourceError: When a file cannot be read, or has not one of the columns.
            DataError: When a value is not of the type.
        """
        found = self.file(table.name)
        schema = _schema_of(table, columns)
        row = 0
        for path in [found] if found.is_file() else _files_below(found):
            try:
                for batch in self._rows_of(path, found, schema, batch_rows, table):
                    cast = cast_batch(batch, schema, path, row)
                    is_marked = self._form.for_spreadsheets and path.suffix != ".parquet"
                    yield without_apostrophes(cast) if is_marked else cast
                    row += batch.num_rows
            except TessaronError:
                raise
            except (pa.ArrowException, OSError, ValueError) as error:
                raise SourceError(f"{path}: cannot be read: {first_line_of(error)}") from error

    def _rows_of(
        self, path: Path, found: Path, schema: ArrowSchema, batch_rows: int, table: Table
    ) -> Iterator[ArrowRows]:
        """Yield the rows of one file, with the values that its folders stand for."""
        values = _values_of(path, found)
        inside = pa.schema([field for field in schema if field.name not in values])
        lacking: dict[str, Any] = {}
        if self._may_lack:
            there = set(columns_of(path, self._form))
            lacking = {field.name: field.type for field in inside if field.name not in there}
            inside = pa.schema([field for field in inside if field.name in there])
        names = [name for name in table.arrow_schema().names if name not in values]
        for batch in file_batches(path, inside, batch_rows, self._form, names):
            arrays = [
                from_texts(pa.array([values[field.name]] * batch.num_rows, pa.string()), field.type)
                if field.name in values
                else pa.nulls(batch.num_rows, lacking[field.name])
                if field.name in lacking
                else batch.column(field.name)
                for field in schema
            ]
            is_whole = not values and not lacking
            yield batch if is_whole else pa.RecordBatch.from_arrays(arrays, names=schema.names)


def _files_below(folder: Path) -> Iterator[Path]:
    """Yield the files of a table's folder, by their names."""
    if folder.is_dir():
        yield from sorted(path for path in folder.rglob("part-*") if path.name.endswith(ENDINGS))


def _values_of(path: Path, found: Path) -> dict[str, str | None]:
    """Return the values of columns that the folders around a file stand for."""
    if path == found:
        return {}
    pairs = (part.partition("=") for part in path.parent.relative_to(found).parts)
    known = {unquote(name): unquote(value) for name, sign, value in pairs if sign}
    return {name: None if value == NO_VALUE else value for name, value in known.items()}


def _schema_of(table: Table, columns: Sequence[str]) -> ArrowSchema:
    whole = table.arrow_schema()
    return pa.schema([pa.field(name, whole.field(name).type) for name in columns])
