"""What stands at a path becomes one column of a type set by hand: cleaned, read, and what misfits."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.digests import digest_texts, hex_of
from tessaron.core.base.json_text import quoted_text
from tessaron.core.base.kinds import Kind
from tessaron.core.base.text_lane import Int64s, TextLane
from tessaron.core.plan.plan import Cleaning, ColumnPlan
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.occurrences import at_rows, places_of, without_empty_texts
from tessaron.core.types.column_types import ColumnType
from tessaron.core.types.fitting import fit_booleans, fit_integers, fit_numbers, fit_texts


@dataclass(frozen=True, slots=True)
class Fitted:
    """A column of one level.

    Attributes:
        values: An Arrow array with a value, or null, for each row.
        misfits: The rows whose value does not fit the type.
        texts: Their values, as texts.
    """

    values: Any
    misfits: Int64s
    texts: Any


_NO_ROWS: Int64s = np.empty(0, np.int64)
_NO_TEXTS = pa.array([], pa.large_string())


def all_fitted(values: ArrowArray) -> Fitted:
    """Return a column whose values all fit."""
    return Fitted(values, _NO_ROWS, _NO_TEXTS)


def fit_node(node: Node | None, row_count: int, plan: ColumnPlan) -> Fitted:
    """Return what stands at a node in the type of a column.

    Args:
        node: The node; None where the fragment has nothing there.
        row_count: Rows of its level.
        plan: The column; folds and conditions are not looked at.
    """
    target = plan.value_type
    if node is None or not len(node.kinds):
        return all_fitted(pa.nulls(row_count, target.arrow_type()))
    if plan.drops_empty and len(node.texts):
        node = without_empty_texts(node)
    pieces = [piece for piece in _pieces(node, target, plan) if len(piece.rows)]
    if not pieces:
        return all_fitted(pa.nulls(row_count, target.arrow_type()))
    rows = np.concatenate([piece.rows for piece in pieces])
    values = pieces[0].values if len(pieces) == 1 else pa.concat_arrays([piece.values for piece in pieces])
    misfits = np.concatenate([piece.rows[piece.bad] for piece in pieces]).astype(np.int64)
    texts = pa.concat_arrays([piece.texts for piece in pieces])
    if len(rows) != row_count or (len(rows) > 1 and not (np.diff(rows) == 1).all()):
        values = at_rows(values, rows, row_count)
    return Fitted(values, misfits, texts)


@dataclass(frozen=True, slots=True)
class _Piece:
    """The values of one lane: their rows, which of them do not fit, and how those are written."""

    values: Any
    rows: Any
    bad: Any
    texts: Any


def _pieces(node: Node, target: ColumnType, plan: ColumnPlan) -> list[_Piece]:
    rows = node.rows_present()
    found = []
    if len(node.booleans):
        made, bad = fit_booleans(node.booleans, target, plan.spelling)
        found.append(_piece(made, bad, rows[places_of(node, (Kind.BOOLEAN,))], array_of(node.booleans)))
    if len(node.integers):
        made, bad = fit_integers(node.integers.copy(), target, plan.spelling)
        found.append(_piece(made, bad, rows[places_of(node, (Kind.INTEGER,))], array_of(node.integers)))
    if len(node.numbers):
        digits = node.numbers.compact().to_arrow()
        made, bad = fit_numbers(digits, target, plan.spelling)
        found.append(_piece(made, bad, rows[places_of(node, (Kind.LONG_INTEGER, Kind.FRACTION))], digits))
    if target.name == "text" and plan.cleaning.changes_texts:
        found = [replace(piece, values=clean_texts(piece.values, plan.cleaning)) for piece in found]
    if len(node.texts):
        found.append(_text_piece(node.texts, rows[places_of(node, (Kind.TEXT,))], target, plan))
    return found


def _text_piece(lane: TextLane, rows: ArrowRows, target: ColumnType, plan: ColumnPlan) -> _Piece:
    texts = lane.compact().to_arrow()
    if plan.cleaning.changes_texts:
        texts = clean_texts(texts, plan.cleaning)
        if texts.null_count:
            known = texts.is_valid()
            texts, rows = texts.filter(known), rows[known.to_numpy(zero_copy_only=False)]
    made, bad = fit_texts(texts, target, plan.spelling)
    return _piece(made, bad, rows, texts)


def _piece(values: ArrowArray, bad: ArrowArray, rows: ArrowRows, written: ArrowArray) -> _Piece:
    if not bad.any():
        return _Piece(values, rows, bad, _NO_TEXTS)
    texts = written.filter(array_of(np.asarray(bad))).cast(pa.large_string())
    return _Piece(values, rows, bad, texts)


def clean_texts(texts: ArrowArray, cleaning: Cleaning) -> ArrowArray:
    """Return texts trimmed, with those that mean null as null, in their case, and replaced; in this order."""
    if cleaning.trim:
        texts = pc.utf8_trim_whitespace(texts)
    if cleaning.nulls:
        means_null = pc.is_in(texts, pa.array(cleaning.nulls, pa.large_string()))
        texts = pc.if_else(means_null, pa.scalar(None, pa.large_string()), texts)
    if cleaning.case is not None:
        texts = pc.utf8_upper(texts) if cleaning.case == "upper" else pc.utf8_lower(texts)
    if cleaning.replace:
        found = pc.index_in(texts, pa.array(list(cleaning.replace), pa.large_string()))
        words = pa.array(list(cleaning.replace.values()), pa.large_string())
        texts = pc.if_else(pc.is_valid(found), words.take(found), texts)
    return texts


def mask_values(values: ArrowArray, plan: ColumnPlan, secret: bytes) -> ArrowArray:
    """Return texts masked as the column says: one text for all, or a digest that joins still work on."""
    if plan.mask == "constant":
        shown = pa.scalar(plan.mask_text, pa.large_string())
        return pc.if_else(pc.is_valid(values), shown, pa.scalar(None, pa.large_string()))
    if plan.mask == "digest":
        known = pc.is_valid(values)
        texts = pc.fill_null(values.cast(pa.large_string()), "")
        digests = hex_of(digest_texts(TextLane.of(texts), secret))
        return pc.if_else(known, digests, pa.scalar(None, pa.large_string()))
    return values


def json_of_scalars(node: Node | None, row_count: int) -> ArrowArray:
    """Return the texts at a node as JSON, a value for each row; null where there is none."""
    if node is None or not len(node.texts):
        return pa.nulls(row_count, pa.large_string())
    encoded = node.texts.to_arrow().dictionary_encode()
    quoted = pa.array([quoted_text(text) for text in encoded.dictionary.to_pylist()], pa.large_string())
    rows = node.rows_present()[places_of(node, (Kind.TEXT,))]
    return at_rows(quoted.take(encoded.indices), rows, row_count)
