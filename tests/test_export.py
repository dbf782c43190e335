"""The command `export`: files, receipts, and what it says when it cannot."""

import csv
import io
import json
import os
import signal
import subprocess
import sys
import time
import unittest
from unittest import mock

import pyarrow.parquet as pq

import tessaron
import tessaron.sinks.target_folder
from tests.harness import FolderTest, command, quick_command

CALLS = (
    '{"id":1,"note":null,"t":"2026-01-02T03:04:05.5Z","stays":[{"berth":"N1","m":1.10}]}\n'
    '{"id":2,"note":"","t":"2026-01-02T03:04:06.0Z","stays":[]}\n'
    '{"id":3,"note":"a \\"b\\",\\r\\nc","t":"2026-01-02T03:04:06.0Z","stays":[{"berth":"","m":2.25}]}\n'
)


class ExportTest(FolderTest):
    def export(self, *arguments, **more):
        return command("export", *arguments, **more)

    def test_csv_bytes_by_rfc_4180(self):
        source = self.write("calls.ndjson", CALLS)
        done = self.export(source, "-o", self.folder / "out", "--format", "csv")
        self.assertEqual(done.stderr, b"")
        self.assertEqual(done.returncode, 0)
        self.assertEqual(
            (self.folder / "out/calls.csv").read_bytes(),
            b'"row_key","id","note","t"\r\n'
            b"1,1,,2026-01-02 03:04:05.500Z\r\n"
            b'2,2,"",2026-01-02 03:04:06.000Z\r\n'
            b'3,3,"a ""b"",\r\nc",2026-01-02 03:04:06.000Z\r\n',
        )
        self.assertEqual(
            (self.folder / "out/calls_stays.csv").read_bytes(),
            b'"row_key","parent_key","ordinal","berth","m"\r\n1,1,1,"N1",1.10\r\n2,3,1,"",2.25\r\n',
        )

    def test_parquet_and_csv_agree_with_the_library(self):
        source = self.write("calls.ndjson", CALLS)
        tables = tessaron.shred(source)
        for form in ("parquet", "csv"):
            self.assertEqual(self.export(source, "-o", self.folder / form, "--format", form).returncode, 0)
        for name, table in tables.items():
            path = self.folder / f"parquet/{name}.parquet"
            self.assertTrue(pq.read_table(path).equals(table), name)
            codecs = {pq.ParquetFile(path).metadata.row_group(0).column(i).compression for i in range(2)}
            self.assertEqual(codecs, {"ZSTD"})
            text = (self.folder / f"csv/{name}.csv").read_text("utf-8")
            self.assertEqual(len(list(csv.reader(io.StringIO(text, newline="")))), table.num_rows + 1)

    def test_groups_of_rows_do_not_depend_on_chunks(self):
        source = self.write("n.ndjson", "".join(f'{{"n":{n},"xs":["{n}"]}}\n' for n in range(140_000)))
        for name, chunk_bytes in (("small", 100_000), ("large", 10**9)):
            tessaron.export(source, self.folder / name, chunk_bytes=chunk_bytes)
        small, large = (pq.ParquetFile(self.folder / name / "n_xs.parquet") for name in ("small", "large"))
        self.assertTrue(small.read().equals(large.read()))
        groups = [[file.metadata.row_group(i).num_rows for i in range(2)] for file in (small, large)]
        self.assertEqual(groups, [[131_072, 8_928]] * 2)

    def test_the_summary_and_the_receipt(self):
        source = self.write("vessel_calls_2026-03.json", CALLS)
        done = self.export(source, "-o", self.folder / "out")
        lines = done.stdout.decode().splitlines()
        self.assertEqual(lines[0].split(), ["table", "rows", "columns", "file"])
        self.assertEqual(lines[2].split()[:3], ["vessel_calls", "3", "4"])
        self.assertRegex(lines[-1], r"^3 records in, 5 rows out, 2 tables in .*/out, \d+\.\d\d seconds$")
        receipt = json.loads((self.folder / "out/receipt.json").read_text("utf-8"))
        self.assertEqual(receipt["records"], 3)
        self.assertEqual(
            receipt["sources"],
            [{"name": str(source), "bytes": len(CALLS.encode()), "records": 3, "rejected": 0}],
        )
        self.assertEqual(receipt["version"], tessaron.__version__)
        stays = receipt["tables"][1]
        self.assertEqual(
            (stays["name"], stays["file"], stays["rows"], stays["parent"], stays["references"]),
            (
                "vessel_calls_stays",
                "vessel_calls_stays.parquet",
                2,
                "vessel_calls",
                [{"column": "parent_key", "table": "vessel_calls"}],
            ),
        )
        self.assertEqual(
            stays["columns"][3:],
            [
                {"name": "berth", "type": "text", "path": "$.stays[*].berth", "note": ""},
                {"name": "m", "type": "decimal(3,2)", "path": "$.stays[*].m", "note": ""},
            ],
        )
        self.assertEqual(
            sorted(os.listdir(self.folder / "out"))[:3], ["layout.toml", "load.sql", "receipt.json"]
        )

    def test_of_many_tables_the_first_are_shown_and_all_are_in_the_receipt(self):
        record = {f"berth_{n:02}": [{f"from_{n}": n, f"kind_{n}": "é"}] for n in range(45)}
        source = self.write("calls.ndjson", json.dumps(record))
        done = quick_command("export", source, "-o", self.folder / "out", "--no-dictionary", "$")
        lines = done.stdout.decode().splitlines()
        self.assertEqual(len(lines), 45)
        self.assertEqual(lines[42], "… and 6 more tables, listed in receipt.json")
        text = (self.folder / "out/receipt.json").read_text("utf-8")
        receipt = json.loads(text)
        self.assertEqual(len(receipt["tables"]), 46)
        # A line for each column and each sum, however many there are.
        columns = sum(len(table["columns"]) for table in receipt["tables"])
        self.assertEqual(text.count('{"name": ') - len(receipt["sources"]), columns)
        self.assertEqual(text.count('{"what": '), len(receipt["balance"]))
        self.assertNotIn("\\u", text)

    def test_standard_input_and_json(self):
        done = self.export("-", "-o", self.folder / "out", "--json", stdin=CALLS.encode())
        receipt = json.loads(done.stdout)
        self.assertEqual([table["name"] for table in receipt["tables"]], ["records", "records_stays"])
        self.assertEqual(receipt["sources"][0]["name"], "<stdin>")

    def test_replace(self):
        source, target = self.write("calls.json", CALLS), self.folder / "out"
        self.assertEqual(self.export(source, "-o", target, "--name", "old").returncode, 0)
        refused = self.export(source, "-o", target)
        self.assertEqual(refused.returncode, 2)
        self.assertIn(b"is not empty; choose another folder, or replace its export", refused.stderr)
        self.assertTrue((target / "old.parquet").exists())
        self.assertEqual(self.export(source, "-o", target, "--replace").returncode, 0)
        self.assertEqual(
            sorted(os.listdir(target)),
            ["calls.parquet", "calls_stays.parquet", "layout.toml", "load.sql", "receipt.json"],
        )
        self.write("out/holiday.txt", "mine")
        refused = self.export(source, "-o", target, "--replace")
        self.assertIn(b"also holds other files: holiday.txt", refused.stderr)
        self.assertTrue((target / "holiday.txt").exists())


class BadInputTest(FolderTest):
    def test_one_or_two_lines_and_nothing_written(self):
        truncated = '{"a":[1,2\n'
        cases = (
            ("missing", None, "missing: cannot be read: No such file"),
            ("blank.json", "  \n", "blank.json: the source is empty; expected a JSON array"),
            ("empty.json", "", "empty.json: the source is empty"),
            ("cut.json", truncated, "cut.json: line 2, byte 10, record 1, $.a[*]: the input ends here"),
            ("array.json", '[\n{"a":', "array.json: line 2, byte 7, record 1, $.a: the input ends here"),
            ("open.json", "[\n", "open.json: byte 2: the source ends inside its array"),
            ("bytes.json", b'{"a":"\xff"}', "bytes.json: line 1, byte 6, record 1, $.a: byte 0xFF is not UTF-8"),
            ("nan.json", '[\n {"v":NaN}]', "nan.json: line 2, byte 8, record 1, $.v: NaN is not a number"),
            ("inf.json", '{"v":-Infinity}', "inf.json: line 1, byte 5, record 1, $.v: -Infinity is not a number"),
            ("page.xml", "<calls>", "page.xml: line 1, column 8, byte 7: the source ends inside the record"),
        )  # fmt: skip
        for name, content, message in cases:
            with self.subTest(name):
                path = self.folder / name
                if content is not None:
                    self.write(name, content)
                before = sorted(os.listdir(self.folder))
                done = quick_command("export", path, "-o", self.folder / "out")
                error = done.stderr.decode()
                self.assertEqual((done.returncode, done.stdout), (2, b""))
                self.assertIn(message, error.removeprefix(f"tessaron: {self.folder}/"))
                self.assertLessEqual(error.count("\n"), 2)
                self.assertEqual(sorted(os.listdir(self.folder)), before)

    def test_folders_and_targets(self):
        source = self.write("a.json", "{}")
        (self.folder / "nothing").mkdir()
        cases = (
            ((self.folder / "nothing", "-o", self.folder / "o"), "no JSON or XML file in this folder"),
            ((source, "-o", source), "is a file; expected a folder"),
            ((source, "-o", "/proc/nowhere/out"), "/proc/nowhere/out: cannot be written"),
            ((source, "-", "-o", self.folder / "o"), "cannot be mixed with files"),
            ((source, "-o", self.folder / "o", "--format", "ods"), "'ods' is not one of"),
            (("-o", self.folder / "o"), "expected SOURCE, or --from-rejects FILE"),
        )
        for arguments, message in cases:
            with self.subTest(message):
                done = quick_command("export", *arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())
                self.assertNotIn("Traceback", done.stderr.decode())

    def test_errors_carry_their_facts(self):
        with self.assertRaises(tessaron.DataError) as caught:
            tessaron.shred(b'\n{"a":nil}')
        error = caught.exception
        self.assertIsInstance(error, tessaron.TessaronError)
        self.assertEqual((error.code, error.place.line, error.place.byte_offset), ("syntax", 2, 6))
        with self.assertRaisesRegex(
            tessaron.UsageError, "expected a format of parquet, csv, .*xlsx, got 'ods'"
        ):
            tessaron.export(b"{}", self.folder / "o", format="ods")


class SyncTest(FolderTest):
    def calls(self, action):
        """Return what is synced and renamed, in order: names, with `>` before those that take another's."""
        seen = []
        real_sync, real_rename, real_replace = os.fsync, os.rename, os.replace

        def fsync(handle):
            seen.append(os.path.basename(os.readlink(f"/proc/self/fd/{handle}")).split(".part-")[0])
            real_sync(handle)

        def rename(real):
            def renamed(old, new):
                seen.append(">" + os.path.basename(new))
                real(old, new)

            return renamed

        with (
            mock.patch("os.fsync", fsync),
            mock.patch("os.rename", rename(real_rename)),
            mock.patch("os.replace", rename(real_replace)),
        ):
            action()
        return seen

    def test_all_is_on_the_disk_before_and_after_the_rename(self):
        source, target = self.write("a.json", '[{"b":[1]}]'), self.folder / "in" / "o"
        files = ["a.parquet", "a_b.parquet", "layout.toml", "load.sql", "receipt.json"]
        seen = self.calls(lambda: tessaron.export(source, target))
        self.assertEqual(seen, [*files, ".o", ">o", "in"])
        # Where two names are exchanged at once there is no rename to be seen.
        seen = self.calls(lambda: tessaron.export(source, target, replace=True))
        self.assertEqual([each for each in seen if each[0] != ">"], [*files, ".o", "in"])
        self.assertEqual(
            self.calls(lambda: tessaron.export(source, target, replace=True, sync=False))[:1], []
        )
        back = self.folder / "in" / "b.json"
        self.assertEqual(self.calls(lambda: tessaron.rebuild(target, back))[-2:], [">b.json", "in"])
        layout = tessaron.draft(source)
        seen = self.calls(lambda: layout.write(self.folder / "in" / "l.toml"))
        self.assertEqual(seen[-2:], [">l.toml", "in"])
        self.assertEqual(len(seen), 3)


def has_handler(process):
    """Say whether a process catches SIGTERM, as Linux tells of it; True where that is not known."""
    try:
        with open(f"/proc/{process}/status") as status:
            caught = next(line for line in status if line.startswith("SigCgt"))
    except OSError:
        return True
    return bool(int(caught.split()[1], 16) >> (signal.SIGTERM - 1) & 1)


class InterruptTest(FolderTest):
    def test_signals_leave_nothing_behind(self):
        for number, status in ((signal.SIGINT, 130), (signal.SIGTERM, 130)):
            folder = self.folder / str(int(number))
            folder.mkdir()
            with self.subTest(number):
                process = subprocess.Popen(
                    [sys.executable, "-m", "tessaron", "export", "-", "-o", str(folder / "out")],
                    stdin=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                )
                process.stdin.write(b'{"a":[1,2]}\n' * 1000)
                process.stdin.flush()
                self.wait_for(lambda here=folder: any(here.iterdir()))
                process.send_signal(number)
                _, error = process.communicate(timeout=60)
                self.assertEqual(process.returncode, status, error)
                self.assertIn(b"stopped; nothing was left half-written", error)
                self.assertEqual(os.listdir(folder), [])

    def test_a_signal_while_the_folder_is_made(self):
        def make_and_stop(path, **options):
            os.makedirs(path, exist_ok=True)
            if ".part-" in path.name:
                raise KeyboardInterrupt

        with (
            mock.patch("pathlib.Path.mkdir", make_and_stop),
            self.assertRaises(KeyboardInterrupt),
            tessaron.sinks.target_folder.TargetFolder(self.folder / "out", replace=False),
        ):
            self.fail("it was stopped before")
        self.assertEqual(os.listdir(self.folder), [])

    def test_a_stop_when_all_is_there_says_so(self):
        """Whoever stops a run that has put its tables in place is told that they are there."""
        written = tessaron.sinks.target_folder.put_in_place

        def put_and_stop(aside, target):
            written(aside, target)
            raise KeyboardInterrupt

        with mock.patch("tessaron.sinks.target_folder.put_in_place", put_and_stop):
            done = quick_command("export", self.write("a.json", "[1]"), "-o", self.folder / "out")
        self.assertEqual(done.returncode, 130)
        self.assertIn("stopped; the new tables are all in", done.stderr.decode())
        self.assertTrue(tessaron.verify(self.folder / "out").passed)

    def test_signals_at_any_moment_end_with_a_word(self):
        source = self.write("a.ndjson", '{"a":[1,2]}\n' * 2_000)
        for step in range(6):
            number = (signal.SIGINT, signal.SIGTERM)[step % 2]
            arguments = [
                sys.executable,
                "-m",
                "tessaron",
                "export",
                str(source),
                "-o",
                str(self.folder / f"o{step}"),
            ]
            process = subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            # Before the interpreter has begun, nobody is there to say anything.
            self.wait_for(lambda process=process: has_handler(process.pid))
            time.sleep(0.1 * step)
            process.send_signal(number)
            _, error = process.communicate(timeout=60)
            with self.subTest(step=step):
                self.assertIn(process.returncode, (0, 130), error)
                self.assertNotIn(b"Traceback", error)
                if process.returncode == 130:
                    self.assertRegex(error.decode(), r"\Atessaron: stopped; [^\n]*\n\Z")
                self.assertEqual(
                    (self.folder / f"o{step}").exists(), process.returncode == 0 or b"are all in" in error
                )
                self.assertFalse([name for name in os.listdir(self.folder) if ".part-" in name])

    def test_the_next_run_removes_what_a_killed_one_left(self):
        (self.folder / ".out.part-999999999-0123abcd").mkdir()
        tessaron.export(b"{}", self.folder / "out")
        self.assertEqual(os.listdir(self.folder), ["out"])

    def wait_for(self, condition):
        for _ in range(600):
            if condition():
                return
            time.sleep(0.05)
        self.fail("waited in vain")


if __name__ == "__main__":
    unittest.main()
