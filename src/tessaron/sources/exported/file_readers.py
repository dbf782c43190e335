"""One file of a table, read back as record batches with the types of a schema."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator, Sequence
from datetime import timedelta
from itertools import islice
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq

from tessaron.core.base.arrays import ArrowArray, ArrowRows, ArrowSchema, ArrowType
from tessaron.core.base.errors import Code, DataError, Place, SourceError
from tessaron.core.base.visible import in_quotes
from tessaron.sources.forms.file_form import FileForm

_CSV_BLOCK = 4 * 1024 * 1024


def file_batches(
    path: Path, schema: ArrowSchema, batch_rows: int, form: FileForm, names: Sequence[str]
) -> Iterator[ArrowRows]:
    """Yield the rows of a file as record batches of these columns; a cast to their types is to come.

    Args:
        path: The file.
        schema: The columns.
        batch_rows: Rows of a batch, at most.
        form: How it is written.
        names: All columns of the file, where it does not tell.

    Raises:
        SourceError: When the file has not one of the columns.
        pyarrow.ArrowException: When it cannot be read.
    """
    kind = path.suffixes[-2] if path.suffix == ".gz" and len(path.suffixes) > 1 else path.suffix
    if kind == ".parquet":
        return _parquet_batches(path, schema, batch_rows)
    if kind == ".arrow":
        return _arrow_batches(path, schema, batch_rows)
    if kind == ".jsonl":
        return _json_batches(path, schema, batch_rows)
    return _csv_batches(path, schema, batch_rows, form, names)


def columns_of(path: Path, form: FileForm) -> list[str]:
    """Return the columns that a file tells of.

    Raises:
        pyarrow.ArrowException: When it cannot be read.
    """
    kind = path.suffixes[-2] if path.suffix == ".gz" and len(path.suffixes) > 1 else path.suffix
    if kind == ".parquet":
        return list(pq.read_schema(path).names)
    if kind == ".arrow":
        with pa.memory_map(str(path)) as source:
            return list(pa.ipc.open_file(source).schema.names)
    with pa.input_stream(str(path), compression="detect") as source:
        if kind == ".jsonl":
            with io.BufferedReader(source) as lines:
                return list(json.loads(lines.readline() or b"{}"))
        parse = pa_csv.ParseOptions(newlines_in_values=True, delimiter=form.separator)
        return list(pa_csv.open_csv(source, parse_options=parse).schema.names)


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


def _arrow_batches(path: Path, schema: ArrowSchema, batch_rows: int) -> Iterator[ArrowRows]:
    with pa.memory_map(str(path)) as source:
        reader = pa.ipc.open_file(source)
        for name in schema.names:
            if name not in reader.schema.names:
                raise _missing(path, name, reader.schema.names)
        for number in range(reader.num_record_batches):
            batch = reader.get_batch(number).select(schema.names)
            for start in range(0, batch.num_rows, batch_rows):
                yield batch.slice(start, batch_rows)


def _json_batches(path: Path, schema: ArrowSchema, batch_rows: int) -> Iterator[ArrowRows]:
    """Yield lines of JSON; numbers keep their digits, as texts, until they are cast."""
    with pa.input_stream(str(path), compression="detect") as source, io.BufferedReader(source) as lines:
        while group := list(islice(lines, batch_rows)):
            rows = [json.loads(line, parse_float=str, parse_int=str) for line in group]
            for name in schema.names:
                if name not in rows[0]:
                    raise _missing(path, name, list(rows[0]))
            arrays = [_of_texts([row[field.name] for row in rows], field.type) for field in schema]
            yield pa.RecordBatch.from_arrays(arrays, names=schema.names)


def _of_texts(values: list[Any], kind: ArrowType) -> ArrowArray:
    if pa.types.is_boolean(kind):
        return pa.array(values, kind)
    return from_texts(pa.array(values, pa.string()), kind)


def from_texts(texts: ArrowArray, kind: ArrowType) -> ArrowArray:
    """Return texts as values of a type; Arrow itself reads no times without a day."""
    if pa.types.is_time(kind):
        day = pc.binary_join_element_wise(pa.scalar("1970-01-01"), texts, pa.scalar(" "))
        return day.cast(pa.timestamp(kind.unit)).cast(kind)
    if _is_moment(kind):
        return _moments(texts, kind)
    return texts.cast(kind)


def _csv_batches(
    path: Path, schema: ArrowSchema, batch_rows: int, form: FileForm, names: Sequence[str]
) -> Iterator[ArrowRows]:
    """Yield rows of CSV in the types of the table; an empty field is null, `""` an empty text."""
    if path.stat().st_size == 0:
        raise SourceError(f"{path}: is empty; expected at least the line with the names of the columns")
    try:
        with pa.input_stream(str(path), compression="detect") as source:
            yield from csv_batches(source, schema, batch_rows, form, names)
    except pa.ArrowKeyError as error:
        there = columns_of(path, form)
        name = next(name for name in schema.names if name not in there)
        raise _missing(path, name, there) from error


_CSV = FileForm("csv")


def csv_batches(
    source: Any,
    schema: ArrowSchema,
    batch_rows: int,
    form: FileForm = _CSV,
    names: Sequence[str] = (),
) -> Iterator[ArrowRows]:
    """Yield rows of CSV in the types of the schema: what stands for null without quotes is null.

    `t` and `f` are booleans, too. Without a line of names the columns are these.

    Raises:
        pyarrow.ArrowException: When a column is not there, or a value is not of its type.
    """
    options = pa_csv.ConvertOptions(
        column_types=_csv_types(schema),
        include_columns=schema.names,
        strings_can_be_null=True,
        quoted_strings_can_be_null=False,
        null_values=[form.null],
        true_values=["true", "t"],
        false_values=["false", "f"],
    )
    read = pa_csv.ReadOptions(
        block_size=_CSV_BLOCK, use_threads=False, encoding=form.encoding,
        column_names=None if form.header else list(names),
    )  # fmt: skip
    parse = pa_csv.ParseOptions(newlines_in_values=True, delimiter=form.separator)
    with pa_csv.open_csv(source, read, parse, options) as reader:
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


def cast_batch(batch: ArrowRows, schema: ArrowSchema, path: Path, row: int) -> ArrowRows:
    """Return a batch in the types of a schema.

    Raises:
        DataError: When a value is not of its type; `row` rows of the file stand before the batch.
    """
    if batch.schema.equals(schema):
        return batch
    arrays = []
    for field, column in zip(schema, batch.columns, strict=True):
        try:
            arrays.append(column if column.type.equals(field.type) else column.cast(field.type))
        except pa.ArrowException as error:
            reason = f"column {field.name}: expected {field.type}, got {column.type}: {first_line_of(error)}"
            raise DataError(reason, Place(str(path), record=row + 1), Code.TYPE) from error
    return pa.RecordBatch.from_arrays(arrays, schema=schema)


def first_line_of(error: BaseException) -> str:
    """Return the first line of what an error says."""
    return str(error).strip().split("\n")[0]
