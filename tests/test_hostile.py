"""Input that means harm, and faults from outside: limits, names, escapes, kills, a full disk."""

import contextlib
import csv
import gzip
import json
import os
import random
import resource
import signal
import subprocess
import sys
import time
import unittest
from unittest import mock

import pyarrow.parquet as pq

import tessaron
from tessaron.sinks.target_folder import sha256_of
from tests.harness import FolderTest, quick_command

ESCAPE = "\x1b[31mred\x07\x9b1m\u202e"


class HostileInputTest(FolderTest):
    def test_names_stay_in_the_folder(self):
        names = [
            "../../x",
            "/etc/passwd",
            "..",
            "a/b",
            "a\\b",
            "con",
            "nul\x00l",
            "\n",
            "a" * 5000,
            ".",
            "💥",
            " ",
        ]
        document = {name: [{"y": 1}] for name in names}
        tessaron.export(json.dumps([document]).encode(), self.folder / "in" / "t")
        self.assertEqual(os.listdir(self.folder), ["in"])
        self.assertEqual(os.listdir(self.folder / "in"), ["t"])
        for name in os.listdir(self.folder / "in" / "t"):
            self.assertRegex(name, r"\A[\w.-]{1,80}\Z")
        source = self.write("s.json", json.dumps([document]))
        tessaron.export(source, self.folder / "t")
        self.assertTrue(tessaron.verify(self.folder / "t").passed)

    def test_nothing_shown_speaks_to_the_terminal(self):
        source = self.write("s.ndjson", json.dumps({f"n{ESCAPE}": ESCAPE, "l": [{"v": ESCAPE}]}) + "\n{\x1b")
        target = self.folder / "t"
        good = self.write("g.ndjson", source.read_text().splitlines()[0])
        for arguments in (
            ("survey", source), ("preview", source), ("find", good, "$.*"), ("values", good), ("draft", source),
            ("export", source, "-o", target), ("verify", target), ("rebuild", target, "-o", self.folder / "r"),
            ("find", source, "$.*"), ("export", self.folder / f"x{ESCAPE}", "-o", target),
        ):  # fmt: skip
            with self.subTest(arguments):
                done = quick_command(*arguments)
                self.assertNotRegex((done.stdout + done.stderr).decode(), "[\x1b\x07\x9b\u202e]")

    def test_limits_can_be_changed(self):
        bomb = self.write("b.json.gz", gzip.compress(b"[") + gzip.compress(b" " * 2**20) * 30)
        long = self.write("l.json", '[{"a":"' + "x" * 5_000_000 + '"}]')
        deep = self.write("d.json", '{"a":' * 200 + "1" + "}" * 200)
        cases = (
            (bomb, {"TESSARON_EXPANSION_LIMIT": "50"}, (), "comes out as more than 50 times its"),
            (long, {"TESSARON_RECORD_LIMIT": "4000000"}, (), "a record is longer than 4,000,000 bytes"),
            (long, {"TESSARON_RECORD_LIMIT": "many"}, (), "expected TESSARON_RECORD_LIMIT to be a number"),
            (deep, {}, ("--depth-limit", 100), "nested deeper than 100"),
        )
        for source, environment, options, message in cases:
            with self.subTest(message), mock.patch("tessaron.sources.forms.encodings.FREE_BYTES", 2**24):
                done = quick_command("export", source, "-o", self.folder / "o", *options, **environment)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())
                self.assertFalse((self.folder / "o").exists())
        self.assertEqual(quick_command("export", long, "-o", self.folder / "o").returncode, 0)

    def test_a_flood_of_names(self):
        record = {f"k{n}": n for n in range(200_000)}
        tables = tessaron.shred(json.dumps([record]).encode())
        self.assertEqual([len(table) for table in tables.values()], [1, 200_000])

    def test_formulas_for_spreadsheets(self):
        texts = ["=1+1", "+1", "-1", "@x", "\tx", "'=x", "plain", "", None, "a=b"]
        source = self.write("s.ndjson", "".join(json.dumps({"t": text, "n": -1}) + "\n" for text in texts))
        done = quick_command(
            "export", source, "-o", self.folder / "t", "--format", "csv", "--for-spreadsheets"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        with open(self.folder / "t" / "s.csv", newline="") as file:
            cells = [row["t"] for row in csv.DictReader(file)]
        shown = ["'=1+1", "'+1", "'-1", "'@x", "'\tx", "''=x", "plain", "", "", "a=b"]
        self.assertEqual(cells, shown)
        self.assertTrue(tessaron.verify(self.folder / "t").passed)
        done = quick_command("export", source, "-o", self.folder / "p", "--for-spreadsheets")
        self.assertIn(b"for_spreadsheets goes with csv", done.stderr)


class FaultsTest(FolderTest):
    def export(self, source, *options, **how):
        return subprocess.Popen(
            [sys.executable, "-m", "tessaron", "export", str(source), "-o", str(self.folder / "out"), *options],
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, **how,
        )  # fmt: skip

    def check_whole(self):
        """Check that the target is an export, whole."""
        receipt = json.loads((self.folder / "out" / "receipt.json").read_text())
        for table in receipt["tables"]:
            path = self.folder / "out" / table["file"]
            self.assertEqual(
                (pq.read_metadata(path).num_rows, sha256_of(path)), (table["rows"], table["sha256"])
            )
        return receipt["records"]

    def test_killed_at_any_moment(self):
        """After every kill the old target or the whole new one stands, and the next run leaves nothing behind."""
        chance = random.Random(7)
        small = self.write("small.ndjson", '{"a":[1,2]}\n' * 50)
        large = self.write("large.ndjson", '{"a":[1,2],"b":{"c":"text"}}\n' * 60_000)
        self.export(small).communicate()
        started = time.perf_counter()
        process = self.export(large, "--replace", "--workers", "2")
        process.communicate()
        whole = time.perf_counter() - started
        for number in (signal.SIGKILL, signal.SIGTERM, signal.SIGINT, signal.SIGKILL, signal.SIGKILL):
            process = self.export(large, "--replace", "--workers", "2", start_new_session=True)
            time.sleep(whole * chance.uniform(0.1, 1.1))
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, number)
            process.communicate()
            with self.subTest(number):
                self.assertIn(self.check_whole(), (50, 60_000))
        self.export(small, "--replace").communicate()
        self.assertEqual(self.check_whole(), 50)
        self.assertEqual(sorted(os.listdir(self.folder)), ["large.ndjson", "out", "small.ndjson"])

    def test_a_disk_that_is_full(self):
        source = self.write("s.ndjson", "".join(f'{{"n":{n},"t":"{n * 7919}"}}\n' for n in range(60_000)))
        limit = 100_000

        def small_files():
            resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))

        process = self.export(source, preexec_fn=small_files)
        _, error = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 2)
        self.assertIn(b"cannot be written", error)
        self.assertNotIn(b"Traceback", error)
        self.assertEqual(os.listdir(self.folder), ["s.ndjson"])

    def test_a_source_that_changes_or_vanishes(self):
        first, second = self.write("in/a.ndjson", '{"n":1}\n'), self.write("in/b.ndjson", '{"n":2}\n')

        class Meanwhile:
            def start(self, total):
                second.unlink()

            say = read = write = start_over = lambda self, *told: None

        with self.assertRaisesRegex(tessaron.SourceError, "b.ndjson: cannot be read: No such file"):
            tessaron.export(self.folder / "in", self.folder / "out", progress=Meanwhile())
        self.assertFalse((self.folder / "out").exists())

        class Growing(Meanwhile):
            def start(self, total):
                with open(first, "a") as file:
                    file.write('{"n":3}\n')

        receipt = tessaron.export(first, self.folder / "out", progress=Growing())
        self.assertIn("changed while it was read: 8 bytes at first, 16 at the end", receipt.notes[0].text)
        self.assertEqual(receipt.records, 2)


if __name__ == "__main__":
    unittest.main()
