"""A run in parts, in threads and on a real cluster: the same tables, receipts and rejects as on one machine."""

import gzip
import io
import json
import os
import random
import shutil
import signal
import unittest
from itertools import pairwise
from unittest import mock

import pyarrow as pa
import pyarrow.csv as pc
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.errors import SourceError, TargetError, TessaronError, UsageError
from tessaron.core.layout.table_set import TableSet
from tessaron.engine.intake import Wanted
from tessaron.engine.options import Options
from tessaron.engine.parts import dask_engine, kept_parts
from tessaron.engine.parts.clusters import Cluster
from tessaron.engine.parts.dask_engine import DaskEngine
from tessaron.engine.parts.here_engine import HereEngine
from tessaron.engine.parts.local_workers import LocalWorkers
from tessaron.engine.parts.part_specs import FilePiece, PackedOnce, PartContext, PartTask, SourcePart
from tessaron.engine.parts.part_work import read_part
from tessaron.sinks.target_folder import sha256_of
from tessaron.sources.demo.manifests import write_manifests
from tessaron.sources.demo.vessel_calls import iter_calls, write_calls
from tessaron.sources.exported.table_folder import TableFolder
from tessaron.sources.forms.file_form import FileForm
from tessaron.sources.forms.gzip_members import GzipMembers
from tessaron.sources.spans import Span, SpanLines, check_chain
from tessaron.write.parted.part_files import FilesPlace
from tessaron.write.parted.part_writing import write_part
from tests.harness import FolderTest, command, quick_command
from tests.postgres import needs_postgres, postgres_database

PART_BYTES = 40_000
LAYOUT = """
[tables.calls]
rows = "$"
key = ["call_id"]
[tables.calls.columns]
call_id = { path = "$.call_id", type = "text", required = true }
vessel = { path = "$.vessel.number", type = "integer" }
status = { path = "$.status", type = "text", unique = true, failed = "record" }
line = { origin = "origin_line" }
record = { origin = "origin_record" }
[tables.vessels]
rows = "$"
once = ["vessel"]
[tables.vessels.columns]
vessel = { path = "$.vessel.number", type = "integer" }
name = { path = "$.vessel.name", type = "text" }
[tables.stays]
rows = "$.stays[*]"
parent = "calls"
[tables.stays.columns]
berth = { path = "$.berth", type = "text" }
"""

PAIRED = """
[tables.calls]
rows = "$"
[tables.calls.columns]
call_id = { path = "$.call_id", type = "text" }
record = { origin = "origin_record" }
eta = { path = "$.eta", type = "integer" }
[tables.stays]
rows = "$.stays[*]"
multiply = ["services"]
[tables.stays.columns]
berth = { path = "$.stays[*].berth", type = "text" }
[tables.services]
rows = "$.services[*]"
[tables.services.columns]
kind = { path = "$.services[*].kind", type = "text" }
"""


def tables_of(folder, form=None):
    """Return, by table, its rows in the order of their keys as the bytes of CSV."""
    layout = tessaron.Layout.read(folder / "layout.toml").compiled(secret=b"any")
    files = TableFolder(folder, form or FileForm.of(json.loads((folder / "receipt.json").read_text())))
    found = {}
    for table in layout.written().tables:
        schema = table.arrow_schema()
        rows = pa.Table.from_batches(
            [each.cast(schema) for each in files.batches(table, schema.names)], schema
        )
        out = io.BytesIO()
        pc.write_csv(rows.sort_by(table.row_key), out)
        found[table.name] = (schema, out.getvalue())
    return found


def told_by(folder):
    """Return the receipt without what differs between runs, the layout, and the rejects in order."""
    receipt = json.loads((folder / "receipt.json").read_text("utf-8"))
    for name in ("started", "seconds", "target", "cluster"):
        receipt.pop(name, None)
    for table in receipt["tables"]:
        del table["file"], table["sha256"]
    rejects = folder / "rejects.ndjson"
    listed = sorted(rejects.read_text("utf-8").splitlines()) if rejects.exists() else []
    return receipt, (folder / "layout.toml").read_text("utf-8"), listed


class ComparingTest(FolderTest):
    def compare(self, source, cluster="here:2", part_bytes=PART_BYTES, **options):
        """Export here and on an engine; everything has to be the same. Return the second folder."""
        results, errors = [], []
        for name, extra in (("one", {}), ("parts", {"cluster": Cluster(cluster, part_bytes)})):
            target = self.folder / name
            shutil.rmtree(target, ignore_errors=True)
            try:
                tessaron.export(source, target, sync=False, **options, **extra)
            except TessaronError as error:
                errors.append(str(error))
                self.assertFalse(target.exists())
                continue
            results.append((told_by(target), tables_of(target)))
        if errors:
            self.assertEqual(errors[0], errors[-1])
            self.assertEqual(len(errors), 2, errors)
            return None
        self.assertEqual(*(told for told, _ in results))
        for name, rows in results[0][1].items():
            self.assertEqual(rows, results[1][1][name], name)
        return self.folder / "parts"


class PartsTest(ComparingTest):
    def feeds(self):
        """Write feeds of all forms; yield the path of each."""
        records = list(iter_calls(150))
        lines = [json.dumps(each) + "\n" for each in records]
        body = "".join(lines).encode()
        random.seed(7)
        cuts = [0, *sorted(random.randrange(len(body)) for _ in range(25)), len(body)]
        packed = b"".join(gzip.compress(body[at:to], mtime=0) for at, to in pairwise(cuts))
        bad = list(lines)
        for number in (3, 90, 91, 149):
            bad[number] = bad[number][:70] + "nothing\n"
        bad[40] = bad[130] = '{"call_id": "a", "call_id": "b"}\n'
        bad[70:70] = ["\n", "   \n"]
        yield self.write("lines.ndjson", body)
        yield self.write("bad.ndjson", "".join(bad))
        yield self.write("members.ndjson.gz", packed)
        yield self.write("cut.ndjson.gz", packed[:-2_000])
        yield self.write("one.ndjson.gz", gzip.compress(body, mtime=0))
        yield self.write("array.json", json.dumps(records))
        yield self.write("broken.json", json.dumps(records)[:-9_000])
        yield self.write("spread.json", json.dumps(records[:60], indent=1))
        yield self.write("envelope.json", json.dumps({"page": 1, "calls": records}))
        for number in range(9):
            page = {"page": number, "calls": records[number * 12 : number * 12 + 12]}
            self.write(f"pages/{number}.json", json.dumps(page))
            self.write(f"days/{number}.ndjson", "".join(bad[number * 15 : number * 15 + 15]))
        for number, each in enumerate(records[:60]):
            self.write(f"single/{number}.json", json.dumps(each))
        self.write("mixed/a.ndjson", body)
        self.write("mixed/b.ndjson", b"")
        self.write("mixed/c.json", json.dumps(records[:30]))
        yield from (self.folder / name for name in ("pages", "days", "single", "mixed"))
        yield write_manifests(self.folder, 90)
        yield self.write("empty.ndjson", b"")

    def test_all_forms_of_sources_give_the_same(self):
        checked = 0
        for source in self.feeds():
            for options in ({}, {"origin": True}):
                with self.subTest(source=source.name, **options):
                    self.compare(source, **options)
                    checked += 1
        self.assertEqual(checked, 30)

    def test_options_give_the_same(self):
        *_, source = (each for each in self.feeds() if each.name in ("lines.ndjson", "days"))
        lines, bad = self.folder / "lines.ndjson", self.folder / "bad.ndjson"
        layout = tessaron.Layout(LAYOUT, "own")
        for at, options in (
            (source, {"keys": "digest"}), (lines, {"key": ["call_id"]}), (source, {"lookups": True}),
            (lines, {"exact": True, "keys": "digest"}), (lines, {"flat": "$.stays[*].moves[*]"}),
            (lines, {"only": ["call_id", "moves"]}), (lines, {"format": "csv", "file_rows": 50}),
            (lines, {"partition": ["status"]}), (source, {"records": "$.stays[*].moves[*]"}),
            (source, {"records": "$..moves[?@.teu > 1]"}), (lines, {"memory": 300_000_000}),
            (bad, {"duplicate_keys": "reject"}), (bad, {"stop_after": 2}), (bad, {"stop_at_share": 0.001}),
            (lines, {"layout": layout}), (bad, {"layout": layout}), (source, {"layout": layout}),
            (lines, {"kernel": "python"}), (source, {"layout": tessaron.Layout(PAIRED, "paired")}),
            (list(iter_calls(50)), {}), (json.dumps(list(iter_calls(50))).encode(), {}),
        ):  # fmt: skip
            with self.subTest(**options):
                self.compare(at, **options)

    def test_names_that_are_data_and_trees(self):
        record = (
            '{{"call": {0}, "by_day": {{{1}}}, "tree": {{"mast": {{"n": 1, "yard_{0}": {{"n": 2}}}}}}}}\n'
        )
        days = (
            ", ".join(f'"d{(number * 7 + day) % 400}": {{"teu": {day}}}' for day in range(12))
            for number in range(300)
        )
        source = self.write("days.ndjson", "".join(record.format(n, day) for n, day in enumerate(days)))
        self.compare(source)

    def test_files_have_the_digests_that_the_receipt_tells(self):
        source = write_calls(self.folder, 120)
        target = self.compare(source)
        receipt = json.loads((target / "receipt.json").read_text())
        self.assertGreater(receipt["cluster"]["parts"], 2)
        self.assertGreater(sum(each["tasks"] for each in receipt["cluster"]["workers"]), 4)
        for table in receipt["tables"]:
            self.assertEqual(sha256_of(target / table["file"]), table["sha256"])
        self.assertEqual(
            sorted(os.listdir(target)),
            sorted(
                [*{each["file"] for each in receipt["tables"]}, "layout.toml", "load.sql", "receipt.json"]
            ),
        )
        done = quick_command("verify", target, source)
        self.assertIn(b"identical", done.stdout)
        again = quick_command("export", source, "-o", target, "--replace", "--cluster", "here:1")
        self.assertEqual(again.returncode, 0, again.stderr)

    def test_wrong_use_is_told(self):
        source = write_calls(self.folder, 5)
        out = self.folder / "out"
        for arguments, words in (
            (("--cluster", "somewhere"), "expected the address of a scheduler"),
            (("--cluster", "local:0"), "expected 1 to"),
            (("--cluster", "tcp://127.0.0.1:9"), "no scheduler answers"),
            (("--part-size", "1MB"), "--part-size goes with --cluster"),
            (("--cluster", "here:1", "--format", "xlsx"), "a spreadsheet is one file"),
            (("--cluster", "here:1", "--sort", "call_id"), "sort brings all rows in one order"),
            (("--cluster", "here:1", "--ledger", "l.db"), "--cluster does not go with --ledger"),
        ):
            with self.subTest(arguments=arguments):
                with mock.patch.object(dask_engine, "_CONNECT_SECONDS", 1):
                    done = quick_command("export", source, "-o", out, *arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr.decode())
                self.assertFalse(out.exists())
        for options, words in (
            ({"to": "sqlite:///x.db"}, "PostgreSQL only"),
            ({"to": "postgresql://nobody@127.0.0.1:9/x", "mode": "merge"}, "records are compared"),
        ):
            with self.assertRaisesRegex(UsageError, words):
                tessaron.load(source, cluster="here:1", **options)
        with self.assertRaisesRegex(UsageError, "needs no cluster"):
            tessaron.export(source, out, cluster="here:1", first=3)
        place = FilesPlace(str(self.folder), "", FileForm(), 1_000, "another run")
        with self.assertRaisesRegex(TargetError, "does not see this folder"):
            place.write(0, TableSet(()), iter(()))
        piece = FilePiece(0, "calls.json", 10, str(self.folder / "nowhere.json"))
        context = PackedOnce.of(PartContext("t", Wanted(Options())))
        with self.assertRaisesRegex(SourceError, "the worker on .* does not see this file"):
            read_part(PartTask(context, SourcePart(0, (piece,))))

    def test_what_workers_lose_is_made_again(self):
        source = write_calls(self.folder, 150)
        real, lost = HereEngine._done, []

        def forgetful(engine, work, packed):
            done = real(engine, work, packed)
            with kept_parts._LOCK:
                tokens = {token for token, _ in kept_parts._KEPT}
            lost.extend(tokens)
            for token in tokens:
                kept_parts.forget_run(token)
            return done

        with mock.patch.object(HereEngine, "_done", forgetful):
            for options in ({}, {"layout": tessaron.Layout(LAYOUT, "own")}, {"keys": "digest"}):
                with self.subTest(**options):
                    self.compare(source, **options)
        self.assertTrue(lost)

    def test_a_task_that_runs_twice_changes_nothing(self):
        source = write_calls(self.folder, 150)
        real, twice = HereEngine._done, []

        def again(engine, work, packed):
            if work is write_part:
                real(engine, work, packed)
                twice.append(work)
            return real(engine, work, packed)

        with mock.patch.object(HereEngine, "_done", again):
            self.compare(source)
            self.compare(source, layout=tessaron.Layout(LAYOUT, "own"))
        self.assertGreater(len(twice), 8)


class SpansTest(unittest.TestCase):
    @settings(max_examples=300, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(
        st.lists(st.text("ab\n", max_size=6), max_size=12), st.lists(st.integers(0, 400), max_size=5),
        st.lists(st.integers(0, 60), max_size=4), st.booleans(),
    )  # fmt: skip
    def test_every_line_is_in_one_span(self, texts, bounds, cuts, is_gzip):
        data = "\n".join(texts).encode()
        cuts = [0, *sorted(min(cut, len(data)) for cut in cuts), len(data)]
        members = (gzip.compress(data[at:to], mtime=0) for at, to in pairwise(cuts))
        whole = b"".join(members) if is_gzip else data
        bounds = sorted({0, len(whole), *(min(bound, len(whole)) for bound in bounds)})
        found, ends = [], []
        for start, stop in pairwise(bounds):
            lines = SpanLines("calls", lambda at: io.BytesIO(whole[at:]), Span(start, stop, is_gzip))
            found.append(b"".join(lines))
            ends.append((lines.first, lines.end))
        self.assertEqual(b"".join(found), data)
        for text in found[:-1]:
            self.assertTrue(not text or text.endswith(b"\n") or data.endswith(text))
        if is_gzip:
            check_chain("calls", ends)

    def test_members_larger_than_what_is_unpacked_at_once(self):
        texts = [
            bytes([letter]) * size
            for letter, size in zip(b"abcdef", (900_000, 3, 700_000, 1, 262_144, 50), strict=True)
        ]
        whole = b"".join(gzip.compress(text, mtime=0) for text in texts) + b"\0" * 5
        members, found = GzipMembers(io.BytesIO(whole)), b""
        while block := members.read(100_000):
            found += block
        self.assertEqual(found, b"".join(texts))

    def test_what_looks_like_a_member_is_told(self):
        with self.assertRaisesRegex(SourceError, "looks like a member at byte 90 is none"):
            check_chain("calls.gz", [(0, 80), (None, None), (90, 120)])


class DaskTest(ComparingTest):
    """On processes of their own, with a real scheduler."""

    def test_workers_and_a_scheduler_that_are_killed(self):
        source = write_calls(self.folder, 1_200)
        real, killed, taken = DaskEngine._taken, [], []

        def killing(engine, sent):
            taken.append(sent)
            if len(taken) in (4, 40, 75):
                workers = sorted(engine._client.run(os.getpid, on_error="ignore").values())
                # Once all of them at a time: nobody is left for whom others would do.
                for process in workers if len(taken) == 40 else workers[:1]:
                    os.kill(process, signal.SIGKILL)
                    killed.append(process)
            return real(engine, sent)

        with LocalWorkers(2) as local:
            with (
                mock.patch.object(DaskEngine, "_taken", killing),
                mock.patch.object(dask_engine, "_LOOK_SECONDS", 2),
            ):
                for options in ({}, {"layout": tessaron.Layout(LAYOUT, "own")}):
                    self.compare(source, local.address, 120_000, **options)
            self.assertGreaterEqual(len(killed), 3, len(taken))
            self.check_scheduler_gone(local, source)

    def check_scheduler_gone(self, local, source):
        """Kill the scheduler while a run goes on: nothing may be written."""
        target = self.folder / "gone"
        real, begun = DaskEngine._taken, []

        def taken(engine, future):
            if len(begun) == 2:
                local._processes[0].kill()
            begun.append(future)
            return real(engine, future)

        with (
            mock.patch.object(DaskEngine, "_taken", taken),
            mock.patch.object(dask_engine, "_CONNECT_SECONDS", 2),
            self.assertRaisesRegex(SourceError, "the scheduler is gone .*; nothing was written"),
        ):
            tessaron.export(source, target, cluster=Cluster(local.address, PART_BYTES))
        self.assertEqual([name for name in os.listdir(self.folder) if "gone" in name], [])

    def test_the_command_line_on_processes_of_this_machine(self):
        source = write_calls(self.folder, 300)
        target = self.folder / "parts"
        done = command(
            "export",
            source,
            "-o",
            target,
            "--cluster",
            "local:2",
            "--part-size",
            "100KB",
            "--page",
            self.folder / "p.html",
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(
            done.stdout.decode(),
            r"on local:2: \d+ parts by 2 workers\n  tcp://[\d.:]+: \d+ tasks, [\d.]+ seconds, at most \d+ MB\n",
        )
        self.assertIn(b"BRW-0000001", (self.folder / "p.html").read_bytes())
        self.assertIn(b"identical", quick_command("verify", target, source).stdout)

    def test_versions_must_be_the_same(self):
        with (
            mock.patch.object(dask_engine, "__version__", "0.0.1"),
            self.assertRaisesRegex(UsageError, "has Tessaron .*; install 0.0.1 there"),
        ):
            tessaron.export("[]", self.folder / "out", cluster="local:1")


@needs_postgres
class CopiedPartsTest(FolderTest):
    def loaded(self, url, source, **options):
        """Load; return the receipt, and what is in the database: columns, constraints, rows and comments."""
        import psycopg

        done = tessaron.load(source, url, **options)
        told = {
            **done.receipt.to_dict(),
            "tables": [(each.name, each.before, each.written, each.after) for each in done.tables],
        }
        for name in ("started", "seconds", "target", "cluster"):
            told.pop(name, None)
        with psycopg.connect(url) as connection:
            there = {}
            for (name,) in connection.execute(
                "SELECT tablename FROM pg_tables WHERE schemaname = 'public' AND tablename NOT LIKE 'tessaron%' ORDER BY 1"
            ).fetchall():
                where = (name,)
                there[name] = [
                    connection.execute("SELECT attname, format_type(atttypid, atttypmod), attnotnull, col_description(attrelid, attnum) FROM pg_attribute WHERE attrelid = quote_ident(%s)::regclass AND attnum > 0 ORDER BY attnum", where).fetchall(),
                    sorted(connection.execute("SELECT conname, pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = quote_ident(%s)::regclass", where).fetchall()),
                    sorted(connection.execute("SELECT indexdef FROM pg_indexes WHERE tablename = %s", where).fetchall()),
                    connection.execute("SELECT relpersistence, obj_description(oid) FROM pg_class WHERE oid = quote_ident(%s)::regclass", where).fetchone(),
                    sorted(map(str, connection.execute(f'SELECT * FROM "{name}"').fetchall())),
                ]  # fmt: skip
            left = connection.execute(
                "SELECT nspname FROM pg_namespace WHERE nspname LIKE 'tessaron%'"
            ).fetchall()
        self.assertEqual(left, [])
        return told, there

    def test_the_same_tables_as_from_one_machine(self):
        pages = [{"page": number, "calls": list(iter_calls(30))} for number in range(3)]
        for number, page in enumerate(pages):
            self.write(f"pages/{number}.json", json.dumps(page))
        lines = write_calls(self.folder, 200)
        for source, options in (
            (lines, {}),
            (self.folder / "pages", {}),
            (lines, {"layout": tessaron.Layout(LAYOUT, "own")}),
        ):
            found = []
            for cluster in ({}, {"cluster": Cluster("here:2", PART_BYTES)}):
                with postgres_database() as url:
                    modes = ("create", "append", "replace")
                    found.append(
                        [self.loaded(url, source, mode=mode, **options, **cluster) for mode in modes]
                    )
            for one, parts in zip(*found, strict=True):
                self.assertEqual(one, parts)

    def test_tasks_that_run_twice_and_loads_that_fail(self):
        import psycopg

        source = write_calls(self.folder, 200)
        real = HereEngine._done

        def again(engine, work, packed):
            if work is write_part:
                real(engine, work, packed)
            return real(engine, work, packed)

        cluster = Cluster("here:2", PART_BYTES)
        with postgres_database() as url, psycopg.connect(url, autocommit=True) as connection:
            # What a load that was killed has left.
            connection.execute("CREATE SCHEMA tessaron_staging_0123456789ab")
            with mock.patch.object(HereEngine, "_done", again):
                _, there = self.loaded(url, source, cluster=cluster)
            with self.assertRaisesRegex(TargetError, "are there already"):
                self.loaded(url, source, cluster=cluster)
            bad = self.write(
                "bad.ndjson", source.read_text("utf-8") + '{"call_id": "BRW-1", "remarks": "a\\u0000b"}\n'
            )
            with self.assertRaisesRegex(TargetError, "NUL"):
                tessaron.load(
                    bad, url, mode="append", cluster=cluster, name="vessel_calls", into_existing=True
                )
            count = connection.execute("SELECT count(*) FROM vessel_calls").fetchone()[0]
            left = connection.execute(
                "SELECT count(*) FROM pg_namespace WHERE nspname LIKE 'tessaron%'"
            ).fetchone()[0]
        self.assertEqual((count, left), (200, 0))
        self.assertEqual(len(there["vessel_calls"][-1]), 200)
