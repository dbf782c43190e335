"""Tables in the order of the rows they belong to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from tessaron.core.rebuilding.places import TablePlaces
from tessaron.sources.table_folder import TableFolder


def in_key_order(files: TableFolder, tables: Sequence[TablePlaces]) -> dict[str, Iterator[Any]]:
    """Return the rows of each table, in the order of the rows they belong to.

    Args:
        files: The folder.
        tables: The tables, parents before children.
    """
    return {each.table.name: files.batches(each.table, each.columns()) for each in tables}
