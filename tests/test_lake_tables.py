"""Lake tables (Apache Iceberg): a catalog in SQLite, files in a folder or in a store, read back by pyiceberg itself."""

import json
import logging
import os
import unittest
from unittest import mock

import pyarrow.parquet as pq
from pyiceberg.catalog import load_catalog

import tessaron
from tessaron.repeat.ledgers.ledger_places import LedgerBeside
from tessaron.sinks.lake.lake_tables import LakeTarget
from tessaron.sources.demo.vessel_calls import call_line, iter_calls
from tests.golden import cases, source_of
from tests.harness import FolderTest, quick_command

LINES = [call_line(call) for call in iter_calls(40)]


COMMIT = LakeTarget._commit


def _break_off(left, target, table, record):
    """Commit so many tables, then break off."""
    if not left[0]:
        raise KeyboardInterrupt
    left[0] -= 1
    COMMIT(target, table, record)


class LakeTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.catalog = f"sqlite:///{self.folder / 'catalog.db'}"
        self.warehouse = self.folder / "wh"
        self.place = f"iceberg:{self.catalog}?warehouse={self.warehouse}"
        self.source = self.write("calls.ndjson", "\n".join(LINES))

    def table(self, name, namespace="default"):
        made = load_catalog("default", type="sql", uri=self.catalog, warehouse=self.warehouse.as_uri())
        return made.load_table((namespace, name))

    def test_modes(self):
        first = tessaron.load(self.source, self.place, name="calls", workers=1)
        stays = self.table("calls_stays")
        self.assertEqual(
            (stays.scan().to_arrow().num_rows, len(stays.metadata.snapshots)), (first.tables[2].after, 1)
        )
        self.assertEqual(stays.schema().find_field("berth").doc, "$.stays[*].berth")
        self.assertEqual(
            (stays.properties["tessaron.key"], json.loads(stays.properties["tessaron.references"])),
            ("row_key", {"parent_key": "calls"}),
        )
        self.assertEqual(stays.current_snapshot().summary["tessaron.run"], "1")
        self.assertTrue(tessaron.verify(self.place).passed)
        with self.assertRaisesRegex(tessaron.TargetError, "there already.*--mode append or replace"):
            tessaron.load(self.source, self.place, name="calls")
        again = tessaron.load(self.source, self.place, mode="append", as_before=True)
        self.assertEqual(
            [(table.before, table.after) for table in again.tables],
            [(table.after, 2 * table.after) for table in first.tables],
        )
        keys = sorted(
            self.table("calls_stays")
            .scan(selected_fields=("row_key",))
            .to_arrow()
            .column("row_key")
            .to_pylist()
        )
        self.assertEqual(keys, list(range(1, len(keys) + 1)))
        self.assertTrue(tessaron.verify(self.place, [self.source, self.source]).passed)
        replaced = tessaron.load(
            self.write("few.ndjson", "\n".join(LINES[:5])),
            self.place,
            name="calls",
            mode="replace",
            as_before=True,
        )
        self.assertEqual((replaced.tables[0].after, replaced.run), (5, 3))
        self.assertEqual(self.table("calls").scan().to_arrow().num_rows, 5)

    def test_every_structure_is_identical(self):
        for case in cases():
            if (
                (case / "options.json").exists()
                or (case / "given.layout.toml").exists()
                or case.name == "broken"
            ):
                continue
            with self.subTest(case.name):
                tessaron.load(source_of(case), self.place, name=case.name, schema=case.name)
                found = tessaron.verify(self.place, schema=case.name, name=case.name)
                self.assertTrue(
                    found.passed, (found.differences, [check for check in found.checks if not check.passed])
                )

    def test_columns_that_are_new_or_other(self):
        tessaron.load([{"a": 1}], self.place, name="t")
        loaded = tessaron.load([{"a": 2, "b": "x"}], self.place, name="t", mode="append")
        self.assertEqual(loaded.tables[0].after, 2)
        rows = self.table("t").scan().to_arrow().sort_by("row_key").to_pylist()
        self.assertEqual([(row["a"], row["b"]) for row in rows], [(1, None), (2, "x")])
        tessaron.load([{"a": 3}], self.place, name="t", mode="append")
        with self.assertRaisesRegex(
            tessaron.TargetError,
            r"(?s)other types.*t\.a is int64 there, and string here|t\.a is int64 there, and large_string here",
        ):
            tessaron.load([{"a": "x"}], self.place, name="t", mode="append")

    def test_files_in_a_store(self):
        from moto.server import ThreadedMotoServer

        logging.getLogger("werkzeug").setLevel(logging.ERROR)
        server = ThreadedMotoServer(port=0, verbose=False)
        server.start()
        self.addCleanup(server.stop)
        host, port = server.get_host_and_port()
        known = {
            "AWS_ENDPOINT_URL": f"http://{host}:{port}",
            "AWS_ACCESS_KEY_ID": "clerk",
            "AWS_SECRET_ACCESS_KEY": "low-tide",
            "AWS_DEFAULT_REGION": "us-east-1",
        }
        with mock.patch.dict(os.environ, known):
            import fsspec

            store = fsspec.filesystem(
                "s3",
                endpoint_url=known["AWS_ENDPOINT_URL"],
                key="clerk",
                secret="low-tide",
                skip_instance_cache=True,
            )
            store.mkdir("warehouse")
            place = f"iceberg:{self.catalog}?warehouse=s3://warehouse/harbour"
            tessaron.load(self.source, place, name="calls")
            self.assertTrue(tessaron.verify(place).passed)
            files = [
                path
                for path in store.find("warehouse/harbour")
                if path.endswith(".parquet") and "/calls/" in path
            ]
            with store.open(files[0]) as file:
                self.assertEqual(pq.read_table(file).num_rows, 40)

    def test_what_cannot_be(self):
        layout = tessaron.Layout(
            '[tables.t]\nrows = "$"\n[tables.t.columns]\nat = { path = "$.at", type = "timestamp(9)" }\n'
        )
        cases = (
            (self.place, {"into_existing": True}, "go with databases, not with lake tables"),
            (self.place, {"mode": "merge", "key": ["call_id"]}, "merge goes into databases"), (f"iceberg:{self.catalog}", {}, "say where its files are"),
            ("iceberg:nowhere", {}, "no such catalog"), (self.place, {"layout": layout}, "t.at has 9 digits of a second"),
        )  # fmt: skip
        for place, options, said in cases:
            with self.subTest(said), self.assertRaisesRegex(tessaron.UsageError, said):
                tessaron.load(self.source, place, **options)
        with self.assertRaisesRegex(tessaron.SourceError, "no run has loaded anything"):
            tessaron.verify(self.place)
        with (
            mock.patch.dict("sys.modules", {"pyiceberg.catalog": None}),
            self.assertRaisesRegex(tessaron.UsageError, r"tessaron\[lake\]"),
        ):
            tessaron.load(self.source, self.place)

    def test_a_broken_load_leaves_what_was_there(self):
        tessaron.load(self.source, self.place, name="calls")
        broken = self.write("broken.ndjson", "\n".join([*LINES, "{"]))
        with self.assertRaises(tessaron.TessaronError):
            tessaron.load(broken, self.place, mode="append", as_before=True, stop_after=0)
        self.assertTrue(tessaron.verify(self.place, self.source).passed)

    def test_rejects_have_a_table(self):
        tessaron.load(self.write("broken.ndjson", "\n".join([*LINES, "{"])), self.place, name="calls")
        rows = self.table("tessaron_rejects").scan().to_arrow().to_pylist()
        self.assertEqual(
            [(row["run"], row["line"], row["code"], row["raw"]) for row in rows], [(1, 41, "truncated", "{")]
        )

    def keep(self, **options):
        inbox, ledger = self.folder / "inbox", self.folder / "l.db"
        return tessaron.keep_up(inbox, self.place, ledger=ledger, name="calls", **options)

    def test_a_ledger_and_a_structure_that_changes(self):
        self.write("inbox/a.ndjson", '{"id": 1, "teu": 1.5, "n": 3, "stays": [{"b": 1}]}')
        self.assertEqual((self.keep().new, self.keep().known), (1, 1))
        new = {"id": 2, "teu": 10.5, "n": 0.5, "pilot": "x", "stays": [{"b": 2, "q": True}], "moves": [1, 2]}
        self.write("inbox/b.ndjson", json.dumps(new))
        with self.assertRaisesRegex(tessaron.DataError, r"(?s)nothing was loaded:.*\$\.pilot"):
            self.keep(on_change="stop")
        kept = self.keep(on_change="extend")
        added = ("calls.pilot: $.pilot", "calls_stays.q: $.stays[*].q", "calls_moves: $.moves[*]")
        # Iceberg lets decimals get longer; it has no way from integers to them.
        self.assertEqual(kept.changes[:4], (*added, "calls.teu: decimal(2,1) → decimal(3,1)"))
        self.assertRegex(kept.changes[4], r"^\$\.n: 1 value has no place")
        rows = self.table("calls").scan().to_arrow().sort_by("id").to_pylist()
        self.assertEqual(
            [(row["pilot"], row["n"], str(row["teu"])) for row in rows],
            [(None, 3, "1.5"), ("x", None, "10.5")],
        )
        told = tessaron.history(self.place).runs
        self.assertEqual(
            [(run.run, run.records, run.changes) for run in told], [(2, 1, kept.changes), (1, 1, ())]
        )
        self.assertTrue(tessaron.verify(self.place, self.folder / "inbox").passed)
        traced = tessaron.trace(self.place, "calls_stays", 2)
        self.assertEqual(
            (traced.run, traced.source, traced.place), (2, str(self.folder / "inbox/b.ndjson"), "$.stays[0]")
        )
        changes = tessaron.compare(self.place, self.folder / "inbox/b.ndjson").changes
        self.assertEqual([(each.path, each.column) for each in changes], [("$.n", "calls.n")])
        done = quick_command(
            "watch",
            self.folder / "inbox",
            "--to",
            self.place,
            "--ledger",
            self.folder / "l.db",
            "--rounds",
            "1",
        )
        self.assertEqual((done.returncode, b"loaded" in done.stderr), (0, False), done.stderr)
        with self.assertRaisesRegex(tessaron.UsageError, "in a file: --ledger FILE"):
            tessaron.keep_up(self.folder / "inbox", self.place, ledger=self.place)

    def test_a_run_that_breaks_off_between_two_tables_is_taken_back(self):
        for run in (1, 2):
            self.write(f"inbox/{run}.ndjson", "\n".join([*LINES[20 * run - 20 : 20 * run], "{"]))
            for done in range(4):
                self.break_off(done)
            self.assertEqual(len(tessaron.history(self.place).runs) if run > 1 else 0, run - 1)
            with (
                mock.patch.object(LedgerBeside, "after", side_effect=KeyboardInterrupt),
                self.assertRaises(KeyboardInterrupt),
            ):
                self.keep()
            # It was all there, and only the ledger did not know.
            kept = self.keep()
            self.assertEqual((kept.new, kept.known, len(tessaron.history(self.place).runs)), (0, run, run))
            keys = self.table("calls_stays").scan().to_arrow().column("row_key").to_pylist()
            self.assertEqual(sorted(keys), list(range(1, len(keys) + 1)))
            codes = self.table("tessaron_rejects").scan().to_arrow().column("code").to_pylist()
            self.assertEqual(codes.count("truncated"), run)
        self.assertTrue(tessaron.verify(self.place, self.folder / "inbox").passed)

    def break_off(self, done, **options):
        left = [done]
        with (
            mock.patch.object(LakeTarget, "_commit", lambda *each: _break_off(left, *each)),
            self.assertRaises(KeyboardInterrupt),
        ):
            self.keep(**options)

    def test_what_comes_after_a_break_may_have_other_types(self):
        inbox = self.folder / "inbox"
        self.write("inbox/a.ndjson", '{"id": 1, "teu": 1.5, "stays": [{"b": 1}]}')
        self.break_off(1)
        self.assertEqual(len(list(self.folder.glob("wh/default/calls_stays/data/*"))), 1)
        self.write("inbox/a.ndjson", '{"id": 1, "teu": 1.5, "stays": [{"b": "N1"}]}')
        self.assertEqual(self.keep().new, 1)
        self.write("inbox/b.ndjson", '{"id": 2, "teu": 22.5, "stays": [{"b": "N2", "q": 1}], "moves": [1]}')
        for done in (1, 2):
            self.break_off(done, on_change="extend")
        later = '{"id": 2, "teu": 2.5, "p": 1, "stays": [{"b": "N2", "q": "x", "r": 1}], "moves": [true]}'
        self.write("inbox/b.ndjson", later)
        self.assertEqual(self.keep(on_change="extend").new, 1)
        self.assertEqual(self.table("calls_stays").schema().column_names[-2:], ["q", "r"])
        self.assertTrue(tessaron.verify(self.place, inbox).passed)

    def test_the_command(self):
        done = quick_command(
            "load", self.source, "--to", self.place, "--name", "calls", "--schema-name", "harbour"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn(f"7 tables of iceberg:{self.catalog}", done.stdout.decode())
        done = quick_command("verify", self.place, "--schema-name", "harbour")
        self.assertIn(b"identical: 40 records compared", done.stdout)
        self.assertEqual(
            quick_command(
                "rebuild", self.place, "-o", self.folder / "o.ndjson", "--schema-name", "harbour"
            ).returncode,
            0,
        )


if __name__ == "__main__":
    unittest.main()
