"""All tables in one spreadsheet (Office Open XML, ISO/IEC 29500): contents first, then a sheet for each.

Written row by row with constant memory. What a sheet cannot hold is an error, and never a shorter text or
number: numbers of more than 15 digits stand as texts there, as do days before 1900.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Mapping
from decimal import Decimal
from pathlib import Path
from types import TracebackType
from typing import Any

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.base.paths import format_path
from tessaron.core.layout.table_set import Table, TableSet

MOST_ROWS, MOST_COLUMNS, MOST_LETTERS = 1_048_576, 16_384, 32_767
"""What a sheet holds: rows with that of the names, columns, letters of one cell."""
_MOST_NAME, _NOT_IN_NAMES = 31, str.maketrans(dict.fromkeys("[]:*?/\\", "_"))
_EXACT = 10**15
"""Smaller integers are exact as the doubles that all numbers are there."""
_EXACT_DIGITS = 15
_FIRST_DAY = datetime.date(1900, 3, 1)
"""From here on days have the number that all programs agree on."""
_CONTENTS = "contents"
_HEADINGS = ("table", "rows", "columns", "key", "belongs to", "rows of")


class SpreadsheetFile:
    """One file with all tables; a context, which writes the contents and closes it.

    Args:
        folder: Where the file goes.
        layout: The tables.

    Attributes:
        names: The file of each table, the same for all.
        rows: The rows written of each.
        values: The values, null aside, written to each of its columns.

    Raises:
        UsageError: When what writes spreadsheets is not installed, or a table has too many columns.
    """

    def __init__(self, folder: Path, layout: TableSet):
        try:
            import xlsxwriter
        except ImportError as error:
            raise UsageError("spreadsheets need XlsxWriter: pip install 'tessaron[xlsx]'") from error
        for table in layout.tables:
            if len(table.arrow_schema()) > MOST_COLUMNS:
                count = len(table.arrow_schema())
                raise UsageError(
                    f"{table.name} has {count:,} columns, and a sheet holds {MOST_COLUMNS:,}; choose some "
                    "with --only, or write CSV or Parquet"
                )
        name = f"{layout.tables[0].name if layout.tables else 'tables'}.xlsx"
        self.names = {table.name: name for table in layout.tables}
        self.rows = {table.name: 0 for table in layout.tables}
        self.values = {table.name: [0] * len(table.arrow_schema()) for table in layout.tables}
        self._tables = layout.tables
        options = {"constant_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
        self._book: Any = xlsxwriter.Workbook(str(folder / name), options)
        self._bold = self._book.add_format({"bold": True})
        self._contents: Any = self._book.add_worksheet(_CONTENTS)
        self._sheets = dict(zip(self.names, _sheet_names(self.names), strict=True))
        self._writers = {table.name: self._begun(table) for table in layout.tables}

    def __enter__(self) -> SpreadsheetFile:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is not None:
            self._discard()
            return
        for table in self._tables:
            sheet, columns = self._writers[table.name][0], len(table.arrow_schema())
            sheet.autofilter(0, 0, self.rows[table.name], columns - 1)
        self._write_contents()
        try:
            self._book.close()
        except OSError as fault:
            raise TargetError(f"the target cannot be written: {fault.strerror or fault}") from fault

    def write(self, batches: Mapping[str, ArrowRows]) -> None:
        """Append a record batch to each table named.

        Raises:
            TargetError: When a sheet cannot hold its rows or a text.
        """
        for name, batch in batches.items():
            if batch.num_rows:
                self._append(name, batch)

    def _discard(self) -> None:
        """Let go of what the sheets have put aside: the book is never closed."""
        for sheet in self._book.worksheets():
            sheet.row_data_fh.close()
            Path(sheet.row_data_filename).unlink(missing_ok=True)
        self._book.fileclosed = True

    def _append(self, name: str, batch: ArrowRows) -> None:
        begin = self.rows[name] + 1
        self.rows[name] += batch.num_rows
        if self.rows[name] >= MOST_ROWS:
            raise TargetError(
                f"{name}: more than {MOST_ROWS - 1:,} rows, which is what a sheet holds; write CSV or "
                "Parquet, or keep fewer rows by a layout"
            )
        sheet, cells = self._writers[name]
        for index, column in enumerate(batch.columns):
            self.values[name][index] += len(column) - column.null_count
        columns = [column.to_pylist() for column in batch.columns]
        # Rows have to come in their order: each is on the disk before the next.
        for number, row in enumerate(zip(*columns, strict=True), begin):
            for place, value in enumerate(row):
                if value is not None:
                    cells[place](sheet, number, place, value)

    def _begun(self, table: Table) -> tuple[Any, list[_Cell]]:
        sheet = self._book.add_worksheet(self._sheets[table.name])
        names = table.arrow_schema().names
        for place, name in enumerate(names):
            sheet.set_column(place, place, min(max(len(name) + 3, 10), 40))
            sheet.write_string(0, place, name, self._bold)
        sheet.freeze_panes(1, 0)
        kinds = {column.name: column for column in table.columns}
        cells = []
        for name in names:
            column = kinds.get(name)
            kind = column.type.name if column is not None else str(table.key_type_of(name))
            digits = column.type.scale if column is not None else 0
            cells.append(self._cell(f"{table.name}.{name}", kind, digits))
        return sheet, cells

    def _cell(self, where: str, kind: str, digits: int) -> _Cell:
        """Return what writes the values of a column."""
        if kind == "boolean":
            return lambda sheet, row, place, value: sheet.write_boolean(row, place, value)
        if kind in ("integer", "decimal", "double"):
            return _number(self._book.add_format({"num_format": _pattern(kind, digits)}))
        if kind in _MOMENTS:
            return _moment(self._book.add_format({"num_format": _MOMENTS[kind]}))
        return _text(where)

    def _write_contents(self) -> None:
        for column, heading in enumerate(_HEADINGS):
            self._contents.write_string(0, column, heading, self._bold)
        for number, (depth, table) in enumerate(_outline(self._tables), 1):
            place = f"internal:'{self._sheets[table.name]}'!A1"
            self._contents.write_url(number, 0, place, string="    " * depth + table.name)
            self._contents.write_number(number, 1, self.rows[table.name])
            self._contents.write_number(number, 2, len(table.arrow_schema()))
            others = ", ".join(f"{column} → {other}" for column, other in table.references())
            where = format_path(table.rows) if table.rows else "$"
            for column, text in enumerate((table.row_key, others, where), 3):
                if text:
                    self._contents.write_string(number, column, text)
        for column, width in enumerate((40, 10, 10, 12, 34, 48)):
            self._contents.set_column(column, column, width)
        self._contents.freeze_panes(1, 0)


_Cell = Callable[[Any, int, int, Any], object]
_MOMENTS = {
    "date": "yyyy-mm-dd", "time": "hh:mm:ss.000", "timestamp": "yyyy-mm-dd hh:mm:ss.000",
    "timestamp_tz": "yyyy-mm-dd hh:mm:ss.000",
}  # fmt: skip


def _pattern(kind: str, digits: int) -> str:
    if kind == "integer":
        return "0"
    return f"0.{'0' * digits}" if kind == "decimal" and digits else "General"


def _text(where: str) -> _Cell:
    def write(sheet: Any, row: int, place: int, value: str) -> None:
        if len(value) > MOST_LETTERS:
            raise TargetError(
                f"{where}, row {row:,}: a text of {len(value):,} letters, and a cell holds {MOST_LETTERS:,}; "
                "leave the column out, or write CSV or Parquet"
            )
        sheet.write_string(row, place, value)

    return write


def _number(pattern: Any) -> _Cell:
    def write(sheet: Any, row: int, place: int, value: Any) -> None:
        if isinstance(value, int) and not -_EXACT < value < _EXACT:
            sheet.write_string(row, place, str(value))
        elif isinstance(value, Decimal) and len(value.normalize().as_tuple().digits) > _EXACT_DIGITS:
            sheet.write_string(row, place, f"{value:f}")
        else:
            sheet.write_number(row, place, value, pattern)

    return write


def _moment(pattern: Any) -> _Cell:
    def write(sheet: Any, row: int, place: int, value: Any) -> None:
        if isinstance(value, datetime.datetime):
            value = value.replace(tzinfo=None)
            day = value.date()
        else:
            day = value if isinstance(value, datetime.date) else _FIRST_DAY
        if day < _FIRST_DAY or _is_finer(value):
            sheet.write_string(row, place, str(value))
        else:
            sheet.write_datetime(row, place, value, pattern)

    return write


def _is_finer(value: Any) -> bool:
    """Say whether a time has digits of a second beyond the third, which a spreadsheet rounds."""
    return bool(getattr(value, "microsecond", 0) % 1_000 or getattr(value, "nanosecond", 0))


def _sheet_names(tables: Iterable[str]) -> list[str]:
    """Return names for sheets: at most 31 letters, none of them special, no two alike."""
    taken, found = {_CONTENTS, "history"}, []
    for table in tables:
        plain = table.translate(_NOT_IN_NAMES).strip("'") or "table"
        name, number = plain[:_MOST_NAME], 1
        while name.lower() in taken:
            number += 1
            name = f"{plain[: _MOST_NAME - len(str(number)) - 1]}_{number}"
        taken.add(name.lower())
        found.append(name)
    return found


def _outline(tables: Iterable[Table]) -> list[tuple[int, Table]]:
    """Return tables with how deep they stand, each behind the one it belongs to."""
    below: dict[str | None, list[Table]] = {}
    names = {table.name for table in tables}
    for table in tables:
        parent = table.only_parent()
        below.setdefault(parent if parent in names and parent != table.name else None, []).append(table)
    found: list[tuple[int, Table]] = []
    pending = [(0, table) for table in reversed(below.get(None, []))]
    while pending:
        depth, table = pending.pop()
        found.append((depth, table))
        pending += [(depth + 1, each) for each in reversed(below.get(table.name, []))]
    return found
