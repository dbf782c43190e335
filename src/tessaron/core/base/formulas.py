"""Texts that a spreadsheet would take for formulas, made harmless and back."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

_FORMULA, _HARMLESS = r"^([=+\-@\t\r'])", r"^'([=+\-@\t\r'])"
"""How texts begin that may be taken for formulas, or for what was made harmless; and how they are written."""


def with_harmless_texts(rows: Any) -> Any:
    """Return rows in which texts that a spreadsheet would take for formulas begin with an apostrophe."""
    return _replaced(rows, _FORMULA, r"'\1")


def without_apostrophes(rows: Any) -> Any:
    """Return rows whose texts are again what they were before `with_harmless_texts`."""
    return _replaced(rows, _HARMLESS, r"\1")


def _replaced(rows: Any, pattern: str, replacement: str) -> Any:
    columns = [
        pc.replace_substring_regex(column, pattern, replacement)
        if pa.types.is_large_string(column.type)
        else column
        for column in rows.columns
    ]
    return type(rows).from_arrays(columns, schema=rows.schema)
