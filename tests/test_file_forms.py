"""The forms that tables can be written in: read by others, proved, loaded, and refused where they cannot be."""

import csv
import gzip
import json
import subprocess
import unittest

import pyarrow as pa
import pyarrow.dataset as ds
import pyarrow.parquet as pq

import tessaron
from tests.harness import FolderTest, quick_command
from tests.postgres import needs_postgres, postgres_database

CALLS = [
    {"id": 1, "state": "open", "note": 'a "b"; c,\n d', "fee": 1.50, "ok": True, "at": "2026-01-02T03:04:05Z", "hm": "03:04:05", "s": [{"b": "N1"}, {"b": "S/2"}]},
    {"id": 2, "state": "shut", "note": "", "fee": 22.25, "ok": False, "at": "1969-01-02T03:04:05Z", "hm": "23:59:59", "s": [{"b": "N1"}]},
    {"id": 3, "note": "NULL", "fee": 0.25, "s": [{"b": None}]}, {"id": 4, "state": "open", "note": " \t é", "s": []},
]  # fmt: skip
FORMS = (
    {}, {"format": "csv"}, {"format": "tsv"}, {"format": "csv", "compression": "gzip"}, {"format": "csv", "delimiter": ";", "quoting": "needed"},
    {"format": "csv", "delimiter": "|", "null": "NULL", "quoting": "all"}, {"format": "csv", "null": "\\N", "quoting": "needed", "line_end": "lf"},
    {"format": "csv", "encoding": "utf-16", "chunk_bytes": 60}, {"format": "csv", "encoding": "latin-1", "header": False}, {"format": "tsv", "header": False, "compression": "gzip"},
    {"format": "arrow"}, {"format": "arrow", "compression": "none"}, {"format": "arrow", "compression": "lz4", "file_rows": 2}, {"format": "jsonl"},
    {"format": "jsonl", "compression": "gzip", "file_rows": 1}, {"compression": "snappy"}, {"compression": "none", "group_rows": 1}, {"compression": "gzip", "file_rows": 3},
    {"partition": ["state"]}, {"format": "csv", "partition": ["state", "b"], "file_rows": 1, "delimiter": ";"}, {"format": "jsonl", "partition": ["ok"]},
    {"sort": ["fee", "b"]}, {"format": "csv", "sort": ["state"], "partition": ["ok"]}, {"format": "csv", "for_spreadsheets": True, "delimiter": ";"},
    {"keys": "digest", "key": ["id"], "format": "arrow", "sort": ["b"]},
)  # fmt: skip
REFUSED = (
    ({"format": "ods"}, "expected a format of"), ({"compression": "rar"}, "packed as one of zstd, none"), ({"format": "csv", "compression": "zstd"}, "none, gzip"),
    ({"delimiter": ";", "format": "csv", "null": ";"}, "null cannot be"), ({"format": "csv", "delimiter": '"'}, "one letter as delimiter"), ({"format": "csv", "delimiter": "ab"}, "one letter"),
    ({"null": "x"}, "null goes with csv"), ({"format": "csv", "encoding": "runes"}, "expected an encoding"), ({"format": "csv", "group_rows": 5}, "goes with parquet"),
    ({"partition": ["stat"]}, "no table has a column 'stat' to part or sort by; did you mean state"), ({"format": "xlsx", "sort": ["id"]}, "a spreadsheet is one file"),
    ({"format": "csv", "encoding": "ascii"}, "ascii has no 'é'"), ({"format": "jsonl", "header": False}, "header goes with csv"),
)  # fmt: skip


class FormsTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.source = self.write("calls.ndjson", "\n".join(map(json.dumps, CALLS)))
        self.target = self.folder / "t"

    def export(self, **options):
        return tessaron.export(self.source, self.target, replace=True, **options)

    def test_every_form_is_proved_rebuilt_and_loaded(self):
        for number, form in enumerate(FORMS):
            with self.subTest(form):
                receipt = self.export(**form)
                self.assertEqual(receipt.gaps, [])
                found = tessaron.verify(self.target)
                self.assertTrue(
                    found.passed, (found.differences, [check for check in found.checks if not check.passed])
                )
                self.assertEqual(found.records, 4)
                tessaron.rebuild(self.target, self.folder / "again.ndjson", replace=True)
                again = sorted(
                    json.loads(line)["id"]
                    for line in (self.folder / "again.ndjson").read_text("utf-8").splitlines()
                )
                self.assertEqual(again, [1, 2, 3, 4])
                url = f"sqlite:///{self.folder / f'{number}.db'}"
                tessaron.load(self.target, url)
                self.assertTrue(tessaron.verify(url, self.source).passed)

    def test_a_changed_file_is_found_in_every_form(self):
        for form in ({"format": "csv", "file_rows": 1}, {"partition": ["state"]}, {"format": "jsonl"}):
            with self.subTest(form):
                self.export(**form)
                path = next(
                    each
                    for each in sorted(self.target.rglob("*"))
                    if each.suffix in (".csv", ".parquet", ".jsonl")
                )
                path.write_bytes(path.read_bytes() + b"\n")
                self.assertFalse(tessaron.verify(self.target).passed)

    def test_what_other_readers_find(self):
        self.export(format="csv", delimiter=";", null="-", quoting="needed", line_end="lf", encoding="utf-16")
        with open(self.target / "calls.csv", encoding="utf-16", newline="") as file:
            rows = list(csv.reader(file, delimiter=";"))
        self.assertEqual(rows[0], ["row_key", "id", "state", "note", "fee", "ok", "at", "hm"])
        self.assertEqual(
            rows[1], ["1", "1", "open", 'a "b"; c,\n d', "1.50", "true", "2026-01-02 03:04:05Z", "03:04:05"]
        )
        self.assertEqual((rows[3][2], rows[3][3], rows[2][3]), ("-", "NULL", ""))
        self.export(format="jsonl", compression="gzip")
        lines = [
            json.loads(line)
            for line in gzip.decompress((self.target / "calls.jsonl.gz").read_bytes()).splitlines()
        ]
        self.assertEqual(
            lines[0],
            {
                "row_key": 1,
                "id": 1,
                "state": "open",
                "note": 'a "b"; c,\n d',
                "fee": 1.5,
                "ok": True,
                "at": "2026-01-02T03:04:05Z",
                "hm": "03:04:05",
            },
        )
        self.assertEqual(lines[3]["ok"], None)
        self.export(format="arrow")
        self.assertEqual(
            pa.ipc.open_file(self.target / "calls_s.arrow").read_all().column("b").to_pylist(),
            ["N1", "S/2", "N1", None],
        )
        self.export(partition=["state"], compression="snappy")
        found = ds.dataset(self.target / "calls", partitioning="hive").to_table().sort_by("id")
        self.assertEqual(
            (found.column("state").to_pylist(), found.column("id").to_pylist()),
            (["open", "shut", None, "open"], [1, 2, 3, 4]),
        )
        self.assertEqual(
            sorted(path.name for path in (self.target / "calls").iterdir()),
            ["state=__HIVE_DEFAULT_PARTITION__", "state=open", "state=shut"],
        )
        self.export(sort=["fee"], group_rows=2)
        self.assertEqual(pq.read_table(self.target / "calls.parquet").column("id").to_pylist(), [3, 1, 2, 4])
        self.assertEqual(pq.ParquetFile(self.target / "calls.parquet").num_row_groups, 2)

    def test_columns_say_where_they_come_from(self):
        for form, read in (
            ("parquet", pq.read_schema),
            ("arrow", lambda path: pa.ipc.open_file(path).schema),
        ):
            with self.subTest(form):
                self.export(format=form)
                schema = read(self.target / f"calls_s.{form}")
                self.assertEqual(
                    (schema.metadata[b"table"], schema.metadata[b"rows"]), (b"calls_s", b"$.s[*]")
                )
                told = {field.name: dict(field.metadata or {}) for field in schema}
                self.assertEqual(
                    (
                        told["row_key"][b"key"],
                        told["parent_key"][b"key"],
                        told["b"][b"path"],
                        told["b"][b"type"],
                    ),
                    (b"primary", b"calls", b"$.s[*].b", b"text"),
                )

    def test_many_values_are_many_folders(self):
        source = [
            {"id": number, "day": f"2026-{number % 12 + 1:02}-{number % 28 + 1:02}"} for number in range(900)
        ]
        tessaron.export(source, self.target, name="calls", partition=["day"], chunk_bytes=2_000)
        self.assertEqual(len(list((self.target / "calls").iterdir())), 84)
        self.assertEqual(
            sorted(
                ds.dataset(self.target / "calls", partitioning="hive").to_table().column("id").to_pylist()
            ),
            list(range(900)),
        )

    def test_what_cannot_be_is_refused(self):
        for options, said in REFUSED:
            with self.subTest(options), self.assertRaisesRegex(tessaron.TessaronError, said):
                tessaron.export(self.source, self.folder / "none", **options)
            self.assertFalse((self.folder / "none").exists())

    def test_the_command(self):
        options = (
            "--format",
            "csv",
            "--delimiter",
            ";",
            "--null",
            "NULL",
            "--quoting",
            "needed",
            "--no-header",
            "--partition",
            "state",
            "--file-rows",
            1,
            "--replace",
        )
        for _ in range(2):
            self.assertEqual(quick_command("export", self.source, "-o", self.target, *options).returncode, 0)
        self.assertEqual(quick_command("verify", self.target).returncode, 0)
        self.assertIn("is a folder of files: `tessaron load FOLDER", (self.target / "load.sql").read_text())

    @needs_postgres
    def test_psql_reads_what_the_script_says(self):
        forms = (
            {"format": "tsv"}, {"format": "csv", "compression": "gzip"}, {"format": "csv", "delimiter": ";", "null": "-", "quoting": "needed", "header": False},
            {"format": "csv", "encoding": "latin-1"},
        )  # fmt: skip
        for form in forms:
            with self.subTest(form), postgres_database() as url:
                self.export(**form)
                done = subprocess.run(
                    ["psql", url, "-q", "-1", "-v", "ON_ERROR_STOP=1", "-f", "load.sql"],
                    cwd=self.target,
                    capture_output=True,
                    check=False,
                )
                self.assertEqual((done.returncode, done.stderr), (0, b""))
                asked = "SELECT id, note, fee FROM calls ORDER BY id"
                done = subprocess.run(
                    ["psql", url, "-q", "--csv", "-t", "-c", asked], capture_output=True, check=True
                )
                self.assertEqual(
                    list(csv.reader(done.stdout.decode().splitlines(keepends=True)))[2:],
                    [["3", "NULL", "0.25"], ["4", " \t é", ""]],
                )


if __name__ == "__main__":
    unittest.main()
