"""Tables that runs have loaded into a database, as the folder of an export, for as long as it is needed."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

from tessaron.core.base.errors import SourceError
from tessaron.decide.layout_file import Layout
from tessaron.prove.lake_copies import copy_lake
from tessaron.prove.loaded_runs import chosen_top, row_order, write_beside
from tessaron.sinks.database.run_records import RunRecord, RunRecords
from tessaron.sinks.ddl.create_tables import CreateTables
from tessaron.sinks.ddl.known_dialects import dialect_named
from tessaron.sinks.lake.lake_catalogs import (
    is_lake,
)
from tessaron.sources.database.engines import engine_of, first_line, told_by
from tessaron.sources.database.typed_rows import TypedRows
from tessaron.sources.remote.store_copies import local_folder
from tessaron.sources.remote.store_urls import is_store
from tessaron.sources.web.secret_values import secret_of

_URL = re.compile(r"[a-z][a-z0-9]*(\+[a-z0-9]+)?://")


@dataclass(frozen=True, slots=True)
class TablesAt:
    """Where tables are.

    Attributes:
        place: A folder, a place in an object store, or the URL of a database.
        schema: Of a database: the schema that they stand in.
        runs_schema: The schema of the table of runs; else that.
        name: The table of the records, where several have been loaded.
        password: Where the password stands: `env:NAME`, `file:PATH`, `keyring:SERVICE/USER`.
    """

    place: str | Path
    schema: str | None = None
    runs_schema: str | None = None
    name: str | None = None
    password: str | None = None


def is_database(place: object) -> bool:
    """Say whether a place is the URL of a database, or a catalog of lake tables."""
    return isinstance(place, str) and (
        is_lake(place) or (_URL.match(place) is not None and not is_store(place))
    )


@contextmanager
def local_tables(at: TablesAt) -> Iterator[Path]:
    """Yield the folder of tables: the one that is named, or a copy of what stands in a store or a database.

    Raises:
        SourceError: When nothing is there, or it cannot be read.
        UsageError: When it is not clear what is meant.
    """
    if not is_database(at.place):
        with local_folder(at.place) as folder:
            yield folder
        return
    if is_lake(at.place):
        with tempfile.TemporaryDirectory(prefix="tessaron-") as made:
            copy_lake(str(at.place), at.schema, at.name, Path(made))
            yield Path(made)
        return
    secret = None if at.password is None else secret_of(at.password)
    engine, name = engine_of(str(at.place), secret)
    with tempfile.TemporaryDirectory(prefix="tessaron-") as made:
        with told_by(engine, name), engine.connect() as connection:
            runs_schema = at.runs_schema if at.runs_schema is not None else at.schema
            runs = RunRecords(connection, runs_schema)
            record = _last_run(runs, at.name, name)
            _copy(connection, record, at.schema, Path(made), name)
            write_beside(record, runs.every(), Path(made))
        yield Path(made)


def _last_run(runs: RunRecords, wanted: str | None, name: str) -> RunRecord:
    found = runs.last(chosen_top(runs.tops(), wanted, name))
    assert found is not None
    return found


def _copy(connection: Any, record: RunRecord, schema: str | None, folder: Path, name: str) -> None:
    """Write the tables of a run into a folder, as an export does."""
    layout = Layout(record.layout, f"layout of run {record.run}")
    tables = layout.compiled(secret=b"any").written().tables
    made = CreateTables(dialect_named(connection.dialect.name), tables, schema)
    rows = TypedRows(connection)
    for table in tables:
        whole = table.arrow_schema()
        try:
            with pq.ParquetWriter(folder / f"{table.name}.parquet", whole) as writer:
                for batch in rows.batches(made.name(table.name), whole, row_order(table)):
                    writer.write_batch(batch.cast(whole))
        except pa.ArrowException as error:
            raise SourceError(f"{name}: {table.name}: {first_line(error)}") from error
