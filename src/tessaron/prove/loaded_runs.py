"""What copies of loaded tables have in common: which run is meant, the order of rows, what stands beside."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.target_folder import LAYOUT_FILE, RECEIPT_FILE
from tessaron.write.books.receipt_sums import summed

_ALONE = ("create", "replace")
"""Modes of runs that leave nothing of those before."""


def chosen_top(tops: list[str], wanted: str | None, name: str) -> str:
    """Return the records' table that is meant."""
    if not tops:
        raise SourceError(f"{name}: no run has loaded anything here; tessaron load does, or name the schema")
    if wanted is None and len(tops) > 1:
        raise UsageError(f"{name}: say which of these is meant: --name {', '.join(tops)}")
    if wanted is not None and wanted not in tops:
        raise UsageError(f"{name}: no run has loaded {wanted}; there are {', '.join(tops)}")
    return wanted or tops[0]


def write_beside(record: RunRecord, every: Iterable[RunRecord], folder: Path) -> None:
    """Write the layout and the receipt of the last run into the folder of its tables.

    Args:
        record: The run.
        every: All runs, the first one first.
        folder: The folder.
    """
    (folder / LAYOUT_FILE).write_text(record.layout, "utf-8")
    (folder / RECEIPT_FILE).write_text(json.dumps(_receipt(record, _since_made(record, every))), "utf-8")


def row_order(table: Table) -> list[str]:
    """Return the columns by which rows stand as they came: by their keys, or in the order of their arrays."""
    place = [table.place_key] if table.places and table.place_key else []
    if table.key_type == "integer" or table.parent_key is None or table.within_key is not None:
        return [table.row_key]
    return [*place, table.parent_key, *([table.ordinal] if table.ordinal is not None else []), table.row_key]


def _since_made(record: RunRecord, every: Iterable[RunRecord]) -> list[RunRecord]:
    """Return the runs that have made what is there now."""
    found: list[RunRecord] = []
    for each in every:
        if each.top == record.top:
            found = [each] if each.mode in _ALONE else [*found, each]
    return found


def _receipt(record: RunRecord, runs: Iterable[RunRecord]) -> dict[str, Any]:
    """Return the receipt of the last run, as one of all that is there."""
    receipt = dict(record.receipt)
    for name, keys, counts in (
        ("findings", ("code", "name"), ("count",)),
        ("left_out", ("path",), ("values",)),
    ):
        receipt[name] = summed([each for run in runs for each in run.receipt[name]], (), keys, counts)
    receipt["tables"] = [
        {**table, "sha256": "", "rows": record.rows.get(table["name"], table["rows"])}
        for table in receipt["tables"]
    ]
    is_alone = record.mode in _ALONE
    has_digests = any(
        column["name"] in table["primary_key"] and column["type"] == "text"
        for table in receipt["tables"]
        for column in table["columns"]
    )
    # By digests, and where records were replaced, rows have no order but that of their keys.
    receipt["is_ordered"] = not has_digests and record.mode != "merge"
    if not is_alone:
        receipt["sources"], receipt["balance"] = [], []
    return receipt
