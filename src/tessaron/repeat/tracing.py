"""Tracing a row back: which run has loaded it, and from which record of which source."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.errors import SourceError, TessaronError, UsageError
from tessaron.core.base.paths import ELEMENT, Origin, format_path
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import Table
from tessaron.decide.layout_file import Layout
from tessaron.engine.options import Options
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.repeat.ledgers.ledger import Ledger, feeds_of
from tessaron.repeat.opened_targets import is_folder, opened_target
from tessaron.sinks.database.open_database import OpenDatabase
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.ddl.create_tables import CreateTables
from tessaron.sinks.ddl.known_dialects import dialect_named
from tessaron.sinks.receipt_text import plain_data, spread_json
from tessaron.sinks.target_folder import LAYOUT_FILE
from tessaron.sources.exported.table_folder import TableFolder
from tessaron.sources.forms.file_form import FileForm
from tessaron.sources.resolving import resolve_inputs
from tessaron.write.books.receipt import read_receipt
from tessaron.write.exported_rows import is_export
from tessaron.write.table_run import start_run

_RECORD, _LINE = "tessaron_origin_record", "tessaron_origin_line"


@dataclass(frozen=True, slots=True)
class Traced:
    """Where a row is from.

    Attributes:
        table: Its table.
        key: Its key.
        row: Its values.
        top: The table of the records.
        top_key: The key of the record's row.
        place: Where in the record the row stands, as JSONPath; XPath for XML.
        run: The run that has loaded it; None where several may have.
        started: When that was.
        source: The source; None where it was not found.
        record: The number of the record in it, from 1.
        line: Its line, from 1; None where the source has none.
        text: The record itself; None where the source is not here.
        looked_in: The sources that were looked through.
        missing: Those that are not there any more.
    """

    table: str
    key: str
    row: Mapping[str, Any]
    top: str
    top_key: str
    place: str
    run: int | None = None
    started: str = ""
    source: str | None = None
    record: int | None = None
    line: int | None = None
    text: str | None = None
    looked_in: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()

    def to_json(self) -> str:
        """Return all of it as JSON."""
        return spread_json(plain_data(self)) + "\n"


def trace(
    target: str | Path,
    table: str,
    key: str | int,
    *,
    schema: str | None = None,
    runs_schema: str | None = None,
    password: str | None = None,
    progress: Progress | None = None,
) -> Traced:
    """Return which run has loaded a row, and from which record of which source.

    Args:
        target: The URL of a database that runs have loaded, a catalog of lake tables, or the folder of an
            export.
        table: The table.
        key: The primary key of the row.
        schema: As in `load`.
        runs_schema: As in `load`.
        password: As in `load`.
        progress: Is told what is being looked through.

    Raises:
        SourceError: When no run has loaded such a table.
        UsageError: When there is no such row.
    """
    told = progress or NoProgress()
    if is_folder(target):
        return _traced_in_folder(Path(target), table, key, told)
    with opened_target(str(target), schema, runs_schema, password) as opened, opened.told():
        runs = _runs_of(list(opened.past_runs.every()), table, opened.name)
        names = {run.run: run.receipt.get("full_names", ()) for run in runs}
        if isinstance(opened, OpenDatabase):
            rows = _Rows(runs[-1], partial(_row_in_database, opened))
            names |= _full_names(opened, runs[-1].top)
        else:
            rows = _Rows(runs[-1], opened.row_of)
        found = rows.traced(table, key)
    return _searched(found, _known_runs(runs, found), rows, names, told)


def _traced_in_folder(folder: Path, table: str, key: str | int, told: Progress) -> Traced:
    """Trace a row of the tables of an export."""
    if not is_export(folder):
        raise SourceError(f"{folder}: is no folder of an export, nor the URL of a database")
    receipt, layout = read_receipt(folder), Layout.read(folder / LAYOUT_FILE)
    rows = {str(each["name"]): int(each["rows"]) for each in receipt["tables"]}
    plans = layout.compiled(secret=b"any").records.tables
    top = next((each.name for each in plans if not each.level), "")
    whole = receipt.get("runs", [{**receipt, "run": 1}])
    tables = {"tables": receipt["tables"]}
    every = [RunRecord(each["run"], top, "append", {**each, **tables}, layout.text, rows) for each in whole]
    runs = _runs_of(every, table, str(folder))
    files = TableFolder(folder, FileForm.of(receipt), "runs" in receipt)
    of_folder = _Rows(runs[-1], partial(_row_in_folder, files))
    found = of_folder.traced(table, key)
    names = {run.run: run.receipt.get("full_names", ()) for run in runs}
    return _searched(found, _known_runs(runs, found), of_folder, names, told)


def _known_runs(runs: Sequence[RunRecord], found: Traced) -> list[RunRecord]:
    """Return the runs that may have loaded a record."""
    return [run for run in runs if _may_have(run, runs, found)]


def _runs_of(every: Sequence[RunRecord], table: str, name: str) -> list[RunRecord]:
    """Return the runs that have loaded a table, the first one first."""
    found = [run for run in every if any(each["name"] == table for each in run.receipt["tables"])]
    if not found:
        there = sorted({each["name"] for run in every for each in run.receipt["tables"]})
        hint = f"; there are {', '.join(there[:8])}" if there else ""
        raise SourceError(f"{name}: no run has loaded a table {in_quotes(table)}{hint}")
    return [run for run in found if run.top == found[-1].top]


def _may_have(run: RunRecord, runs: Sequence[RunRecord], found: Traced) -> bool:
    """Say whether a run may have loaded a record: sequence keys tell which; of digests any may have."""
    if not found.top_key.isdigit() or "keys_before" not in run.receipt:
        return True
    begins = [int(each.receipt.get("keys_before", {}).get(run.top, 0)) for each in runs]
    place = runs.index(run)
    before, after = begins[place], next((each for each in begins[place + 1 :] if each > begins[place]), None)
    return before < int(found.top_key) and (after is None or int(found.top_key) <= after)


def _full_names(database: OpenDatabase, top: str) -> dict[int, list[str]]:
    """Return the full names of the sources of each run, where a ledger in the database has them."""
    names: dict[int, list[str]] = {}
    if top in feeds_of(database.connection, database.runs_schema, ""):
        for entry in Ledger(database.connection, database.runs_schema, "", top).every():
            names.setdefault(entry.run, []).append(entry.source)
    return names


class _Rows:
    """The rows of a target, by their keys.

    Args:
        run: The last run.
        row: Returns the row of a table with a key, as values by column; None where there is none.
    """

    def __init__(self, run: RunRecord, row: Callable[[Table, int | str], Mapping[str, Any] | None]):
        self.layout = Layout(run.layout, f"layout of run {run.run}")
        self.compiled = self.layout.compiled(secret=b"any")
        self.tables = {table.name: table for table in self.compiled.written().tables}
        self.top = self.tables[run.top]
        self._fetch = row
        self.record_row: Mapping[str, Any] = {}

    def traced(self, name: str, key: str | int) -> Traced:
        """Return a row, and where in its record it stands."""
        chain: list[tuple[Table, Mapping[str, Any]]] = []
        table: Table | None = self.tables[name]
        wanted: str | int = key
        while table is not None:
            row = self._row(table, wanted)
            chain.insert(0, (table, row))
            above = self._parent(table, row)
            if above is None:
                break
            table, wanted = self.tables[above], row[str(table.parent_key)]
        self.record_row = chain[0][1]
        top, own = chain[0][0], chain[-1][1]
        shown = {column: str(value) for column, value in own.items() if value is not None}
        return Traced(name, str(key), shown, top.name, str(self.record_row[top.row_key]), _place(chain))

    def _parent(self, table: Table, row: Mapping[str, Any]) -> str | None:
        if table.parent_key is None:
            return None
        if not table.refers_by_place():
            return table.only_parent()
        return next((each.parent for each in table.places if each.path == row[str(table.place_key)]), None)

    def _row(self, table: Table, key: str | int) -> Mapping[str, Any]:
        if table.key_type == "integer" and not str(key).isdigit():
            raise UsageError(f"{table.name}.{table.row_key} is a number, got {in_quotes(str(key))}")
        row = self._fetch(table, int(key) if table.key_type == "integer" else str(key))
        if row is None:
            raise UsageError(f"{table.name} has no row whose {table.row_key} is {key}")
        return row


def _row_in_database(database: OpenDatabase, table: Table, key: int | str) -> Mapping[str, Any] | None:
    from sqlalchemy import bindparam, text

    made = CreateTables(dialect_named(database.dialect_name), [table], database.schema)
    names, quoted = table.arrow_schema().names, made.dialect.quoted
    # What stands behind a colon would be a parameter.
    columns = ", ".join(map(quoted, names)).replace(":", "\\:")
    where = f"{made.name(table.name)} WHERE {quoted(table.row_key)}".replace(":", "\\:")
    query = text(f"SELECT {columns} FROM {where} = :key").bindparams(bindparam("key", key))
    row = database.connection.execute(query).first()
    return None if row is None else dict(zip(names, row, strict=True))


def _row_in_folder(files: TableFolder, table: Table, key: int | str) -> Mapping[str, Any] | None:
    for batch in files.batches(table, table.arrow_schema().names):
        place = pc.index(batch.column(table.row_key), key).as_py()
        if place >= 0:
            row: Mapping[str, Any] = batch.slice(place, 1).to_pylist()[0]
            return row
    return None


def _place(chain: Sequence[tuple[Table, Mapping[str, Any]]]) -> str:
    """Return where in its record a row stands: the path of its table with the numbers of the elements."""
    table, _ = chain[-1]
    ordinals = [row[each.ordinal] for each, row in chain if each.ordinal is not None]
    numbers = [int(each) for each in ordinals if each]
    parts = format_path(table.rows).split("[*]") if ELEMENT in table.rows else [format_path(table.rows)]
    made = parts[0]
    for number, part in enumerate(parts[1:]):
        index = f"[{numbers[number] - 1}]" if number < len(numbers) else "[*]"
        made += index + part
    return made


def _searched(
    found: Traced, runs: Sequence[RunRecord], rows: _Rows, names: Mapping[int, Sequence[str]], told: Progress
) -> Traced:
    """Return what was traced with the record that it is from, as far as its source is here."""
    if len(runs) == 1:
        found = replace(found, run=runs[0].run, started=str(runs[0].receipt["started"]))
    layout = rows.layout.set_column(rows.top.name, _RECORD, origin="origin_record")
    layout = layout.set_column(rows.top.name, _LINE, origin="origin_line")
    is_same = _comparison(rows)
    looked, missing = [], []
    for run in reversed(runs):
        for name in names.get(run.run) or [str(each["name"]) for each in run.receipt["sources"]]:
            told.say(f"looks through {name}")
            try:
                place = next(_places(name, layout, rows.top, is_same), None)
            except TessaronError:
                missing.append(name)
                continue
            looked.append(name)
            if place is not None:
                number, line = place
                found = replace(found, run=run.run, started=str(run.receipt["started"]), source=name)
                text = _text_of(name, rows, number)
                found = replace(found, record=number, line=line, text=text)
                return replace(found, looked_in=tuple(looked), missing=tuple(missing))
    return replace(found, looked_in=tuple(looked), missing=tuple(missing))


def _comparison(rows: _Rows) -> Callable[[Any], Any]:
    """Return what tells which rows of a batch are the record's: by its key, or else by all its values."""
    top, row = rows.top, rows.record_row
    columns = tuple(rows.compiled.keys.get(top.name, ()))
    if top.key_type == "text":
        columns = (top.row_key,)
    elif not columns:
        columns = tuple(each.name for each in top.columns if not isinstance((each.path or ("",))[-1], Origin))

    def is_same(batch: Any) -> Any:
        found = pa.repeat(True, batch.num_rows)
        for name in columns:
            values = batch.column(name)
            wanted = row[name]
            texts = values.cast(pa.large_string()) if not pa.types.is_large_string(values.type) else values
            same = pc.is_null(values) if wanted is None else pc.equal(texts, _as_text(wanted, values.type))
            found = pc.and_(found, pc.fill_null(same, False))
        return found

    return is_same


def _as_text(value: Any, kind: Any) -> str:
    """Return a value of a database as Arrow writes one of this type."""
    if isinstance(value, (bool, int)) and pa.types.is_boolean(kind):
        return "true" if value else "false"
    for given, first in ((value, kind), (str(value), pa.large_string())):
        # SQLite knows neither times nor decimals: there they are texts and doubles.
        try:
            return str(pa.array([given], first).cast(kind).cast(pa.large_string())[0].as_py())
        except (pa.ArrowException, TypeError):
            continue
    return str(value)


def _places(
    name: str, layout: Layout, top: Table, is_same: Callable[[Any], Any]
) -> Iterator[tuple[int, int | None]]:
    """Yield the number and line of each record of a source that is the one that is looked for."""
    with ExitStack() as stack:
        source = name if "://" in name else Path(name)
        run = start_run(resolve_inputs(source), Options(), NoProgress(), stack, layout)
        run.read()
        for batches in run.rows():
            batch: Any = batches[top.name]
            for place in pc.indices_nonzero(is_same(batch)).to_pylist():
                line = batch.column(_LINE)[place].as_py()
                yield int(batch.column(_RECORD)[place].as_py()), None if line is None else int(line)


def _text_of(name: str, rows: _Rows, number: int) -> str | None:
    """Return a record of a source by its number, as text."""
    from tessaron.engine.path_reading import Found
    from tessaron.look.finding import find

    reading = rows.compiled.reading
    if reading.format == "xml":
        return None
    source = name if "://" in name else Path(name)
    for found in find(source, "$", records=reading.records):
        if isinstance(found, Found) and found.record == number:
            return found.json()
    return None
