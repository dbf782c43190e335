"""Rows of tables as records: a line of JSON for each, with the documents in its columns in their place.

So whatever reads JSON Lines reads tables too. A document stands there as it is; one that is no JSON makes its
line one that cannot be read, so that the row is a reject, with all its columns in it.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.errors import Code, DataError, Place, UsageError
from tessaron.core.base.paths import step_of_name
from tessaron.core.base.text_lane import TextLane
from tessaron.core.base.visible import in_quotes
from tessaron.core.kernel.xml_values import XmlTextError, parse_xml
from tessaron.core.lines.document_cells import Cell, sorts_of
from tessaron.core.lines.xml_cells import XmlCells
from tessaron.core.types.arrow_texts import json_texts
from tessaron.core.types.json_columns import objects, text

_LOOKED_AT = 1_000
"""So many of the first rows tell which columns hold documents."""
NEARLY_ALL = 0.9
"""So great a share of the texts of a column has to be documents."""
_NO_JSON = "NOT_JSON "
"""Stands before a document that is none, so that the line it is in cannot be read, and says so."""
_NUMBER = r"^(-?[1-9][0-9]*|0|-?(0|[1-9][0-9]*)\.[0-9]+)$"
"""Texts that a number is written as: then it is the number."""


@dataclass(frozen=True, slots=True)
class RowForm:
    """What the columns of a table are to records.

    Attributes:
        documents: Those that hold JSON.
        numbers: Those of texts that are numbers.
        xml: What the documents of XML have in common, of each column.
    """

    documents: frozenset[str]
    numbers: frozenset[str] = frozenset()
    xml: Mapping[str, XmlCells] = field(default_factory=dict)

    @classmethod
    def of(cls, rows: ArrowRows, has_types: bool, named: Sequence[str] = ()) -> RowForm:
        """Return the form that the first rows of a table suggest.

        Args:
            rows: The first rows.
            has_types: Whether columns have types of their own; else all are texts, and some may be numbers.
            named: The columns with documents, if they are named; else they are found.

        Raises:
            UsageError: When a named column is not there.
        """
        missing = [name for name in named if name not in rows.schema.names]
        if missing:
            there = ", ".join(rows.schema.names)
            raise UsageError(f"no column {in_quotes(missing[0])} to hold documents; there are {there}")
        first = rows.slice(0, _LOOKED_AT)
        texts = {
            name: column
            for name, column in zip(first.schema.names, first.columns, strict=True)
            if pt.is_string(column.type) or pt.is_large_string(column.type)
        }
        documents = frozenset(named) or frozenset(
            name for name, column in texts.items() if _are_documents(column)
        )
        numbers = frozenset(name for name, column in texts.items() if not has_types and _are_numbers(column))
        xml = {
            name: XmlCells.of(
                each for each in texts[name].drop_null().to_pylist() if each.lstrip()[:1] == "<"
            )
            for name in documents & texts.keys()
        }
        return cls(documents, numbers - documents, xml)


class RecordLines:
    """The rows of a table as lines of JSON, batch by batch; what is bytes already stays.

    Args:
        batches: The rows.
        form: What their columns are to records.

    Attributes:
        row_count: The rows so far.
        without: How many of them have no document, for each column of documents.
    """

    def __init__(self, batches: Iterable[ArrowRows | bytes], form: RowForm):
        self._batches, self._form = batches, form
        self.row_count = 0
        self.without: Counter[str] = Counter()

    def __iter__(self) -> Iterator[bytes | memoryview]:
        """Yield the lines of each batch."""
        for batch in self._batches:
            if isinstance(batch, bytes):
                yield batch
            elif batch.num_rows:
                self.row_count += batch.num_rows
                yield self._lines_of(batch)

    def said(self) -> str:
        """Return how many rows had no document, in words; empty if all had one."""
        return "; ".join(
            f"{count:,} of {self.row_count:,} rows have no document in {name}"
            for name, count in self.without.items()
            if count
        )

    def _lines_of(self, batch: ArrowRows) -> memoryview:
        members = []
        for name, column in zip(batch.schema.names, batch.columns, strict=True):
            try:
                made = _values_of(name, column, self._form)
            except pa.ArrowException as error:
                reason = f"values of {column.type} cannot be written as JSON: {error}"
                raise DataError(reason, Place(name), Code.TYPE) from error
            if name in self._form.documents:
                self.without[name] += made.null_count
            members.append((step_of_name(name), pc.fill_null(made, "null") if made.null_count else made))
        lane = TextLane.of(objects(members, batch.num_rows, "}\n"))
        return memoryview(lane.data[lane.offsets[0] : lane.offsets[-1]])  # type: ignore[arg-type]


class LineStream:
    """A stream of bytes that come in pieces."""

    def __init__(self, pieces: Iterator[bytes | memoryview]):
        self._pieces = pieces
        self._left = memoryview(b"")

    def read(self, size: int = -1) -> bytes:
        """Return at most `size` bytes; none at the end."""
        while not self._left:
            piece = next(self._pieces, None)
            if piece is None:
                return b""
            self._left = memoryview(piece)
        # What is left is not copied each time.
        cut = len(self._left) if size < 0 else size
        found, self._left = self._left[:cut], self._left[cut:]
        return bytes(found)


def _are_documents(column: ArrowArray) -> bool:
    """Say whether nearly all texts of a column are objects or arrays of JSON, or elements of XML."""
    there = column.drop_null().cast(pa.large_string())
    begins = pc.match_substring_regex(there, r"^\s*[\[{<]")
    return pc.sum(begins).as_py() is not None and (
        sum(map(_is_document, there.filter(begins).to_pylist())) >= NEARLY_ALL * len(there) > 0
    )


def _is_document(value: str) -> bool:
    try:
        if value.lstrip()[:1] == "<":
            parse_xml(value)
        else:
            json.loads(value)
    except (ValueError, RecursionError):
        return False
    return True


def _are_numbers(column: ArrowArray) -> bool:
    there = column.drop_null()
    return len(there) > 0 and bool(pc.all(pc.match_substring_regex(there, _NUMBER)).as_py())


def _values_of(name: str, column: ArrowArray, form: RowForm) -> ArrowArray:
    if name in form.documents:
        return _documents(column, form.xml.get(name, XmlCells()))
    if name in form.numbers:
        texts = column.cast(pa.large_string())
        return pc.if_else(pc.match_substring_regex(texts, _NUMBER), texts, json_texts(texts))
    return json_texts(column)


def _documents(column: ArrowArray, xml: XmlCells) -> ArrowArray:
    """Return documents on one line each; what is none cannot be taken for one, nor for more than one."""
    texts = column.cast(pa.large_string())
    there = texts.drop_null() if texts.null_count else texts
    sorts = sorts_of(TextLane.of(there))
    if (sorts == Cell.WHOLE).all():
        return texts
    cells = np.full(len(texts), Cell.NOTHING, np.uint8)
    cells[texts.is_valid().to_numpy(zero_copy_only=False)] = sorts
    texts = pc.if_else(pa.array(cells == Cell.NOTHING), pa.scalar(None, pa.large_string()), texts)
    if (rows := np.flatnonzero(cells == Cell.XML)).size:
        made = [_as_json(each, xml) for each in texts.take(pa.array(rows)).to_pylist()]
        texts = pc.replace_with_mask(texts, pa.array(cells == Cell.XML), pa.array(made, pa.large_string()))
    if (cells == Cell.OTHER).any():
        # No line is right with these letters, whatever the text behind them is.
        told = pc.binary_join_element_wise(text(_NO_JSON), texts, text(""))
        texts = pc.if_else(pa.array(cells == Cell.OTHER), told, texts)
    for sign in ("\r", "\n"):
        texts = pc.replace_substring(texts, sign, " ")
    return texts


def _as_json(document: str, form: XmlCells) -> str:
    try:
        return form.as_json(document)
    except XmlTextError as error:
        return f"NOT_XML ({error}) {document}"
