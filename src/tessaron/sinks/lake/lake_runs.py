"""The runs that have loaded lake tables, and the way back from one that broke off."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from types import TracebackType
from typing import Any

import pyarrow as pa

from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.database.run_records import RUNS_TABLE, RunRecord
from tessaron.sinks.lake.lake_catalogs import (
    ADDED,
    LAST_KEY,
    LAYOUT,
    MADE,
    RECEIPT,
    ROWS,
    RUN,
    TOKEN,
    TOP,
    LakeCatalog,
    catalog_of,
    told_by_lake,
)

RUNS = pa.schema(
    [
        pa.field("run", pa.int64(), nullable=False),
        *(
            pa.field(name, pa.string(), nullable=False)
            for name in ("top_table", "mode", "table_rows", "receipt", "token")
        ),
    ]
)


class LakeRuns:
    """What a catalog tells of runs: the last one of each records' table whole, the others without layout.

    A run that broke off is in the table of runs, yet not in the properties of its records' table, which it
    would have written last: it is not told.
    """

    def __init__(self, catalog: LakeCatalog):
        self._catalog = catalog

    def tops(self) -> list[str]:
        """Return the tables of records that runs have loaded, by name."""
        return sorted(self.last_ones())

    def last(self, top: str | None = None) -> RunRecord | None:
        """Return the last run that loaded the records' table `top`, or any; None if there was none."""
        found = self.last_ones()
        return found.get(top) if top is not None else max(found.values(), key=_started, default=None)

    def with_token(self, token: str) -> tuple[int, str]:
        """Return the number of the run that has this token, and its records' table; 0 where none has."""
        last = self.last_ones().values()
        return next(((each.run, each.top) for each in last if each.token == token), (0, ""))

    def every(self) -> Iterator[RunRecord]:
        """Yield all runs, the first one first."""
        last = self.last_ones()
        found = {
            (each["top_table"], each["run"]): RunRecord(
                each["run"], each["top_table"], each["mode"], json.loads(each["receipt"]), "",
                json.loads(each["table_rows"]), each["token"],
            )
            # Where a run broke off, and could not be taken back, the one behind it has its number.
            for each in sorted(self._rows(), key=lambda each: str(json.loads(each["receipt"])["started"]))
            if each["top_table"] in last and each["run"] <= last[each["top_table"]].run
        }  # fmt: skip
        found |= {(top, each.run): each for top, each in last.items()}
        yield from sorted(found.values(), key=_started)

    def _rows(self) -> list[dict[str, Any]]:
        table = self._catalog.table(RUNS_TABLE)
        return [] if table is None else table.scan().to_arrow().to_pylist()

    def last_ones(self) -> dict[str, RunRecord]:
        """Return the last run of each records' table."""
        found = {name: self._catalog.table(name) for name in self._catalog.names()}
        told = {name: table.properties for name, table in found.items() if table is not None}
        return {name: _record_of(name, each) for name, each in told.items() if each.get(TOP) == name}


def _record_of(top: str, told: Mapping[str, str]) -> RunRecord:
    """Return the last run, by the properties of its records' table."""
    receipt, rows = json.loads(told[RECEIPT]), json.loads(told[ROWS])
    is_alone = rows == {table["name"]: table["rows"] for table in receipt["tables"]}
    mode = "create" if is_alone else "append"
    return RunRecord(int(told[RUN]), top, mode, receipt, told[LAYOUT], rows, told.get(TOKEN, ""))


def _started(record: RunRecord) -> tuple[str, int]:
    return str(record.receipt["started"]), record.run


class OpenLake:
    """A catalog that is open for runs that are alone, which the lock of their ledger sees to.

    Args:
        place: As in `lake_catalogs`.
        namespace: Where the tables are; `default` if not given.

    Attributes:
        name: What it is called in messages.
        past_runs: The runs that have loaded before.
    """

    def __init__(self, place: str, namespace: str | None):
        self.catalog = catalog_of(place, namespace)
        self.name, self.past_runs = self.catalog.name, LakeRuns(self.catalog)

    def __enter__(self) -> OpenLake:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Do nothing: there is no connection."""

    def begin_alone(self) -> None:
        """Take back what a run has left that broke off between two tables.

        Raises:
            TargetError: When the catalog does not take that.
        """
        with self.told():
            done = {top: record.run for top, record in self.past_runs.last_ones().items()}
            for name in self.catalog.names():
                table = self.catalog.table(name)
                if table is not None and (
                    _is_ahead(table.properties, done) or _snapshot_is_ahead(table, done)
                ):
                    self._take_back(table, done)

    def _take_back(self, table: Any, done: Mapping[str, int]) -> None:
        """Let a table be what it was before runs that broke off."""
        properties = table.properties
        if int(properties.get(MADE, 0)) > done.get(properties.get(TOP, ""), 0):
            self.catalog.catalog.purge_table(table.name())
            return
        before = table.current_snapshot()
        while _is_ahead(_told_of(before), done):
            before = (
                None if before.parent_snapshot_id is None else table.snapshot_by_id(before.parent_snapshot_id)
            )
        if _is_ahead(properties, done):
            # First: were this to break off here, the rows would still be known not to belong here.
            told = _told_of(before)
            with table.transaction() as change:
                with change.update_schema(allow_incompatible_changes=True) as update:
                    for name in json.loads(properties.get(ADDED, "[]")):
                        update.delete_column(name)
                change.set_properties(
                    {RUN: told.get(RUN, "0"), LAST_KEY: told.get(LAST_KEY, "0"), ADDED: "[]"}
                )
        if not _snapshot_is_ahead(table, done):
            return
        if before is None:
            table.delete()
        else:
            table.manage_snapshots().rollback_to_snapshot(before.snapshot_id).commit()

    def row_of(self, table: Table, key: int | str) -> Mapping[str, Any] | None:
        """Return the row of a table with a key, as values by column; None where there is none."""
        from pyiceberg.expressions import EqualTo

        there, names = self.catalog.table(table.name), tuple(table.arrow_schema().names)
        if there is None:
            return None
        equal_to: Any = EqualTo
        found = there.scan(equal_to(table.row_key, key), selected_fields=names).to_arrow().to_pylist()
        return found[0] if found else None

    def commit(self) -> None:
        """Do nothing: what is to be seen is."""

    def told(self) -> Any:
        """Return a context in which what the catalog says becomes an error that names it."""
        return told_by_lake(self.name, TargetError)


def _told_of(snapshot: Any | None) -> Mapping[str, str]:
    """Return what a snapshot says of the run that has made it."""
    told: Mapping[str, str] = {} if snapshot is None else snapshot.summary.additional_properties
    return told


def _is_ahead(told: Mapping[str, str], done: Mapping[str, int]) -> bool:
    """Say whether properties are of a run that its records' table does not know."""
    return TOP in told and int(told[RUN]) > done.get(told[TOP], 0)


def _snapshot_is_ahead(table: Any, done: Mapping[str, int]) -> bool:
    return _is_ahead(_told_of(table.current_snapshot()), done)
