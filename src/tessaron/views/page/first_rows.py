"""The first rows of each table: kept while they go by, or read of the files of an export."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import TessaronError

_KEPT = 8


@dataclass(slots=True)
class FirstRows:
    """Keeps the first rows that it is shown.

    Attributes:
        rows: They, by table; of a chunk that has fewer than are kept, those only.
    """

    rows: dict[str, ArrowRows] = field(default_factory=dict)

    def take(self, batches: Mapping[str, ArrowRows]) -> None:
        """Look at the rows of a chunk, a record batch for each table."""
        for name, batch in batches.items():
            if batch.num_rows and (
                name not in self.rows or self.rows[name].num_rows < batch.num_rows < _KEPT
            ):
                self.rows[name] = batch.slice(0, _KEPT)


def first_rows_of_folder(folder: str) -> dict[str, ArrowRows]:
    """Return the first rows of the tables of an export in a folder of this machine.

    None of a spreadsheet, nor of what cannot be read: a page shows what else there is.
    """
    from tessaron.decide.layout_file import Layout
    from tessaron.sinks.target_folder import LAYOUT_FILE
    from tessaron.sources.exported.table_folder import TableFolder
    from tessaron.sources.forms.file_form import FileForm
    from tessaron.write.books.receipt import read_receipt

    found: dict[str, ArrowRows] = {}
    receipt = read_receipt(Path(folder))
    if not receipt or receipt["format"] == "xlsx":
        return found
    files = TableFolder(Path(folder), FileForm.of(receipt), "runs" in receipt)
    for table in Layout.read(Path(folder) / LAYOUT_FILE).compiled(secret=b"any").written().tables:
        with suppress(TessaronError):
            batch = next(iter(files.batches(table, table.arrow_schema().names)), None)
            if batch is not None:
                found[table.name] = batch.slice(0, _KEPT)
    return found
