"""Several threads: the same tables for any number of them; and keys that stay the same."""

import json
import os
import subprocess
import sys
import time

import pyarrow.parquet as pq

import tessaron
from tessaron.engine.options import Options
from tessaron.sources.demo.manifests import write_manifests
from tessaron.sources.demo.vessel_calls import write_calls
from tests.harness import FolderTest, command


class WorkersTest(FolderTest):
    def large(self, times=6):
        """Return a file of `times` 2,500 records, large enough for workers."""
        path = write_calls(self.folder, 2_500)
        path.write_bytes(path.read_bytes() * times)
        self.assertGreater(path.stat().st_size, 16 * 1024 * 1024)
        return path

    def test_the_same_files_for_any_number(self):
        source = self.large()
        for workers in (1, 3):
            tessaron.export(source, self.folder / f"w{workers}", workers=workers, chunk_bytes=1_000_000)
        names = sorted(os.listdir(self.folder / "w1"))
        self.assertEqual(names, sorted(os.listdir(self.folder / "w3")))
        for name in names:
            if name.endswith(".parquet"):
                one, three = (pq.read_table(self.folder / folder / name) for folder in ("w1", "w3"))
                self.assertTrue(one.equals(three), name)

    def test_xml_is_the_same_for_any_number(self):
        source = write_manifests(self.folder, 8_700)
        self.assertGreater(source.stat().st_size, 16 * 1024 * 1024)
        one, two = (tessaron.shred(source, workers=workers) for workers in (1, 2))
        self.assertEqual(list(one), list(two))
        for name in one:
            self.assertTrue(one[name].equals(two[name]), name)

    def test_faults_come_out_of_workers(self):
        source = self.large()
        with open(source, "ab") as file:
            file.write(b'{"call_id": nil}\n')
        with self.assertRaisesRegex(
            tessaron.DataError, r"line 15001, .* record 15001, \$\.call_id: .*expected a value"
        ):
            tessaron.export(source, self.folder / "out", workers=2, stop_after=0)
        self.assertEqual(os.listdir(self.folder), [source.name])

    def test_a_killed_run_leaves_no_target(self):
        source = self.large(24)
        arguments = ["export", str(source), "-o", str(self.folder / "out"), "--workers", "2"]
        process = subprocess.Popen([sys.executable, "-m", "tessaron", *arguments])
        for _ in range(400):
            if len(os.listdir(f"/proc/{process.pid}/task")) > 2:
                break
            time.sleep(0.02)
        process.kill()
        process.wait()
        self.assertFalse((self.folder / "out").exists())
        tessaron.export(b"{}", self.folder / "out")
        self.assertEqual(sorted(os.listdir(self.folder)), ["out", source.name])

    def test_patterns_are_the_same_for_any_number(self):
        source = self.large()
        one, three = (tessaron.shred(source, workers=n, without=["moves"]) for n in (1, 3))
        self.assertEqual(list(one), list(three))
        for name in one:
            self.assertTrue(one[name].equals(three[name]), name)


class KeysTest(FolderTest):
    def test_digest_keys_are_the_same_on_every_run_and_for_every_record_alone(self):
        records = [{"id": n, "xs": [{"y": [1, 2]}, {"y": [n]}]} for n in range(5)]
        data = "\n".join(map(json.dumps, records)).encode()
        for options in ({}, {"key": ["id"]}):
            with self.subTest(options):
                whole = tessaron.shred(data, name="r", keys="digest", chunk_bytes=20, **options)
                last = tessaron.shred(
                    json.dumps(records[4]).encode(), name="r", keys="digest", records="$", **options
                )
                for name, table in last.items():
                    expected = whole[name].to_pylist()[-table.num_rows :]
                    self.assertEqual(table.to_pylist(), expected, name)
                keys = whole["r_xs_y"].column("row_key").to_pylist()
                self.assertEqual(len(set(keys)), 15)
                self.assertRegex(keys[0], "^[0-9a-f]{32}$")
                parents = set(whole["r_xs"].column("row_key").to_pylist())
                self.assertEqual(set(whole["r_xs_y"].column("parent_key").to_pylist()), parents)

    def test_digest_keys_where_a_structure_contains_itself(self):
        record = {"c": [{"n": 1, "c": [{"n": 2}, {"n": 3, "c": [{"n": 4}]}]}, {"n": 5}]}
        table = tessaron.shred(json.dumps(record).encode(), name="r", keys="digest", records="$")["r_c"]
        keys = table.column("row_key").to_pylist()
        self.assertEqual(table.column("within_key").to_pylist(), [None, keys[0], keys[0], keys[2], None])
        self.assertEqual(len(set(keys)), 5)

    def test_natural_keys_are_offered_and_checked(self):
        records = [{"id": 1, "code": "a", "n": 1}, {"id": 2, "code": None, "n": 1}]
        more = [{"id": number, "code": None, "n": 1} for number in range(3, 21)]
        self.assertEqual(tessaron.shred([*records, *more[:-1]]).candidate_keys, ())
        tables = tessaron.shred([*records, *more])
        self.assertEqual((tables.candidate_keys, tables.key_check), (("id",), None))
        check = tessaron.shred(records, key=["id"]).key_check
        self.assertTrue(check.passed)
        check = tessaron.shred(records, key=["n", "code"]).key_check
        self.assertEqual((check.passed, check.duplicates, check.nulls), (False, 0, 1))
        with self.assertRaisesRegex(
            tessaron.UsageError, "no column 'nr' in records for its key; there are id, code, n"
        ):
            tessaron.shred(records, key=["nr"])
        with self.assertRaisesRegex(tessaron.UsageError, "need a natural key"):
            tessaron.shred(records, keys="digest")

    def test_a_key_that_is_none_fails_the_command(self):
        source = self.write("r.ndjson", '{"id":1}\n{"id":1}\n')
        done = command("export", source, "-o", self.folder / "o", "--keys", "digest")
        self.assertEqual(done.returncode, 1)
        self.assertIn(
            b"check failed: row_key is no key: 1 row with the values of an earlier one", done.stderr
        )
        done = command("export", source, "-o", self.folder / "p", "--key", "id", "--json")
        self.assertEqual(done.returncode, 1)
        self.assertEqual(
            json.loads(done.stdout)["key_check"],
            {"columns": ["id"], "duplicates": 1, "nulls": 0, "table": ""},
        )

    def test_options_that_cannot_be(self):
        cases = (
            (("--memory", "7 parrots"), "expected a size like 400MB"),
            (("--memory", "1MB"), "expected memory of at least 200,000,000, got 1,000,000"),
            (("--workers", "0"), "1<=x<=256"),
            (("--records", "$["), "character 3: expected"),
        )
        source = self.write("r.ndjson", '{"id":1}\n')
        for arguments, message in cases:
            with self.subTest(message):
                done = command("export", source, "-o", self.folder / "o", *arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())


class MemoryTest(FolderTest):
    def test_memory_decides_how_many_work_and_on_how_much(self):
        free = Options(workers=4)
        tight, wide = Options(workers=4, memory=200_000_000), Options(workers=4, memory=2_000_000_000)
        self.assertEqual((free.worker_count(), tight.worker_count(), wide.worker_count()), (4, 1, 4))
        self.assertLess(tight.bounded_chunk_bytes(), wide.bounded_chunk_bytes())
        self.assertLess(tight.collected_bytes(), free.collected_bytes())
        self.assertLessEqual(wide.bounded_chunk_bytes(), free.bounded_chunk_bytes())
        self.assertEqual(Options(workers=8, first=10).worker_count(), 1)
