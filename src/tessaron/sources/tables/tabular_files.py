"""Tabular files as sources: CSV and its like, Parquet and Arrow, with JSON documents in their columns.

Every row is a record. Plain columns are its fields; a column that holds documents has them in its place.
"""

from __future__ import annotations

import csv
import io
import re
from codecs import getincrementaldecoder
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from typing import BinaryIO, cast

import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.lines.row_records import LineStream, RecordLines, RowForm
from tessaron.sources.forms.encodings import Joined, utf8_blocks
from tessaron.sources.forms.endings import SHEET_ENDINGS, TYPED_ENDINGS
from tessaron.sources.tables.spreadsheets import other_sheets, sheet_rows

_DELIMITERS = ",;\t|"
_BLOCK_BYTES, _HEAD_BYTES = 1024 * 1024, 64 * 1024
_BATCH_ROWS = 20_000
_FALLBACK = "cp1252"
"""What texts are read as that are no UTF-8."""

Open = Callable[[], AbstractContextManager[BinaryIO]]
_RowsOf = Callable[[str, BinaryIO], Iterator[ArrowRows | bytes]]


@dataclass(frozen=True, slots=True)
class TabularFile:
    """A tabular file.

    Attributes:
        open: Opens its rows as lines of JSON.
        said: What was found out about it, in words.
        after: Returns what was found out while it was read.
    """

    open: Open
    said: str
    after: Callable[[], str]


_WORDS = (b"true", b"false", b"null")
_NO_TEXT = re.compile(rb"[\x00-\x08\x0e-\x1f]")
"""What stands in bytes that are packed, but in no text."""
_QUOTED_LINE = re.compile(rb'"(?:[^"]|"")*"([,;\t|])')


def ending_of(head: bytes) -> str:
    """Return the ending that a table has whose first bytes these are; empty for what is none.

    Text is a table where its first line begins like no document, and has something that separates fields.
    """
    if head.startswith(b"PAR1"):
        return ".parquet"
    if head.startswith(b"ARROW1"):
        return ".arrow"
    if head.startswith(b"PK") and b"[Content_Types].xml" in head:
        return ".xlsx"
    line, _, more = head.removeprefix(b"\xef\xbb\xbf").partition(b"\n")
    if line[:1] == b'"':
        return ".csv" if _QUOTED_LINE.match(line) else ""
    is_text = (line[:1].isalpha() or line[:1] == b"_") and not _NO_TEXT.search(head)
    has_fields = any(sign in line and sign in more for sign in map(str.encode, _DELIMITERS))
    return ".csv" if is_text and has_fields and not line.startswith(_WORDS) else ""


def table_of(name: str, opened: Open, documents: Sequence[str] = ()) -> TabularFile:
    """Return a tabular file as a source of records.

    Args:
        name: What it is called; its ending says what it is.
        opened: Opens its bytes.
        documents: The columns that hold documents; else they are found.

    Raises:
        SourceError: When it cannot be read.
        DataError: When it is not what its name says.
    """
    lower = name.lower()
    has_types = lower.endswith(TYPED_ENDINGS)
    is_sheet = lower.endswith(SHEET_ENDINGS)
    rows_of: _RowsOf = sheet_rows if is_sheet else _arrow_rows if has_types else _csv_rows
    with opened() as stream:
        first = next((rows for rows in rows_of(name, stream) if not isinstance(rows, bytes)), None)
        form = RowForm(frozenset()) if first is None else RowForm.of(first, has_types, documents)
        said = "no column holds documents: its rows are records as they are"
        if form.documents:
            said = f"rows are records, with the documents of {', '.join(sorted(form.documents))} in them"
    if is_sheet:
        with opened() as stream:
            said = "; ".join(filter(None, (said, other_sheets(name, stream))))

    read: list[RecordLines] = []

    @contextmanager
    def open_lines() -> Iterator[BinaryIO]:
        with opened() as stream:
            read[:] = [RecordLines(rows_of(name, stream), form)]
            yield cast("BinaryIO", LineStream(iter(read[0])))

    return TabularFile(open_lines, said, lambda: read[0].said() if read else "")


def _arrow_rows(name: str, stream: BinaryIO) -> Iterator[ArrowRows | bytes]:
    try:
        if name.lower().endswith(".parquet"):
            import pyarrow.parquet as pq

            yield from pq.ParquetFile(stream).iter_batches(_BATCH_ROWS)
            return
        magic = stream.read(6)
        stream.seek(0)
        if magic == b"ARROW1":
            file = pa.ipc.open_file(stream)
            yield from (file.get_batch(number) for number in range(file.num_record_batches))
        else:
            yield from pa.ipc.open_stream(stream)
    except (pa.ArrowInvalid, OSError) as error:
        said = str(error).splitlines()[0].rstrip(".")
        raise DataError(f"cannot be read: {said}", Place(name), Code.SYNTAX) from error


# ---- CSV ------------------------------------------------------------------------------------------------


def _csv_rows(name: str, stream: BinaryIO) -> Iterator[ArrowRows | bytes]:
    """Yield the rows of a file of RFC 4180, all texts; empty without quotes is null.

    A row with too few or too many fields becomes a line that cannot be read, so that it is a reject.
    """
    import pyarrow.csv as pa_csv

    _, blocks = utf8_blocks(name, stream, _BLOCK_BYTES, lambda count: None)
    head = b"".join(_first(blocks, _HEAD_BYTES))
    if not _is_utf8(head):
        head = head.decode(_FALLBACK, "replace").encode()
        blocks = (block.decode(_FALLBACK, "replace").encode() for block in blocks)
    delimiter = "\t" if ".tsv" in name.lower() else _delimiter_of(head.decode("utf-8", "replace"))
    names = _header(name, head, delimiter)
    bad: list[bytes] = []

    def put_aside(row: pa_csv.InvalidRow) -> str:
        fields = f"{row.actual_columns} field{'s' * (row.actual_columns != 1)}"
        counts = f"row {row.number} has {fields}, not {row.expected_columns}"
        bad.append(f"{counts}: {row.text}".replace("\r", " ").replace("\n", " ").encode() + b"\n")
        return "skip"

    kinds = dict.fromkeys(names, pa.large_string())
    reading = pa_csv.ReadOptions(use_threads=False, block_size=_BLOCK_BYTES)
    parsing = pa_csv.ParseOptions(delimiter=delimiter, newlines_in_values=True, invalid_row_handler=put_aside)
    converting = pa_csv.ConvertOptions(
        column_types=kinds, null_values=[""], strings_can_be_null=True, quoted_strings_can_be_null=False
    )
    try:
        whole = pa.PythonFile(cast("BinaryIO", Joined(head, LineStream(blocks))), "r")
        for batch in pa_csv.open_csv(whole, reading, parsing, converting):
            yield batch
            while bad:
                yield bad.pop(0)
    except pa.ArrowInvalid as error:
        raise DataError(
            f"no CSV (RFC 4180): {str(error).splitlines()[0]}", Place(name), Code.SYNTAX
        ) from error
    yield from bad


def _is_utf8(head: bytes) -> bool:
    """Say whether bytes are UTF-8; the last letter may be cut off."""
    try:
        getincrementaldecoder("utf-8")().decode(head)
    except UnicodeDecodeError:
        return False
    return True


def _first(blocks: Iterator[bytes], size: int) -> Iterator[bytes]:
    """Yield blocks until they come to so many bytes."""
    for block in blocks:
        yield block
        size -= len(block)
        if size <= 0:
            return


def _delimiter_of(head: str) -> str:
    """Return what separates the fields: the sign that the first line has most of, quoted texts aside."""
    line = "".join(part for index, part in enumerate(head.split('"')) if index % 2 == 0).lstrip("\r\n")
    counts = (
        Counter(letter for letter in line.splitlines()[0] if letter in _DELIMITERS) if line else Counter()
    )
    return counts.most_common(1)[0][0] if counts else ","


def _header(name: str, head: bytes, delimiter: str) -> list[str]:
    try:
        text = head.decode("utf-8", "replace")
        names = next(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter), None)
    except csv.Error as error:
        raise DataError(f"no CSV (RFC 4180): {error}", Place(name), Code.SYNTAX) from error
    if not names:
        raise DataError("is empty; expected a line with the names of columns", Place(name), Code.EMPTY)
    twice = [each for each, count in Counter(names).items() if count > 1]
    if twice:
        raise DataError(f"two columns are called {twice[0]!r}", Place(name), Code.SYNTAX)
    return names
