"""The rows of an export, read back from its files, as they go into a database."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import fields, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from tessaron.core.base.arrays import ArrowRows, joined_batches
from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.layout.table_set import Table, TableSet
from tessaron.core.rebuild.owned_rows import RecordOwners
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.numbering import RowNumbers, moved_keys, renumber
from tessaron.decide.layout_file import Layout
from tessaron.engine.intake import SourceRead
from tessaron.engine.options import Options
from tessaron.sinks.ddl.create_tables import parents_first, required_columns
from tessaron.sinks.target_folder import LAYOUT_FILE, RECEIPT_FILE
from tessaron.sources.exported.table_folder import BATCH_ROWS, TableFolder
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
from tessaron.write.books.receipt_making import Clock
from tessaron.write.record_sieve import RecordSieve, values_of

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
        kept_back: What was in records that need not be written: rows by table, values by `table.column`.

    Raises:
        SourceError: When the receipt or the layout cannot be read.
    """

    def __init__(self, folder: Path):
        self._folder = folder
        self._receipt = read_receipt(folder)
        self.layout = Layout.read(folder / LAYOUT_FILE)
        self._plans = self.layout.compiled(secret=b"any")
        self.tables: TableSet = self._plans.written()
        self.top = next((table.name for table in self._plans.records.tables if not table.level), "")
        self.required = required_columns(self.layout.part)
        self.most_bytes = Options().collected_bytes()
        self.kept_back: Counter[str] = Counter()

    def rows(self, last_keys: Mapping[str, int]) -> Iterator[dict[str, ArrowRows]]:
        """Yield the rows, table by table, parents first; keys go on after those that a database has.

        Raises:
            SourceError: When a file cannot be read, or is not the one that was exported.
        """
        for table in parents_first(self.tables.tables):
            for batch in self._batches(table, _ROWS_AT_ONCE):
                yield {table.name: moved_keys(batch, table, last_keys)}

    def _batches(self, table: Table, rows_at_once: int) -> Iterator[ArrowRows]:
        """Yield the rows of a table, and check that they are as many as were exported."""
        files = TableFolder(self._folder, FileForm.of(self._receipt), "runs" in self._receipt)
        known = {each["name"]: each["rows"] for each in self._receipt["tables"]}
        count = 0
        for batch in files.batches(table, table.arrow_schema().names, rows_at_once):
            count += batch.num_rows
            yield batch.cast(table.arrow_schema())
        if count != known.get(table.name, count):
            said = f"{count:,} rows, the receipt says {known[table.name]:,}"
            raise SourceError(f"{files.file(table.name)}: {said}; export it again")

    def top_table(self) -> Table:
        """Return the table of the records.

        Raises:
            UsageError: When it was not exported.
        """
        for table in self.tables.tables:
            if table.name == self.top:
                return table
        raise UsageError(f"{self._folder}: has no table of the records themselves, so none can be merged")

    def natural_key(self) -> tuple[str, ...]:
        """Return the columns of the records' table that say which record it is; nothing where it has none."""
        return tuple(self._plans.keys.get(self.top, ()))

    def key_checks(self) -> tuple[KeyCheck | None, ...]:
        """Return what the export found out about keys."""
        return (self._whole_receipt.key_check, *self._whole_receipt.key_checks)

    def sifted(self, sieve: RecordSieve, last_keys: Mapping[str, int]) -> Iterator[dict[str, ArrowRows]]:
        """Yield the rows of the records that a sieve leaves, some records at a time.

        Raises:
            DataError: When rows do not stand in the order of their records.
            SourceError: As in `rows`.
            UsageError: When the export was sorted.
        """
        if not self._receipt.get("is_ordered", True):
            raise UsageError(
                f"{self._folder}: was sorted or partitioned, or has grown: rows of one record stand apart; "
                "merge its source, or an export without that"
            )
        numbers = RowNumbers()
        for laid in self._laid(sieve.top):
            unchanged = np.append(sieve.unchanged(laid), False)
            before = values_of(laid.batches)
            left = renumber(laid, self._plans.records, unchanged).batches
            after = values_of(left)
            self.kept_back.update({name: count - after[name] for name, count in before.items()})
            numbered = numbers.number(left, self.tables)
            yield {
                table.name: moved_keys(numbered[table.name], table, last_keys) for table in self.tables.tables
            }

    def _laid(self, top: Table) -> Iterator[Laid]:
        """Yield records with their rows, keys counted from 1 for each time, as a run makes them."""
        tables = self.tables.tables
        below = [table for table in parents_first(tables) if table is not top and not table.once]
        looked_up = [table for table in tables if table.once]
        batches = {table.name: self._batches(table, BATCH_ROWS) for table in (top, *below)}
        before: Counter[str] = Counter()
        for number, owned in enumerate(RecordOwners(top, below, batches)):
            moved = {each.name: moved_keys(owned.batches[each.name], each, before) for each in (top, *below)}
            for name, batch in moved.items():
                before[name] -= batch.num_rows
            records = dict(owned.records)
            for table in looked_up:
                # They belong to no record, and come with the first.
                found = () if number else self._batches(table, BATCH_ROWS)
                moved[table.name] = joined_batches(found, table.arrow_schema())
                records[table.name] = np.full(moved[table.name].num_rows, owned.record_count)
            yield Laid(moved, owned.record_count, records=records)

    def receipt_for(self, format: str, target: str, rows: Mapping[str, int], clock: Clock) -> Receipt:
        """Return the receipt of the export, as one of its load.

        Args:
            format: What the target is.
            target: Its name.
            rows: The rows of each table that went there.
            clock: When it began.
        """
        kept = self.kept_back
        balance = tuple(
            replace(each, written=each.written - kept[name], filtered=each.filtered + kept[name])
            for each in self._whole_receipt.balance
            for name in [each.name or self.top]
        )
        tables = tuple(replace(each, rows=rows[each.name]) for each in self._whole_receipt.tables)
        plain = replace(self._whole_receipt, form={}, for_spreadsheets=False, is_ordered=True)
        started = clock.started.isoformat(timespec="seconds")
        timed = replace(plain, started=started, seconds=clock.seconds())
        return replace(timed, format=format, target=target, balance=balance, tables=tables)

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
