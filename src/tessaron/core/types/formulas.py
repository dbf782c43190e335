"""Texts that a spreadsheet would take for formulas, made harmless and back."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowRows

_FORMULA, _HARMLESS = r"^([=+\-@\t\r'])", r"^'([=+\-@\t\r'])"
"""How texts begin that may be taken for formulas, or for what was made harmless; and how they are written."""


def with_harmless_texts(rows: ArrowRows) -> ArrowRows:
    """Return rows in which texts that a spreadsheet would take for formulas begin with an apostrophe."""
    return _replaced(rows, _FORMULA, r"'\1")


def without_apostrophes(rows: ArrowRows) -> ArrowRows:
    """Return rows whose texts are again what they were before `with_harmless_texts`."""
    return _replaced(rows, _HARMLESS, r"\1")


def _replaced(rows: ArrowRows, pattern: str, replacement: str) -> ArrowRows:
    columns = [
        pc.replace_substring_regex(column, pattern, replacement)
        if pa.types.is_large_string(column.type)
        else column
        for column in rows.columns
    ]
    return type(rows).from_arrays(columns, schema=rows.schema)
