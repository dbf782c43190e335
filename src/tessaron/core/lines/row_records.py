"""Rows of tables as records: a line of JSON for each, with the documents in its columns in their place.

So whatever reads JSON Lines reads tables too. A document stands there as it is; one that is no JSON makes its
line one that cannot be read, so that the row is a reject, with all its columns in it.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.paths import step_of_name
from tessaron.core.base.text_lane import TextLane
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
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
    """

    documents: frozenset[str]
    numbers: frozenset[str] = frozenset()

    @classmethod
    def of(cls, rows: ArrowRows, has_types: bool, named: Sequence[str] = ()) -> RowForm:
        """Return the form that the first rows of a table suggest.

        Args:
            rows: The first rows.
            has_types: Whether columns have types of their own; else all are texts, and some may be numbers.
            named: The columns with documents, if they are named; else they are found.
        """
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
        return cls(documents, numbers - documents)


def record_lines(batches: Iterable[ArrowRows | bytes], form: RowForm) -> Iterator[bytes]:
    """Yield the rows as lines of JSON, batch by batch; what is bytes already stays."""
    for batch in batches:
        if isinstance(batch, bytes):
            yield batch
        elif batch.num_rows:
            yield _lines_of(batch, form)


class LineStream:
    """A stream of bytes that come in pieces."""

    def __init__(self, pieces: Iterator[bytes]):
        self._pieces = pieces
        self._left = b""

    def read(self, size: int = -1) -> bytes:
        """Return at most `size` bytes; none at the end."""
        while not self._left:
            piece = next(self._pieces, None)
            if piece is None:
                return b""
            self._left = piece
        found, self._left = (self._left, b"") if size < 0 else (self._left[:size], self._left[size:])
        return found


def _are_documents(column: ArrowArray) -> bool:
    """Say whether nearly all texts of a column are objects or arrays of JSON."""
    there = column.drop_null().cast(pa.large_string())
    begins = pc.match_substring_regex(there, r"^\s*[\[{]")
    return pc.sum(begins).as_py() is not None and (
        sum(map(_is_json, there.filter(begins).to_pylist())) >= NEARLY_ALL * len(there) > 0
    )


def _is_json(value: str) -> bool:
    try:
        json.loads(value)
    except (ValueError, RecursionError):
        return False
    return True


def _are_numbers(column: ArrowArray) -> bool:
    there = column.drop_null()
    return len(there) > 0 and bool(pc.all(pc.match_substring_regex(there, _NUMBER)).as_py())


def _lines_of(batch: ArrowRows, form: RowForm) -> bytes:
    members = []
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        try:
            made = _values_of(name, column, form)
        except pa.ArrowException as error:
            reason = f"values of {column.type} cannot be written as JSON: {error}"
            raise DataError(reason, Place(name), Code.TYPE) from error
        members.append((step_of_name(name), pc.fill_null(made, "null")))
    made = objects(members, batch.num_rows)
    lane = TextLane.of(pc.binary_join_element_wise(made, text("\n"), text("")))
    return bytes(lane.data[lane.offsets[0] : lane.offsets[-1]])


def _values_of(name: str, column: ArrowArray, form: RowForm) -> ArrowArray:
    if name in form.documents:
        return _documents(column)
    if name in form.numbers:
        texts = column.cast(pa.large_string())
        return pc.if_else(pc.match_substring_regex(texts, _NUMBER), texts, json_texts(texts))
    return json_texts(column)


def _documents(column: ArrowArray) -> ArrowArray:
    """Return documents on one line each; what is none cannot be taken for one, nor for more than one."""
    texts = column.cast(pa.large_string())
    blank = pc.fill_null(pc.match_substring_regex(texts, r"^\s*$"), False)
    texts = pc.if_else(blank, pa.scalar(None, pa.large_string()), texts)
    if broken := _broken(texts):
        # No line is right with these letters, whatever the text behind them is.
        told = pc.binary_join_element_wise(text(_NO_JSON), texts, text(""))
        texts = pc.if_else(pa.array(np.isin(np.arange(len(texts)), broken)), told, texts)
    for sign in ("\r", "\n"):
        if pc.any(pc.match_substring(texts, sign)).as_py():
            texts = pc.replace_substring(texts, sign, " ")
    return texts


def _broken(texts: ArrowArray) -> list[int]:
    """Return which texts are no JSON by themselves."""
    there = texts.drop_null()
    if not len(there):
        return []
    lane = TextLane.of(pc.binary_join_element_wise(there, text("\n"), text("")))
    data = bytes(lane.data[lane.offsets[0] : lane.offsets[-1]])
    tape = choose_kernel()(data, Separator.NOTHING)
    # Where one record begins with each text, and there are no more, each text is one.
    blank = pc.subtract(pc.binary_length(there), pc.binary_length(pc.utf8_ltrim(there, " \t\r\n")))
    starts = lane.offsets[:-1] - lane.offsets[0] + blank.to_numpy(zero_copy_only=False)
    if not tape.faults and np.array_equal(tape.offsets, starts):
        return []
    numbered = enumerate(texts.to_pylist())
    return [number for number, value in numbered if value is not None and not _is_json(value)]
