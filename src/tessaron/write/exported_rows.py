"""The rows of an export, read back from its files, as they go into a database."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import fields, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import SourceError
from tessaron.core.layout.table_set import TableSet
from tessaron.core.tables.numbering import moved_keys
from tessaron.decide.layout_file import Layout
from tessaron.engine.intake import SourceRead
from tessaron.engine.options import Options
from tessaron.sinks.database.create_tables import parents_first, required_columns
from tessaron.sinks.target_folder import LAYOUT_FILE, RECEIPT_FILE
from tessaron.sources.exported.table_folder import TableFolder
from tessaron.sources.forms.file_form import FileForm
from tessaron.write.books.balance import Balance
from tessaron.write.books.receipt import (
    ColumnWritten,
    Finding,
    ForeignKey,
    KeyCheck,
    LeftOut,
    Note,
    Receipt,
    TableWritten,
    read_receipt,
)

_ROWS_AT_ONCE = 65_536


def is_export(source: str | Path) -> bool:
    """Say whether a path is the folder of an export."""
    folder = Path(source)
    try:
        return (folder / RECEIPT_FILE).is_file() and (folder / LAYOUT_FILE).is_file()
    except OSError:
        return False


class ExportedRows:
    """The tables of an export.

    Args:
        folder: Where it is.

    Attributes:
        layout: Its layout.
        tables: Its tables.
        top: The table of the records.

    Raises:
        SourceError: When the receipt or the layout cannot be read.
    """

    def __init__(self, folder: Path):
        self._folder = folder
        self._receipt = read_receipt(folder)
        self.layout = Layout.read(folder / LAYOUT_FILE)
        compiled = self.layout.compiled(secret=b"any")
        self.tables: TableSet = compiled.written()
        self.top = next((table.name for table in compiled.records.tables if not table.level), "")
        self.required = required_columns(self.layout.part)
        self.most_bytes = Options().collected_bytes()

    def rows(self, last_keys: Mapping[str, int]) -> Iterator[dict[str, ArrowRows]]:
        """Yield the rows, table by table, parents first; keys go on after those that a database has.

        Raises:
            SourceError: When a file cannot be read, or is not the one that was exported.
        """
        files = TableFolder(self._folder, FileForm.of(self._receipt))
        known = {table["name"]: table["rows"] for table in self._receipt["tables"]}
        for table in parents_first(self.tables.tables):
            count = 0
            for batch in files.batches(table, table.arrow_schema().names, _ROWS_AT_ONCE):
                count += batch.num_rows
                yield {table.name: moved_keys(batch.cast(table.arrow_schema()), table, last_keys)}
            if count != known.get(table.name, count):
                said = f"{count:,} rows, the receipt says {known[table.name]:,}"
                raise SourceError(f"{files.file(table.name)}: {said}; export it again")

    def receipt_for(self, format: str, target: str) -> Receipt:
        """Return the receipt of the export, as one of its load."""
        plain = replace(self._whole_receipt, form={}, for_spreadsheets=False, is_ordered=True)
        return replace(plain, format=format, target=target)

    @cached_property
    def _whole_receipt(self) -> Receipt:
        data = dict(self._receipt)
        for name, kind in _PARTS.items():
            data[name] = tuple(_made(kind, each) for each in data.get(name, ()))
        data["key_check"] = _made(KeyCheck, data["key_check"]) if data.get("key_check") else None
        for name in ("candidate_keys", "unmet"):
            data[name] = tuple(data.get(name, ()))
        made: Receipt = _made(Receipt, data)
        return made


_PARTS: dict[str, type[Any]] = {
    "sources": SourceRead,
    "tables": TableWritten,
    "notes": Note,
    "key_checks": KeyCheck,
    "left_out": LeftOut,
    "findings": Finding,
    "balance": Balance,
}


def _made(kind: type[Any], data: Mapping[str, Any]) -> Any:
    """Return a part of a receipt from plain data, without what only another version knows of it."""
    names = {each.name for each in fields(kind)}
    found = {name: value for name, value in data.items() if name in names}
    if kind is TableWritten:
        found["references"] = tuple(_made(ForeignKey, each) for each in found["references"])
        found["columns"] = tuple(_made(ColumnWritten, each) for each in found["columns"])
        found["primary_key"], found["places"] = tuple(found["primary_key"]), ()
    if kind is KeyCheck:
        found["columns"] = tuple(found["columns"])
    return kind(**found)
