"""Lake tables (Apache Iceberg) as target: rows are put aside, then each table gets all of them in one commit.

No commit spans several tables; so children come first and the records' table last, with the number of the
run: who finds that run there finds all tables of it. Each snapshot says which run has made it.
"""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import islice
from pathlib import Path
from types import TracebackType
from typing import Any

import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.layout.table_set import Table
from tessaron.core.types.column_types import ColumnType
from tessaron.sinks.collected_rows import CollectedRows
from tessaron.sinks.database.existing_tables import listed
from tessaron.sinks.database.load_target import RowsThere
from tessaron.sinks.database.run_records import (
    REJECT_NUMBERS,
    REJECT_TEXTS,
    REJECTS_TABLE,
    RUNS_TABLE,
    RunRecord,
)
from tessaron.sinks.ddl.create_tables import parents_first, path_of
from tessaron.sinks.lake.lake_catalogs import (
    ADDED,
    KEY,
    LAST_KEY,
    LAYOUT,
    MADE,
    RECEIPT,
    REFERENCES,
    ROWS,
    RUN,
    TOKEN,
    TOP,
    catalog_of,
    told_by_lake,
)
from tessaron.sinks.lake.lake_runs import RUNS
from tessaron.sinks.load_modes import LoadMode

_SECOND_DIGITS = 6
_REJECTS_AT_ONCE = 10_000
_REJECTS = pa.schema(
    [
        pa.field("run", pa.int64(), nullable=False),
        *(pa.field(name, pa.string()) for name in REJECT_TEXTS),
        *(pa.field(name, pa.int64()) for name in REJECT_NUMBERS),
    ]
)


class LakeTarget:
    """A context in which rows are put aside; `commit` makes them part of the tables, one after the other.

    Args:
        place: As in `lake_catalogs`.
        mode: `create`, `append` or `replace`.
        namespace: Where the tables are; `default` if not given.
        grows: Whether columns may get the wider types that lake tables can change to.

    Attributes:
        name: What the catalog is called in messages.
        kind: What receipts call it.

    Raises:
        UsageError: When the catalog cannot be right.
    """

    kind = "iceberg"

    def __init__(self, place: str, mode: LoadMode, namespace: str | None = None, grows: bool = False):
        self._catalog = catalog_of(place, namespace)
        self.name, self._mode, self._grows = self._catalog.name, mode, grows
        self._folder = tempfile.TemporaryDirectory(prefix="tessaron-")
        self._writers: dict[str, Any] = {}
        self._before: dict[str, Any] = {}
        self.removed: dict[str, int] = {}

    def __enter__(self) -> LakeTarget:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for writer in self._writers.values():
            writer.close()
        self._folder.cleanup()

    def loaded_before(self) -> dict[str, str]:
        """Return the tables of records that runs have loaded, with the layout of the last run of each."""
        with self._told():
            found = {name: self._catalog.table(name) for name in self._catalog.names()}
        return {
            name: table.properties[LAYOUT]
            for name, table in found.items()
            if table is not None and table.properties.get(TOP) == name
        }

    def begin(self, tables: Sequence[Table], required: frozenset[str], most_bytes: int) -> None:
        """Look at what is there, and begin to put rows aside.

        Raises:
            TargetError: When tables are there that may not be, or have other types.
            UsageError: When lake tables cannot hold a column.
        """
        for table in tables:
            for column in table.columns:
                if column.type.second_digits > _SECOND_DIGITS:
                    digits = f"{column.type.second_digits} digits of a second"
                    raise UsageError(
                        f"{table.name}.{column.name} has {digits}; lake tables keep {_SECOND_DIGITS}; change "
                        "the layout there"
                    )
        self._tables = parents_first(tables)
        with self._told():
            found = {table.name: self._catalog.table(table.name) for table in tables}
        self._before = {name: table for name, table in found.items() if table is not None}
        self._check_there()
        for table in tables:
            path = Path(self._folder.name, f"{len(self._writers)}.arrow")
            self._writers[table.name] = pa.ipc.new_file(str(path), table.arrow_schema())
        self._paths = {name: Path(self._folder.name, f"{at}.arrow") for at, name in enumerate(self._writers)}
        self.collected = CollectedRows(tables, most_bytes, self._put_aside)

    def last_keys(self) -> dict[str, int]:
        """Return the largest key of each table that was there and stays."""
        if self._mode != "append":
            return {}
        return {name: int(table.properties.get(LAST_KEY, 0)) for name, table in self._before.items()}

    def write(self, batches: Mapping[str, ArrowRows]) -> None:
        """Take in rows of tables."""
        self.collected.add(batches)

    def finish(self) -> dict[str, RowsThere]:
        """Put aside what is left; return how many rows there are to be."""
        for table in self._tables:
            if self.collected.waits(table.name):
                self.collected.flush(table.name)
        for writer in self._writers.values():
            writer.close()
        rows = {}
        for table in self._tables:
            before = 0 if self._mode == "replace" else self._count(self._before.get(table.name))
            rows[table.name] = RowsThere(before, before + self.collected.rows[table.name])
        return rows

    def next_number(self) -> int:
        """Return the number of the next run."""
        known = [int(table.properties.get(RUN, 0)) for table in self._before.values()]
        return max(known, default=0) + 1

    def commit(
        self, record: RunRecord, rejects: Iterator[Mapping[str, Any]], also: Callable[[RunRecord], None]
    ) -> None:
        """Make the rows part of the tables: children first, the records' table last.

        What else belongs to it is done before: what is in the tables then says whether it holds.

        Raises:
            TargetError: When the catalog does not take a commit; tables behind it are as they were then.
        """
        last = [table for table in self._tables if table.name == record.top]
        ordered = [table for table in reversed(self._tables) if table.name != record.top] + last
        also(record)
        with self._told():
            self._catalog.catalog.create_namespace_if_not_exists(self._catalog.namespace)
            self._add_rejects(record, rejects)
            self._add_run(record)
            for table in ordered:
                self._commit(table, record)
            for table in ordered:
                expected, there = record.rows[table.name], self._count(self._catalog.table(table.name))
                if there != expected:
                    raise TargetError(
                        f"{self.name}: {table.name} has {there:,} rows, expected {expected:,}: another load "
                        "was under way; replace the tables"
                    )

    def _add_rejects(self, record: RunRecord, rejects: Iterator[Mapping[str, Any]]) -> None:
        """Append what the run has rejected to a table of its own."""
        while rows := [{"run": record.run, **each} for each in islice(rejects, _REJECTS_AT_ONCE)]:
            self._append(REJECTS_TABLE, _REJECTS, rows, record)

    def _add_run(self, record: RunRecord) -> None:
        """Append the run to the table of runs."""
        row = {
            "run": record.run, "top_table": record.top, "mode": record.mode, "token": record.token,
            "table_rows": json.dumps(record.rows), "receipt": json.dumps(record.receipt),
        }  # fmt: skip
        self._append(RUNS_TABLE, RUNS, [row], record)

    def _append(self, name: str, schema: Any, rows: list[dict[str, Any]], record: RunRecord) -> None:
        found = self._catalog.table(name)
        if found is None:
            found = self._catalog.catalog.create_table((self._catalog.namespace, name), schema=schema)
        found.append(pa.Table.from_pylist(rows, schema=schema), snapshot_properties=_of_run(record))

    def answer(self, tables: Sequence[Table]) -> tuple[str, int]:
        """Return nothing: no query language is at hand."""
        return "", 0

    def _commit(self, table: Table, record: RunRecord) -> None:
        schema, found = _described(table), self._before.get(table.name)
        properties = self._properties(table, record)
        told = {**_of_run(record), LAST_KEY: properties.get(LAST_KEY, "0")}
        if found is None:
            # So that a table is made with its rows, or not at all.
            identifier = (self._catalog.namespace, table.name)
            begun = self._catalog.catalog.create_table_transaction(identifier, schema)
            properties[MADE] = str(record.run)
        else:
            begun = found.transaction()
            there = set(found.schema().column_names)
            properties[ADDED] = json.dumps([name for name in schema.names if name not in there])
        with pa.memory_map(str(self._paths[table.name])) as source, begun as change:
            if found is not None:
                with change.update_schema() as update:
                    update.union_by_name(schema)
            rows = _reader(pa.ipc.open_file(source), change.table_metadata.schema().as_arrow(), table)
            if self._mode == "replace":
                change.overwrite(rows, snapshot_properties=told)
            elif self.collected.rows[table.name]:
                change.append(rows, snapshot_properties=told)
            change.set_properties(properties)

    def _properties(self, table: Table, record: RunRecord) -> dict[str, str]:
        told = {
            KEY: table.row_key,
            REFERENCES: json.dumps(dict(table.references())),
            **_of_run(record),
        }
        if table.key_type == "integer":
            told[LAST_KEY] = str(self.last_keys().get(table.name, 0) + self.collected.rows[table.name])
        if table.name == record.top:
            told |= {
                LAYOUT: record.layout,
                RECEIPT: json.dumps(record.receipt),
                ROWS: json.dumps(record.rows),
                TOKEN: record.token,
            }
        return told

    def _check_there(self) -> None:
        if self._before and self._mode == "create":
            names = ", ".join(sorted(self._before)[:5])
            raise TargetError(
                f"{self.name}: {names}: there already; say what becomes of it: --mode append or replace, or "
                "another --schema-name"
            )
        differences = []
        for table in self._tables:
            found = self._before.get(table.name)
            there = {} if found is None else {each.name: each for each in found.schema().as_arrow()}
            for field in table.arrow_schema():
                other = there.get(field.name)
                if other is not None and not self._takes(other.type, field.type):
                    differences.append(
                        f"{table.name}.{field.name} is {other.type} there, and {field.type} here"
                    )
        if differences:
            hint = "--as-before loads by the layout of the last run"
            raise TargetError(f"{self.name}: columns there have other types; {hint}:{listed(differences)}")

    def _takes(self, there: Any, here: Any) -> bool:
        """Say whether a column takes values of a type, if need be once it has got that."""
        if _plain(there) == _plain(here):
            return True
        if not (pa.types.is_decimal(there) and pa.types.is_decimal(here)) or there.scale != here.scale:
            return False
        return self._grows or bool(there.precision > here.precision)

    def can_widen(self, before: ColumnType, after: ColumnType) -> bool:
        """Say whether a column can get a wider type: by Iceberg's rules decimals can, of the same scale."""
        return before.arrow_type() == after.arrow_type() or (
            before.name == after.name == "decimal" and before.scale == after.scale
        )

    def _put_aside(self, name: str, rows: ArrowRows) -> None:
        self._writers[name].write_table(rows)

    def _count(self, table: Any | None) -> int:
        snapshot = None if table is None else table.current_snapshot()
        return 0 if snapshot is None else int(snapshot.summary["total-records"])

    def _told(self) -> Any:
        return told_by_lake(self.name, TargetError)


def _of_run(record: RunRecord) -> dict[str, str]:
    """Return what a snapshot says of the run that has made it."""
    return {RUN: str(record.run), TOP: record.top}


def _described(table: Table) -> Any:
    """Return the columns of a table, each with the path that it comes from."""
    paths = {column.name: path_of(column) for column in table.columns}
    return pa.schema(
        field.with_metadata({"doc": paths[field.name]}) if paths.get(field.name) else field
        for field in table.arrow_schema()
    )


def _plain(kind: Any) -> str:
    return str(kind).removeprefix("large_")


def _reader(file: Any, schema: Any, table: Table) -> Any:
    """Return the rows that were put aside, with nulls in columns that only the lake table has."""
    own = table.arrow_schema()
    fields = [
        own.field(field.name) if field.name in own.names else pa.field(field.name, field.type)
        for field in schema
    ]
    wanted = pa.schema(fields)

    def batches() -> Any:
        for number in range(file.num_record_batches):
            batch = file.get_batch(number)
            arrays = [
                batch.column(field.name) if field.name in own.names else pa.nulls(batch.num_rows, field.type)
                for field in wanted
            ]
            yield pa.RecordBatch.from_arrays(arrays, schema=wanted)

    return pa.RecordBatchReader.from_batches(wanted, batches())
