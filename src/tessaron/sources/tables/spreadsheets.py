"""Spreadsheets (.xlsx, ISO/IEC 29500) as tables: the first sheet that is shown, its first row the names."""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Any, BinaryIO

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import Code, DataError, Place, UsageError
from tessaron.core.lines.python_rows import batch_of

_BATCH_ROWS = 5_000


def sheet_rows(name: str, stream: BinaryIO) -> Iterator[ArrowRows]:
    """Yield the rows of a spreadsheet, as its cells hold them: formulas by their last results.

    Raises:
        DataError: When it is no spreadsheet, or has no row of names.
        UsageError: When openpyxl is not installed.
    """
    with warnings.catch_warnings():
        # Styles and the like that it does not know change no value.
        warnings.simplefilter("ignore")
        sheet = _sheet_of(name, stream)
        rows = sheet.iter_rows(values_only=True)
        names = _names(name, next(rows, ()))
        while batch := [row[: len(names)] for row in islice(rows, _BATCH_ROWS)]:
            filled = [row for row in batch if any(cell is not None for cell in row)]
            yield batch_of(names, filled)


def other_sheets(name: str, stream: BinaryIO) -> str:
    """Return which sheets there are besides the one that is read, in words."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        book = _book_of(name, stream)
        names = [each.title for each in book.worksheets if each.sheet_state == "visible"]
    if len(names) <= 1:
        return ""
    return f"the sheet {names[0]!r} is read, and not {', '.join(map(repr, names[1:]))}"


def _book_of(name: str, stream: BinaryIO) -> Any:
    try:
        from openpyxl import load_workbook
    except ImportError as error:
        raise UsageError(f"{name}: needs openpyxl: pip install 'tessaron[xlsx]'") from error
    try:
        # Inside of an archive it cannot be read from behind, where its directory is.
        is_free = getattr(stream, "seekable", lambda: False)()
        return load_workbook(stream if is_free else io.BytesIO(stream.read()), read_only=True, data_only=True)
    except Exception as error:
        # It has no error of its own for what is no spreadsheet.
        raise DataError(f"no spreadsheet: {error}", Place(name), Code.SYNTAX) from error


def _sheet_of(name: str, stream: BinaryIO) -> Any:
    book = _book_of(name, stream)
    shown = [each for each in book.worksheets if each.sheet_state == "visible"]
    return (shown or book.worksheets)[0]


def _names(name: str, row: Sequence[object]) -> list[str]:
    names = [str(cell) for cell in row if cell is not None]
    if not names:
        raise DataError("is empty; expected a row with the names of columns", Place(name), Code.EMPTY)
    if len(names) < len(row) and any(cell is not None for cell in row[len(names) :]):
        raise DataError("the first row has a column without a name", Place(name, line=1), Code.SYNTAX)
    twice = [each for each in names if names.count(each) > 1]
    if twice:
        raise DataError(f"two columns are called {twice[0]!r}", Place(name, line=1), Code.SYNTAX)
    return names
