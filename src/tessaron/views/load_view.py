"""What a load ends with: a table of tables, one line of totals, and what the database says when asked."""

from __future__ import annotations

from rich.table import Table

from tessaron.views.terminal import count, grid
from tessaron.write.loading import Loaded

_TABLES_SHOWN = 40


def load_view(loaded: Loaded) -> list[Table | str]:
    """Return the parts to be shown."""
    receipt = loaded.receipt
    had_rows = any(table.before for table in loaded.tables)
    headings = ("table", "before", "in", "out", "rows") if had_rows else ("table", "rows", "columns")
    columns = {table.name: len(table.columns) for table in receipt.tables}
    rows = [
        (table.name, f"{table.before:,}", f"{table.written:,}", f"{table.removed:,}", f"{table.after:,}")
        if had_rows
        else (table.name, f"{table.after:,}", f"{columns[table.name]:,}")
        for table in loaded.tables[:_TABLES_SHOWN]
    ]
    more = len(loaded.tables) - len(rows)
    told = [f"… and {count(more, 'more table')}, listed in tessaron_runs"] * bool(more)
    written = sum(table.written for table in loaded.tables)
    into = f"{count(written, 'row')} into {count(len(loaded.tables), 'table')} of {receipt.target}"
    totals = (
        f"{count(receipt.records, 'record')} in, {into}, {receipt.seconds:.2f} seconds; "
        f"run {loaded.run}, {loaded.mode}"
    )
    merged = ", ".join(f"{number:,} {what}" for what, number in loaded.records.items())
    records = [f"records: {merged}"] * bool(merged)
    asked = ["", *loaded.question.split("\n"), f"  → {loaded.answer:,}"] if loaded.question else []
    return [grid(headings, rows, numeric=headings[1:]), *told, "", totals, *records, *asked]
