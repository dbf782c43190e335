"""Loading: the tables of a source, or of an export, into a database, whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import ExitStack
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Unpack

from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.layout.table_set import Table, TableSet
from tessaron.engine.feeds import NoProgress, Progress
from tessaron.engine.options import Options
from tessaron.engine.receipt_text import plain_data, spread_json
from tessaron.engine.run_options import RunOptions
from tessaron.sinks.database.create_tables import required_columns
from tessaron.sinks.database.database_target import MODES, DatabaseTarget, LoadMode, RowsThere
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sources.inputs import ByteInput
from tessaron.sources.resolving import Source, resolve_inputs
from tessaron.sources.web.secret_values import secret_of
from tessaron.write.books.receipt import Receipt
from tessaron.write.books.receipt_making import Clock, Written, receipt_of
from tessaron.write.exported_rows import ExportedRows, is_export
from tessaron.write.table_run import start_run

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout


@dataclass(frozen=True, slots=True)
class TableLoaded:
    """One table in the database: its rows before and after, and those that were put in and taken out."""

    name: str
    before: int
    written: int
    removed: int
    after: int


@dataclass(frozen=True, slots=True)
class Loaded:
    """What a load did.

    Attributes:
        receipt: The receipt, which the database has, too.
        mode: What it did with tables that were there.
        run: Its number in the table `tessaron_runs`.
        tables: The tables, parents before children.
        question: A query that joins tables by their keys.
        answer: How many rows it returns.
    """

    receipt: Receipt
    mode: str
    run: int
    tables: tuple[TableLoaded, ...]
    question: str = ""
    answer: int = 0

    @property
    def passed(self) -> bool:
        """Whether nothing was rejected and every key is one."""
        return self.receipt.passed

    def to_json(self) -> str:
        """Return all of it as JSON."""
        data: dict[str, Parsed] = {**plain_data(self), "receipt": self.receipt.to_dict()}
        return spread_json(data) + "\n"


def load(
    source: Source,
    to: str,
    *,
    mode: LoadMode = "create",
    schema: str | None = None,
    runs_schema: str | None = None,
    into_existing: bool = False,
    password: str | None = None,
    progress: Progress | None = None,
    layout: Layout | None = None,
    **options: Unpack[RunOptions],
) -> Loaded:
    """Load the tables that the records of `source` make into a database, in one transaction.

    Args:
        source: As in `export`; or the folder of an export, whose files are loaded.
        to: The database, as SQLAlchemy spells it: `sqlite:///office.db`, `postgresql://user@host/name`.
        mode: `create` makes the tables, and refuses where one is there; `append` adds rows, with keys that go
            on; `replace` empties tables that are there.
        schema: The schema that the tables stand in; made if need be.
        runs_schema: The schema of the table `tessaron_runs`; else that of the tables.
        into_existing: Whether tables that are there may differ from those that would be made, as far as they
            take the rows.
        password: Where the password stands: `env:NAME`, `file:PATH`, `keyring:SERVICE/USER`.
        progress: Is told how far the run is.
        layout: Which tables to make; else they are drafted from the data.
        **options: As in `shred`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is neither JSON nor XML.
        TargetError: When the database does not take something; it is as before then.
        UsageError: When an argument cannot be right.
    """
    if mode not in MODES:
        raise UsageError(f"expected a mode of {', '.join(MODES)}, got {mode!r}")
    clock, told = Clock(), progress or NoProgress()
    settled = Options.of(options)
    secret = None if password is None else secret_of(password)
    with ExitStack() as stack:
        target = stack.enter_context(
            DatabaseTarget(to, mode, schema, runs_schema, into_existing, secret, told.say)
        )
        if isinstance(source, (str, Path)) and is_export(source):
            if options or layout is not None:
                raise UsageError(
                    f"{source}: is an export, whose tables are loaded as they are: leave out options"
                )
            return _load_export(Path(source), target, mode)
        inputs = resolve_inputs(source)
        run = start_run(inputs, settled, told, stack, layout)
        plan = run.read()
        required = frozenset() if layout is None else required_columns(layout.part)
        target.begin(plan.tables, required, settled.collected_bytes())
        run.go_on_from(target.last_keys())
        for rows in run.rows():
            target.write(rows)
            rows.clear()
        there = target.finish()
        done = run.done()
        written = Written(target.collected.rows, target.collected.values)
        receipt = receipt_of(done, plan, written, settled, clock, target.dialect.name, target.name, layout)
        loaded = _recorded(target, plan, there, receipt, run.layout_text(), mode, done.top)
    for entry in inputs:
        if isinstance(entry, ByteInput) and entry.finished is not None:
            entry.finished()
    return loaded


def _load_export(folder: Path, target: DatabaseTarget, mode: LoadMode) -> Loaded:
    """Load the files of an export."""
    exported = ExportedRows(folder)
    target.begin(exported.tables.tables, exported.required, exported.most_bytes)
    for rows in exported.rows(target.last_keys()):
        target.write(rows)
    there = target.finish()
    receipt = exported.receipt_for(target.dialect.name, target.name)
    return _recorded(target, exported.tables, there, receipt, exported.layout.text, mode, exported.top)


def _recorded(
    target: DatabaseTarget,
    tables: TableSet,
    there: Mapping[str, RowsThere],
    receipt: Receipt,
    layout: str,
    mode: str,
    top: str,
) -> Loaded:
    """Check the counts, record the run, let all of it be seen, and ask the database a question."""
    loaded = []
    for table in tables.tables:
        rows = there[table.name]
        put_in = target.collected.rows[table.name]
        removed = rows.before + put_in - rows.after
        if removed:
            raise TargetError(
                f"{target.name}: {table.name} has {rows.after:,} rows, expected {rows.before + put_in:,}: "
                f"{rows.before:,} were there and {put_in:,} came; nothing was loaded"
            )
        loaded.append(TableLoaded(table.name, rows.before, put_in, removed, rows.after))
    run = target.runs.next_number()
    record = RunRecord(
        run, top, mode, receipt.to_dict(), layout, {name: rows.after for name, rows in there.items()}
    )
    question = _question(tables.tables, target.made.name, target.dialect.quoted)
    target.commit(record)
    return Loaded(receipt, mode, run, tuple(loaded), question, target.answer(question) if question else 0)


def _question(tables: tuple[Table, ...], name_of: Callable[[str], str], quoted: Callable[[str], str]) -> str:
    """Return the query that joins the longest chain of tables by their keys; empty where there is none."""
    by_name = {table.name: table for table in tables}
    chains = [_chain(table, by_name) for table in tables]
    chain = max(chains, key=len, default=[])
    if len(chain) < 2:
        return ""
    parts = [f"SELECT count(*) FROM {name_of(chain[0].name)} AS t1"]
    for number, (above, below) in enumerate(pairwise(chain), 2):
        on = f"t{number}.{quoted(str(below.parent_key))} = t{number - 1}.{quoted(above.row_key)}"
        parts.append(f"JOIN {name_of(below.name)} AS t{number} ON {on}")
    return "\n".join(parts)


def _chain(table: Table, by_name: Mapping[str, Table]) -> list[Table]:
    """Return a table with those above it, the outermost first."""
    found = [table]
    while (parent := found[0].only_parent()) is not None and parent in by_name:
        found.insert(0, by_name[parent])
    return found
