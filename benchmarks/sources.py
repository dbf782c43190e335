"""The same documents from several kinds of sources, side by side: `python benchmarks/sources.py [RECORDS]`.

As a file, packed with gzip, in files of about a kilobyte, and in a column of a database (SQLite, and PostgreSQL where
`TESSARON_BENCH_POSTGRES` has the URL of one that may be written to).
"""

from __future__ import annotations

import gzip
import os
import shutil
import sqlite3
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import tessaron
from tessaron.sources.demo.vessel_calls import write_calls

RECORDS, SMALL, ROUNDS = 60_000, 4_000, 5


def seconds(source: object, target: Path) -> float:
    """Return how long an export takes."""
    shutil.rmtree(target, ignore_errors=True)
    begin = time.perf_counter()
    tessaron.export(source, target, sync=False)
    return time.perf_counter() - begin


def unpacking(path: Path) -> float:
    """Return how long it takes to unpack a file."""
    begin = time.perf_counter()
    with gzip.open(path) as stream:
        while stream.read(1024 * 1024):
            pass
    return time.perf_counter() - begin


def rows_of(path: Path) -> list[tuple[int, str]]:
    """Return the lines of a file with their numbers."""
    with path.open(encoding="utf-8") as lines:
        return [(number, line.rstrip("\n")) for number, line in enumerate(lines, 1)]


def in_postgres(url: str, rows: list[tuple[int, str]]) -> tessaron.DatabaseQuery:
    """Write rows into a table of PostgreSQL."""
    import psycopg

    with psycopg.connect(url) as connection:
        connection.execute("DROP TABLE IF EXISTS bench_inbox")
        connection.execute("CREATE TABLE bench_inbox (id bigint, payload json)")
        with connection.cursor().copy("COPY bench_inbox FROM STDIN") as copy:
            for row in rows:
                copy.write_row(row)
    return tessaron.DatabaseQuery(url, table="bench_inbox")


def compared(name: str, base: Callable[[], float], other: Callable[[], float], bar: str) -> None:
    """Measure two ways in turn, and print the ratio of their medians."""
    pairs = [(base(), other()) for _ in range(ROUNDS + 1)][1:]
    first, second = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(f"{name:<44} {first:6.2f} s  {second:6.2f} s  {second / first:5.2f} times  ({bar})")


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else RECORDS
    with tempfile.TemporaryDirectory(prefix="tessaron-bench-") as made:
        folder = Path(made)
        file, target = write_calls(folder, count), folder / "tables"
        rows = rows_of(file)
        # What a column has beside the documents is in the file that it is compared with, too.
        nested = folder / "rows.ndjson"
        nested.write_text("".join(f'{{"id":{number},"payload":{text}}}\n' for number, text in rows), "utf-8")
        packed = folder / "calls.ndjson.gz"
        packed.write_bytes(gzip.compress(file.read_bytes(), 6))
        small, whole = folder / "small", folder / "whole.ndjson"
        small.mkdir()
        for number, text in rows[:SMALL]:
            (small / f"{number}.json").write_text(text, "utf-8")
        whole.write_text("".join(f"{text}\n" for _, text in rows[:SMALL]), "utf-8")
        with sqlite3.connect(folder / "office.db") as connection:
            connection.execute("CREATE TABLE inbox (id INTEGER, payload TEXT)")
            connection.executemany("INSERT INTO inbox VALUES (?, ?)", rows)
        inbox = tessaron.DatabaseQuery(f"sqlite:///{folder / 'office.db'}", table="inbox")
        compared("gzip, beside file and unpacking", lambda: seconds(file, target) + unpacking(packed),
                 lambda: seconds(packed, target), "at most 1.1")  # fmt: skip
        compared(f"{SMALL:,} small files, beside one file", lambda: seconds(whole, target),
                 lambda: seconds(small, target), "at most 1.5")  # fmt: skip
        compared("a column of SQLite, beside a file", lambda: seconds(nested, target),
                 lambda: seconds(inbox, target), "at most 1.67")  # fmt: skip
        if url := os.environ.get("TESSARON_BENCH_POSTGRES"):
            query = in_postgres(url, rows)
            compared("a column of PostgreSQL, beside a file", lambda: seconds(nested, target),
                     lambda: seconds(query, target), "at most 1.67")  # fmt: skip


if __name__ == "__main__":
    main()
