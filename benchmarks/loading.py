"""Loading beside what people would do by hand: psql's copy of an export, and executemany of ready tuples.

    TESSARON_BENCH_POSTGRES=postgresql://user@host/name python benchmarks/loading.py [RECORDS]

Prints ratios of medians, both sides in one run. The database named loses its schema `bench`.
"""

from __future__ import annotations

import json
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import tessaron
from tessaron.sinks.database.row_writers import sqlite_values
from tessaron.sinks.ddl.create_tables import CreateTables
from tessaron.sinks.ddl.known_dialects import dialect_named
from tessaron.sinks.file_writers import in_shown_units
from tessaron.sources.demo.vessel_calls import write_calls

RECORDS, ROUNDS, CHANGED = 60_000, 3, 100
"""Every hundredth record is changed before it is merged."""


def seconds(action: Callable[[], object]) -> float:
    begin = time.perf_counter()
    action()
    return time.perf_counter() - begin


def compared(
    name: str, base: Callable[[], object], other: Callable[[], object], bar: str, reset: Callable[[], object]
) -> None:
    """Measure two ways in turn, and print the ratio of their medians."""
    pairs = []
    for _ in range(ROUNDS):
        reset()
        first = seconds(base)
        reset()
        pairs.append((first, seconds(other)))
    first, second = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(f"{name:<58} {first:6.2f} s  {second:6.2f} s  {second / first:5.2f} times  ({bar})")


def by_psql(calls: Path, folder: Path, url: str) -> None:
    """Export as CSV, make the tables, and copy the files into them; keys and references come last."""
    tessaron.export(calls, folder / "tables", format="csv", replace=True, name="calls")
    tables = tessaron.Layout.read(folder / "tables" / "layout.toml").compiled(secret=b"x").written().tables
    made = CreateTables(dialect_named("postgresql"), tables, "bench")
    lines = ["CREATE SCHEMA bench;", *(f"{made.create(table, False)};" for table in made.tables)]
    lines += [
        f"\\copy {made.name(table.name)} FROM '{table.name}.csv' WITH (FORMAT csv, HEADER true)"
        for table in made.tables
    ]
    lines += [f"{each};" for table in made.tables for each in (*made.keys(table), *made.indexes(table))]
    (folder / "by_hand.sql").write_text("\n".join(lines), "utf-8")
    command = ["psql", url, "-q", "-1", "-v", "ON_ERROR_STOP=1", "-f", str(folder / "by_hand.sql")]
    subprocess.run(command, cwd=folder / "tables", check=True)


def ready_tuples(calls: Path) -> tuple[CreateTables, dict[str, list[tuple[object, ...]]]]:
    """Return the tables, and their rows as SQLite takes them."""
    tables = tessaron.shred(calls, name="calls")
    made = CreateTables(dialect_named("sqlite"), tables.layout.tables)
    rows = {}
    for table in made.tables:
        columns = in_shown_units(tables[table.name], table).combine_chunks().columns
        rows[table.name] = [*zip(*map(sqlite_values, columns), strict=True)]
    return made, rows


def by_executemany(file: Path, made: CreateTables, rows: dict[str, list[tuple[object, ...]]]) -> None:
    with closing(sqlite3.connect(file)) as database, database:
        for table in made.tables:
            database.execute(made.create(table))
            marks = ", ".join("?" * len(table.arrow_schema()))
            database.executemany(f'INSERT INTO "{table.name}" VALUES ({marks})', rows[table.name])
        for table in made.tables:
            for statement in made.indexes(table):
                database.execute(statement)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else RECORDS
    url = os.environ.get("TESSARON_BENCH_POSTGRES")
    with tempfile.TemporaryDirectory(prefix="tessaron-bench-") as made_folder:
        folder = Path(made_folder)
        calls = write_calls(folder, count)
        file = folder / "calls.db"
        made, rows = ready_tuples(calls)
        compared(
            "SQLite: load, beside executemany of ready tuples",
            lambda: by_executemany(file, made, rows),
            lambda: tessaron.load(calls, f"sqlite:///{file}", name="calls"),
            "at most 1.5",
            lambda: file.unlink(missing_ok=True),
        )
        if url is None:
            return

        def reset() -> None:
            subprocess.run(
                ["psql", url, "-q", "-c", "DROP SCHEMA IF EXISTS bench CASCADE"],
                check=True,
                stderr=subprocess.DEVNULL,
            )

        compared(
            "PostgreSQL: load, beside export and psql's copy, then keys",
            lambda: by_psql(calls, folder, url),
            lambda: tessaron.load(calls, url, name="calls", schema="bench"),
            "at most 1.2",
            reset,
        )
        reset()
        changed = folder / "changed.ndjson"
        lines = calls.read_text("utf-8").splitlines()[::CHANGED]
        changed.write_text(
            "\n".join(json.dumps({**json.loads(line), "status": "corrected"}) for line in lines)
        )
        whole = seconds(lambda: tessaron.load(calls, url, name="calls", schema="bench", mode="merge", key=["call_id"], keys="digest"))  # fmt: skip
        part = seconds(lambda: tessaron.load(changed, url, schema="bench", mode="merge", as_before=True))
        same = seconds(lambda: tessaron.load(calls, url, schema="bench", mode="merge", as_before=True))
        print(f"PostgreSQL: merge of {count:,} new records {whole:.2f} s, of {len(lines):,} that have changed {part:.2f} s, of all once more {same:.2f} s")  # fmt: skip
        reset()


if __name__ == "__main__":
    main()
