"""Sinks and views: files, the target folder, what is shown."""

import io
import json
import os
import unittest

import pyarrow.csv as pa_csv
import pyarrow.parquet as pq
from rich.console import Console

import tessaron
from tessaron.sinks.target_folder import TargetFolder
from tessaron.views.progress import ProgressBar
from tessaron.views.terminal import count, grid, notes_view, receipt_view, show
from tessaron.write.across.uniqueness import CandidateKeys, UniqueCheck
from tessaron.write.books.receipt import KeyCheck
from tests.harness import FolderTest, command


class FilesTest(FolderTest):
    ROWS = (
        (
            '{"t":"10:00","u":"10:00:00.25","d":"2026-01-02","z":"2026-01-02T10:00:00.123456789","b":"yes","n":-0.0,"m":1e25}'
        ),
        (
            '{"t":"23:59","u":"00:00:00.00","d":null,"z":"2026-01-02T10:00:00.000000001","b":"no","n":1.5,"m":0.5}'
        ),
    )

    def test_every_type_in_both_formats(self):
        source = "\n".join(self.ROWS).encode()
        expected = {
            "t": "time", "u": "time", "d": "date", "z": "timestamp", "b": "boolean", "n": "double", "m": "decimal(27,1)",
        }  # fmt: skip
        for form in ("parquet", "csv"):
            receipt = tessaron.export(source, self.folder / form, format=form, name="r")
            types = {column.name: column.type for column in receipt.tables[0].columns}
            self.assertEqual({name: types[name] for name in expected}, expected)
        first = (self.folder / "csv/r.csv").read_text("utf-8").splitlines()[1]
        self.assertEqual(
            first,
            "1,10:00:00,10:00:00.250,2026-01-02,2026-01-02 10:00:00.123456789,true,-0,10000000000000000000000000.0",
        )
        again = pa_csv.read_csv(self.folder / "csv/r.csv")
        self.assertEqual(again.num_rows, pq.read_table(self.folder / "parquet/r.parquet").num_rows)

    def test_many_tables_do_not_need_many_open_files(self):
        record = {f"a{n}": [n] for n in range(1_500)}
        receipt = tessaron.export([record], self.folder / "out", not_dictionaries=["$"])
        self.assertEqual((len(receipt.tables), receipt.rows), (1_501, 1_501))

    def test_a_failing_run_leaves_the_old_target(self):
        target = self.folder / "out"
        tessaron.export([{"old": 1}], target)
        with self.assertRaises(tessaron.DataError):
            tessaron.export(b'{"new": 1}\n{"new": }', target, replace=True, stop_after=0)
        self.assertEqual(pq.read_table(target / "records.parquet").column_names, ["row_key", "old"])
        self.assertEqual(os.listdir(self.folder), ["out"])

    def test_a_target_that_is_made_meanwhile_is_not_lost(self):
        target = self.folder / "out"
        with self.assertRaises(tessaron.TargetError), TargetFolder(target, replace=False) as folder:
            (folder.aside / "x").write_text("x")
            target.write_text("made by someone else")
            folder.commit()
        self.assertEqual(target.read_text(), "made by someone else")
        self.assertEqual(os.listdir(self.folder), ["out"])

    def test_rejects_are_listed_with_their_places(self):
        data = b'{"a":1}\n{"a":[[1]]}\n{"a":1,"a":2}\n'
        path = self.write("r.ndjson", data)
        done = command(
            "export", path, "-o", self.folder / "o", "--depth-limit", 2, "--duplicate-keys", "reject"
        )
        self.assertEqual(done.returncode, 1)
        self.assertIn(b"2 records left out (1 depth, 1 repeated_name)", done.stderr)
        rejects = [
            json.loads(line) for line in (self.folder / "o/rejects.ndjson").read_text("utf-8").splitlines()
        ]
        self.assertEqual(
            [(r["code"], r["line"], r["record"]) for r in rejects], [("depth", 2, 2), ("repeated_name", 3, 3)]
        )
        self.assertEqual(json.loads((self.folder / "o/receipt.json").read_text("utf-8"))["rejected"], 2)

    def test_memory_can_be_bounded(self):
        path = self.write("r.ndjson", b'{"a":[1,2,3],"t":"text"}\n' * 100_000)
        receipt = tessaron.export(path, self.folder / "o", memory=200_000_000, workers=1)
        self.assertEqual(receipt.rows, 400_000)


class UniquenessTest(unittest.TestCase):
    def test_duplicates_are_counted(self):
        tables = tessaron.shred([{"a": n % 7, "b": n % 5, "c": None if n == 3 else n} for n in range(35)])
        batches = tables["records"].to_batches(max_chunksize=4)
        cases = ((("a",), 28, 0), (("b",), 30, 0), (("a", "b"), 0, 0), (("c",), 0, 1))
        for columns, duplicates, nulls in cases:
            with self.subTest(columns), UniqueCheck(columns) as check:
                for batch in batches:
                    check.add(batch)
                self.assertEqual(
                    (check.duplicates(), check.nulls, check.is_unique()), (duplicates, nulls, not duplicates)
                )

    def test_candidates(self):
        tables = tessaron.shred([{"a": n, "b": n % 20, "c": f"x{n}"} for n in range(40)])
        with CandidateKeys(["a", "b", "c"]) as candidates:
            for batch in tables["records"].to_batches(max_chunksize=10):
                candidates.add(batch)
            self.assertEqual(candidates.names(), ["a", "c"])


class ViewsTest(FolderTest):
    def receipt(self, **options):
        return tessaron.export(
            b'{"id":1,"x":[1]}\n{"id":2,"x":[]}', self.folder / "o", name="calls", **options
        )

    def shown(self, *parts, width=80):
        out = io.StringIO()
        show(Console(file=out, width=width), *parts)
        return out.getvalue()

    def test_the_summary(self):
        text = self.shown(*receipt_view(self.receipt()))
        self.assertIn("calls        2         2   calls.parquet\n", text)
        self.assertRegex(text, r"2 records in, 3 rows out, 2 tables in .*/o, \d+\.\d\d seconds\n$")

    def test_notes(self):
        receipt = self.receipt(key=["id"])
        self.assertEqual(notes_view(receipt), [])
        self.assertTrue(KeyCheck(("id",), 0, 0).passed)
        self.assertFalse(KeyCheck(("id",), 0, 1).passed)

    def test_brackets_and_escapes_in_names_are_shown_as_they_are(self):
        self.assertEqual(self.shown("[red]a[/red]"), "[red]a[/red]\n")
        self.assertIn("[b]x", self.shown(grid(["name"], [["[b]x"]])))
        self.assertEqual([count(1, "row"), count(2_000, "row")], ["1 row", "2,000 rows"])

    def test_the_progress_bar_counts_bytes(self):
        out = io.StringIO()
        with ProgressBar(Console(file=out, force_terminal=True, width=100)) as bar:
            tessaron.export(b'{"id":1}\n' * 1_000, self.folder / "o", progress=bar, chunk_bytes=1_000)
        self.assertIn("writing", out.getvalue())
        self.assertIn("8.8/8.8 KiB", out.getvalue())
