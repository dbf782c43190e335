"""Lake tables that runs have loaded, as the folder of an export."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pyarrow as pa

from tessaron.core.base.errors import SourceError
from tessaron.core.layout.table_set import Table
from tessaron.decide.layout_file import Layout
from tessaron.prove.loaded_runs import chosen_top, row_order, write_beside
from tessaron.sinks.lake.lake_catalogs import catalog_of, told_by_lake
from tessaron.sinks.lake.lake_runs import LakeRuns
from tessaron.sinks.parted_files import writer_of
from tessaron.sources.forms.file_form import FileForm


def copy_lake(place: str, namespace: str | None, wanted: str | None, folder: Path) -> None:
    """Write the tables of the last run that a catalog tells of into a folder, as an export does.

    Raises:
        SourceError: When there are none, or they cannot be read.
        UsageError: When it is not clear which are meant.
    """
    catalog = catalog_of(place, namespace)
    with told_by_lake(catalog.name, SourceError):
        runs = LakeRuns(catalog)
        every = runs.last_ones()
        record = every[chosen_top(sorted(every), wanted, catalog.name)]
        tables = Layout(record.layout, f"layout of run {record.run}").compiled(secret=b"any").written().tables
        for table in tables:
            _copy_lake_table(catalog.table(table.name), table, folder, catalog.name)
        write_beside(record, runs.every(), folder)


def _copy_lake_table(there: Any, table: Table, folder: Path, name: str) -> None:
    """Write a lake table into a file, in the order of its keys: its own files have none."""
    if there is None:
        raise SourceError(f"{name}: {table.name} is not there, which the last run has loaded")
    whole = table.arrow_schema()
    form = FileForm("parquet", sort=tuple(row_order(table)))
    _, file = writer_of(folder, table, form)
    rows = 0
    for batch in there.scan(selected_fields=tuple(whole.names)).to_arrow_batch_reader():
        part = pa.Table.from_batches([batch.select(whole.names)]).cast(whole)
        rows += part.num_rows
        file.write(part)
    if not rows:
        file.write(whole.empty_table())
    file.close()
