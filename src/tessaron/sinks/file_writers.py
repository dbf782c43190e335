"""One file of one table in each format: Parquet, CSV and its like, Arrow, lines of JSON."""

from __future__ import annotations

import codecs
import gzip
from pathlib import Path
from typing import IO, Any, Protocol, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from tessaron.core.base.arrays import ArrowArray, ArrowRows, ArrowSchema
from tessaron.core.base.errors import TargetError
from tessaron.core.base.paths import format_path
from tessaron.core.layout.table_set import Table
from tessaron.core.types.arrow_texts import json_texts
from tessaron.core.types.column_types import in_shown_unit
from tessaron.core.types.formulas import with_harmless_texts
from tessaron.core.types.json_columns import quoted
from tessaron.sinks.csv_rows import csv_header, iter_csv_rows
from tessaron.sinks.parquet_encodings import encodings_of
from tessaron.sources.forms.file_form import FileForm

_LETTERS = pa.large_string()


class TableFile(Protocol):
    """One file under construction."""

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`."""

    def close(self) -> None:
        """Finish the file."""


def file_for(path: Path, table: Table, form: FileForm, schema: ArrowSchema) -> TableFile:
    """Return what writes one file.

    Args:
        path: The file.
        table: The table.
        form: How it is written.
        schema: The columns that go into it.
    """
    if form.name == "parquet":
        return ParquetFile(path, table, form, schema)
    if form.name == "arrow":
        return ArrowFile(path, table, form, schema)
    if form.name == "jsonl":
        return JsonLinesFile(path, table, form)
    return CsvFile(path, table, form)


def described(table: Table, schema: ArrowSchema) -> ArrowSchema:
    """Return a schema whose columns say where they come from, and which of them are keys.

    Of each column: `path` (JSONPath or XPath from the record), `type` as a layout spells it, `key`:
    `primary`, or the table whose primary key it holds; of the table `rows`, the path of what its rows are.
    """
    references = dict(table.references())
    columns = {column.name: column for column in table.columns}
    made = []
    for field in schema:
        told: dict[str, str] = {}
        if (column := columns.get(field.name)) is not None:
            told["path"] = column.shown or format_path(column.path)
            told["type"] = column.type.spelled()
        if field.name == table.row_key:
            told["key"] = "primary"
        elif field.name in references:
            told["key"] = references[field.name]
        made.append(field.with_metadata(told) if told else field)
    rows = format_path(table.rows) if table.rows else "$"
    return pa.schema(made, {"table": table.name, "rows": rows})


class ParquetFile:
    """A Parquet file; each write makes one row group, or several of a given size."""

    def __init__(self, path: Path, table: Table, form: FileForm, schema: ArrowSchema):
        self._path, self._form = path, form
        self._schema = described(table, schema)
        self._keys = table.key_columns()
        self._writer: Any = None

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`."""
        if self._writer is None:
            encodings = encodings_of(rows, self._keys)
            self._writer = pq.ParquetWriter(
                self._path, self._schema, compression=self._form.packed, **encodings
            )
        size = self._form.group_rows or rows.num_rows
        self._writer.write_table(rows, row_group_size=max(size, 1))

    def close(self) -> None:
        """Write the footer."""
        if self._writer is not None:
            self._writer.close()
            self._writer = None


class ArrowFile:
    """A file of Arrow's (IPC); each write makes one record batch. Opened by the first write."""

    def __init__(self, path: Path, table: Table, form: FileForm, schema: ArrowSchema):
        self._path, self._form = path, form
        self._schema = described(table, schema)
        self._writer: Any = None

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`."""
        if self._writer is None:
            packed = None if self._form.packed == "none" else self._form.packed
            options = pa.ipc.IpcWriteOptions(compression=packed)
            self._writer = pa.ipc.new_file(str(self._path), self._schema, options=options)
        for batch in rows.combine_chunks().to_batches():
            self._writer.write_batch(pa.RecordBatch.from_arrays(batch.columns, schema=self._schema))

    def close(self) -> None:
        """Write the footer."""
        if self._writer is not None:
            self._writer.close()
            self._writer = None


class JsonLinesFile:
    """A line of JSON for each row: null where there is no value, moments as ISO 8601 has them."""

    def __init__(self, path: Path, table: Table, form: FileForm):
        self._path, self._form, self._table = path, form, table

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`; the file is open only meanwhile."""
        rows = in_shown_units(rows, self._table)
        null = pa.scalar("null", _LETTERS)
        parts: list[Any] = []
        for number, (name, column) in enumerate(zip(rows.schema.names, rows.columns, strict=True)):
            mark = ("{" if not number else ",") + quoted(pa.array([name], _LETTERS))[0].as_py() + ":"
            parts += [pa.scalar(mark, _LETTERS), pc.coalesce(json_texts(_whole(column)), null)]
        with _appended(self._path, self._form) as file:
            file.write(_lines(parts, "}\n"))

    def close(self) -> None:
        """Do nothing: every write has closed the file."""


class CsvFile:
    """A CSV file, by RFC 4180 if nothing else is said; null is empty, `""` an empty text."""

    def __init__(self, path: Path, table: Table, form: FileForm):
        self._path, self._form = path, form
        self._header = form.header
        # One for all writes: a byte order mark stands at the beginning only.
        self._encoder = codecs.getincrementalencoder(form.encoding)()
        self._table = table

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`; the file is open only meanwhile."""
        rows = in_shown_units(rows, self._table)
        rows = with_harmless_texts(rows) if self._form.for_spreadsheets else rows
        with _appended(self._path, self._form) as file:
            if self._form.is_plain_csv:
                if self._header:
                    file.write(csv_header(rows.schema.names))
                file.writelines(iter_csv_rows(rows))
            else:
                file.write(self._encoded(self._text(rows)))
        self._header = False

    def close(self) -> None:
        """Do nothing: every write has closed the file."""

    def _text(self, rows: ArrowRows) -> bytes:
        form = self._form
        end = "\r\n" if form.line_end == "crlf" else "\n"
        head = b""
        if self._header:
            names = pa.array(rows.schema.names, _LETTERS)
            head = (form.separator.join(self._cells(names, True).to_pylist()) + end).encode()
        parts: list[Any] = []
        for number, column in enumerate(rows.columns):
            parts += [pa.scalar(form.separator, _LETTERS)] * bool(number)
            is_text = pa.types.is_large_string(column.type)
            cells = self._cells(_whole(column).cast(_LETTERS), is_text)
            parts.append(pc.fill_null(cells, form.null))
        return head + (_lines(parts, end) if rows.num_rows else b"")

    def _cells(self, texts: ArrowArray, are_texts: bool) -> ArrowArray:
        """Return texts as they stand in fields: in quotes where they have to, or are to."""
        form = self._form
        mark = pa.scalar('"', _LETTERS)
        inside = pc.replace_substring(texts, '"', '""')
        in_quotes = pc.binary_join_element_wise(mark, inside, mark, pa.scalar("", _LETTERS))
        if form.quoting == "all" or (form.quoting == "texts" and are_texts):
            return in_quotes
        needs = pc.or_(
            pc.match_substring_regex(texts, f'[{_in_class(form.separator)}"\\r\\n]|^\\s|\\s$'),
            pc.equal(texts, pa.scalar(form.null, _LETTERS)),
        )
        return pc.if_else(needs, in_quotes, texts)

    def _encoded(self, data: bytes) -> bytes:
        if self._form.encoding in ("utf-8", "utf8"):
            return data
        text = data.decode()
        try:
            return self._encoder.encode(text)
        except UnicodeEncodeError as error:
            line = text.count("\n", 0, error.start) + 1
            raise TargetError(
                f"{self._path.name}, about line {line:,} of a group: {self._form.encoding} has no "
                f"{text[error.start]!r}; choose another encoding"
            ) from None


def in_shown_units(rows: ArrowRows, table: Table) -> ArrowRows:
    """Return rows in which times have as few digits of the second as their columns have."""
    types = {column.name: column.type for column in table.columns}
    columns = [
        in_shown_unit(column, types[name]) if name in types else column
        for name, column in zip(rows.schema.names, rows.columns, strict=True)
    ]
    return pa.Table.from_arrays(columns, rows.schema.names)


def _in_class(letter: str) -> str:
    return "\\" + letter if not letter.isalnum() and letter != "\t" else letter


def _whole(column: ArrowArray) -> ArrowArray:
    made = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    return pa.concat_arrays(made.chunks) if isinstance(made, pa.ChunkedArray) else made


def _lines(parts: list[Any], end: str) -> bytes:
    """Return the bytes of lines of which each part is a column, or the same for all."""
    joined = pc.binary_join_element_wise(*parts, pa.scalar(end, _LETTERS), pa.scalar("", _LETTERS))
    joined = _whole(joined)
    _, offsets, data = joined.buffers()
    bounds = np.frombuffer(offsets, np.int64)[[joined.offset, joined.offset + len(joined)]]
    return memoryview(data)[bounds[0] : bounds[1]].tobytes()


def _appended(path: Path, form: FileForm) -> IO[bytes]:
    """Open a file to append to it: of gzip (RFC 1952) members one after the other are one file."""
    if form.packed == "gzip":
        return cast("IO[bytes]", gzip.GzipFile(path, "ab", mtime=0))
    return open(path, "ab")
