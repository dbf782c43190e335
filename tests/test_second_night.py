"""The second night: what is new is loaded once, a changed structure is dealt with, and runs can be looked back on."""

import gzip
import json
import os
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from unittest import mock

import pyarrow.parquet as pq
import sqlalchemy as sa

import tessaron
from tessaron.repeat.ledgers.database_urls import is_same_database
from tessaron.repeat.ledgers.ledger_places import LedgerBeside
from tessaron.repeat.ledgers.run_lock import RunLock
from tessaron.repeat.standing_watch import Looked, StandingWatch, read_health
from tessaron.sinks.database.open_database import OpenDatabase
from tessaron.write.table_run import start_run
from tests import endurance
from tests.harness import FolderTest, quick_command
from tests.postgres import needs_postgres, postgres_database

BASE = [{"id": n, "teu": n, "vessel": {"name": f"V{n}"}, "stays": [n, n]} for n in range(5)]
WITH_NEW = {"id": 11, "teu": 1.5, "berth": "N1", "moves": [{"crane": 1}]}


class NightTest(FolderTest):
    """A folder `inbox` with deliveries, and a database with a ledger."""

    def setUp(self):
        super().setUp()
        self.url = f"sqlite:///{self.folder / 'office.db'}"
        self.ledger = self.url
        self.said = []

    def put(self, name, records):
        data = "".join(json.dumps(each) + "\n" for each in records)
        return self.write(f"inbox/{name}", gzip.compress(data.encode()) if name.endswith(".gz") else data)

    def load(self, **options):
        given = {"mode": "merge", "key": ["id"], "name": "calls", "progress": Heard(self.said), **options}
        return tessaron.keep_up(self.folder / "inbox", self.url, ledger=self.ledger, **given)

    def rows(self, query):
        engine = sa.create_engine(self.url.replace("postgresql://", "postgresql+psycopg://"))
        with engine.connect() as connection:
            found = [tuple(row) for row in connection.execute(sa.text(query))]
        engine.dispose()
        return found

    def ids(self):
        return [row[0] for row in self.rows("SELECT id FROM calls ORDER BY id")]


class Heard:
    """Keeps what is said of a run."""

    def __init__(self, said):
        self.say = said.append

    def start(self, total_bytes):
        pass

    read = start

    def write(self, step, steps):
        pass


class Ledgers:
    """What holds wherever a ledger stands, and in any database."""

    def test_each_source_is_loaded_once(self):
        def counts(kept):
            return kept.new, len(kept.loads), kept.known, kept.same, len(kept.changed), kept.gone, kept.passed

        self.put("a.ndjson", BASE)
        self.assertEqual(counts(self.load()), (1, 1, 0, 0, 0, 0, True))
        self.assertEqual(counts(self.load()), (0, 0, 1, 0, 0, 0, True))
        self.put("b.ndjson.gz", [{"id": 10, "teu": 1, "stays": [3]}])
        self.assertEqual(counts(self.load()), (1, 1, 1, 0, 0, 0, True))
        # The same bytes under another name, and a time that alone has changed, are nothing new.
        self.put("copy.ndjson", BASE)
        os.utime(self.folder / "inbox/b.ndjson.gz", (1, 1))
        kept = self.load()
        self.assertEqual(counts(kept), (0, 0, 2, 1, 0, 0, True))
        self.assertEqual(list(kept.same_as.values()), [str(self.folder / "inbox/a.ndjson")])
        self.assertEqual(counts(self.load()), (0, 0, 3, 0, 0, 0, True))
        self.put("a.ndjson", [{**BASE[0], "teu": 77}, *BASE[1:]])
        self.assertEqual(counts(self.load()), (0, 0, 2, 0, 1, 0, False))
        kept = self.load(changed="reload")
        self.assertEqual(
            (kept.new, dict(kept.loads[0].records)),
            (1, {"new": 0, "changed": 1, "unchanged": 4, "deleted": 0}),
        )
        (self.folder / "inbox/a.ndjson").unlink()
        kept = self.load()
        self.assertEqual((kept.gone, kept.gone_first), (1, (str(self.folder / "inbox/a.ndjson"),)))
        self.assertEqual(self.ids(), [0, 1, 2, 3, 4, 10])
        self.assertEqual(self.rows("SELECT teu FROM calls WHERE id = 0"), [(77,)])

    def test_a_record_in_several_new_sources_is_the_last_one(self):
        self.put("1.ndjson", BASE)
        self.put("2.ndjson", [{**BASE[0], "teu": 50}])
        self.put("3.ndjson", [{**BASE[0], "teu": 60}, {"id": 9}])
        kept = self.load()
        self.assertEqual((kept.new, len(kept.loads)), (3, 3))
        self.assertIn("one after the other", " ".join(self.said))
        self.assertEqual(self.rows("SELECT teu FROM calls WHERE id = 0"), [(60,)])
        self.assertEqual(self.load().known, 3)

    def test_a_crash_on_either_side_of_the_commit(self):
        self.put("a.ndjson", BASE)
        self.load()
        self.put("b.ndjson", [{"id": 20}])
        commit = "tessaron.sinks.database.run_records.RunRecords.add_rejects"
        with mock.patch(commit, side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            self.load()
        self.assertEqual(self.ids(), [0, 1, 2, 3, 4])
        with mock.patch.object(LedgerBeside, "after", side_effect=KeyboardInterrupt):
            try:
                self.assertEqual(self.load().new, 1)
            except KeyboardInterrupt:
                self.assertNotEqual(self.ledger, self.url)
        kept = self.load()
        self.assertEqual((kept.new, kept.known, self.ids()), (0, 2, [0, 1, 2, 3, 4, 20]))

    def test_what_becomes_of_a_changed_structure(self):
        self.put("a.ndjson", BASE)
        self.load()
        self.put("b.ndjson", [WITH_NEW])
        with self.assertRaisesRegex(
            tessaron.DataError,
            r"(?s)nothing was loaded:.*\$\.berth: 1 value has.*\$\.moves\[\*\]\.crane: .*\$\.teu: 1 value",
        ):
            self.load(on_change="stop")
        kept = self.load(on_change="extend")
        self.assertEqual(
            kept.changes,
            ("calls.berth: $.berth", "calls_moves: $.moves[*]", "calls.teu: integer → decimal(20,1)"),
        )
        self.assertEqual(
            [float(row[0]) for row in self.rows("SELECT teu FROM calls ORDER BY id")], [0, 1, 2, 3, 4, 1.5]
        )
        self.assertEqual(self.rows("SELECT berth FROM calls WHERE id = 11"), [("N1",)])
        self.assertEqual(
            self.rows(
                "SELECT c.id, m.crane FROM calls_moves AS m JOIN calls AS c ON c.row_key = m.parent_key"
            ),
            [(11, 1)],
        )
        self.put("c.ndjson", [{"id": 12, "berth": "S2", "tug": "T1", "teu": "many"}])
        kept = self.load(on_change="note")
        self.assertEqual((kept.new, kept.passed, len(kept.changes)), (1, False, 2))
        rejects = self.rows("SELECT path, code, rejected, raw FROM tessaron_rejects ORDER BY path")
        self.assertEqual(
            [row[:3] for row in rejects], [("$.teu", "misfit", "value"), ("$.tug", "no_column", "value")]
        )
        self.assertEqual(json.loads(rejects[1][3])["tug"], "T1")
        self.put("d.ndjson", [*BASE, {"id": 13}])
        self.load()
        everything = self.write(
            "all.ndjson", "".join(json.dumps(each) + "\n" for each in [*BASE, WITH_NEW, {"id": 13}])
        )
        self.assertEqual(
            {each.kind for each in tessaron.verify(self.url, everything).differences}, {"record extra"}
        )

    def test_an_unchanged_record_stays_untouched_when_a_column_comes(self):
        self.put("a.ndjson", BASE)
        self.load()
        self.put("b.ndjson", [{"id": 11, "berth": "N1"}])
        self.load(on_change="extend")
        self.put("c.ndjson", [*BASE, {"id": 12}])
        self.assertEqual(self.load().loads[0].records, {"new": 1, "changed": 0, "unchanged": 5, "deleted": 0})

    def test_taking_sources_again_fills_a_new_column(self):
        layout = tessaron.draft(self.put("a.ndjson", BASE), name="calls", without=["$.vessel"], key=["id"])
        self.load(layout=layout, key=(), name=None)
        self.assertEqual(self.load(layout=layout, key=(), name=None).new, 0)
        wider = layout.set_column("calls", "vessel_name", path="$.vessel.name", type="text")
        kept = self.load(layout=wider, key=(), name=None, again=True)
        self.assertEqual((kept.new, kept.loads[0].records["changed"]), (1, 5))
        self.assertIn(
            "1 source is taken again, and merged; columns that are new: calls.vessel_name", self.said
        )
        self.assertEqual(self.rows("SELECT vessel_name FROM calls WHERE id = 3"), [("V3",)])

    def test_what_a_layout_leaves_out_is_no_change(self):
        layout = tessaron.draft(self.put("a.ndjson", BASE), name="calls", without=["$.vessel"], key=["id"])
        own = {"key": (), "name": None, "on_change": "stop"}
        self.load(**own, layout=layout)
        self.put("b.ndjson", [{**BASE[0], "id": 40}])
        self.assertEqual(self.load(**own, layout=layout).new, 1)
        narrower = layout.remove_columns("calls", "teu")
        self.put("c.ndjson", [{**BASE[0], "id": 41}])
        self.assertEqual(self.load(**own, layout=narrower).new, 1)
        self.put("d.ndjson", [{**BASE[0], "id": 42}])
        self.assertEqual((self.load(**own, layout=narrower).new, self.load(**own).known), (1, 4))
        self.put("e.ndjson", [{"id": 43, "tug": 1}])
        with self.assertRaisesRegex(
            tessaron.DataError, r"changed, and nothing was loaded:\n  \$\.tug: [^\n]*\n--on"
        ):
            self.load(**own)

    def test_what_cannot_be_loaded_is_put_aside_until_it_is_mended(self):
        self.put("a.ndjson", BASE)
        self.write("inbox/b.ndjson.gz", b"\x1f\x8b\x08\x00 no gzip")
        self.write("inbox/c.json", "no JSON at all")
        self.put("d.ndjson", [{"id": 9}])
        kept = self.load()
        self.assertEqual(
            (kept.new, kept.passed, sorted(Path(each).name for each in kept.put_aside)),
            (2, False, ["b.ndjson.gz", "c.json"]),
        )
        self.assertEqual((self.load().aside, self.ids()), (2, [0, 1, 2, 3, 4, 9]))
        self.write("inbox/bb.ndjson.gz", b"\x1f\x8b\x08\x00 no gzip")
        self.put("b.ndjson.gz", [{"id": 21}])
        self.put("c.json", [{"id": 22}])
        self.assertEqual((self.load().new, self.ids()[-2:]), (2, [21, 22]))
        self.put("bb.ndjson.gz", [{"id": 23}])
        self.assertEqual((self.load().new, self.ids()[-1:]), (1, [23]))

    def test_of_two_broken_ones_alike_both_can_be_mended(self):
        self.put("a.ndjson", BASE)
        for name in ("b.json", "c.json"):
            self.write(f"inbox/{name}", "no JSON at all")
        self.assertEqual((self.load().new, len(self.load().put_aside), self.load().aside), (1, 1, 2))
        for number, name in enumerate(("b.json", "c.json"), 31):
            self.put(name, [{"id": number}])
        self.assertEqual((self.load().new, self.ids()[-2:]), (2, [31, 32]))

    def test_a_database_goes_on_behind_its_mark(self):
        office = self.folder / "source.db"
        engine = sa.create_engine(f"sqlite:///{office}")
        with engine.begin() as connection:
            connection.execute(sa.text("CREATE TABLE calls (id INTEGER, changed TEXT, note TEXT)"))
        query = tessaron.DatabaseQuery(f"sqlite:///{office}", table="calls", mark="changed")
        rounds = (
            ([(1, "2026-01-01", "a"), (2, "2026-01-02", "b")], {"new": 2, "changed": 0}),
            ([(3, "2026-01-02", "c"), (1, "2026-01-03", "A")], {"new": 1, "changed": 1}),
            ([], {"new": 0, "changed": 0}),
        )
        for rows, counts in rounds:
            with engine.begin() as connection:
                for row in rows:
                    connection.execute(sa.text("DELETE FROM calls WHERE id = :id"), {"id": row[0]})
                    connection.execute(
                        sa.text("INSERT INTO calls VALUES (:id, :at, :note)"),
                        dict(zip(("id", "at", "note"), row, strict=True)),
                    )
            kept = tessaron.keep_up(
                query, self.url, ledger=self.ledger, mode="merge", key=["id"], name="calls"
            )
            # Rows that are just as far as the mark come again; merging leaves them alone.
            self.assertEqual({name: kept.loads[0].records[name] for name in counts}, counts)
        engine.dispose()
        self.assertEqual(self.rows("SELECT id, note FROM calls ORDER BY id"), [(1, "A"), (2, "b"), (3, "c")])
        appended = self.folder / "appended.db"
        for count in (3, 0, 0):
            kept = tessaron.keep_up(
                query, f"sqlite:///{appended}", ledger=f"sqlite:///{appended}", name="calls"
            )
            self.assertEqual([each.receipt.records for each in kept.loads], [count] * bool(count))
        nameless = tessaron.DatabaseQuery(f"sqlite:///{office}", table="calls")
        with self.assertRaisesRegex(tessaron.UsageError, "--mark COLUMN"):
            tessaron.keep_up(nameless, self.url, ledger=self.ledger)
        with self.assertRaisesRegex(
            tessaron.UsageError, "no column 'nix' to mark how far it came; there are id, "
        ):
            tessaron.keep_up(
                tessaron.DatabaseQuery(f"sqlite:///{office}", table="calls", mark="nix"),
                self.url,
                ledger=self.ledger,
            )


class LedgerInTargetTest(Ledgers, NightTest):
    def test_what_cannot_be_right(self):
        self.put("a.ndjson", BASE)
        cases = (
            ({"mode": "create"}, "goes with append or merge"), ({"mode": "append", "changed": "reload"}, "takes mode merge"),
            ({"mode": "append", "again": True}, "takes mode merge"), ({"on_change": "grow"}, "expected stop, note, extend"),
            ({"changed": "drop"}, "expected reject or reload"),
        )  # fmt: skip
        for options, said in cases:
            with self.subTest(said), self.assertRaisesRegex(tessaron.UsageError, said):
                self.load(**options)
        with self.assertRaisesRegex(tessaron.UsageError, "sources that can be known again"):
            tessaron.keep_up([{"id": 1}], self.url, ledger=self.ledger)
        with self.assertRaisesRegex(tessaron.SourceError, "cannot be read"):
            tessaron.keep_up(self.folder / "nix", self.url, ledger=self.ledger)
        self.load(name="one")
        self.put("b.ndjson", [{"id": 8}])
        self.load(name="two")
        with self.assertRaisesRegex(tessaron.UsageError, "say which of these to keep up: --name one, two"):
            self.load(name=None)
        self.assertTrue(is_same_database("sqlite:///a.db", f"sqlite:///{Path.cwd()}/a.db"))
        self.assertFalse(is_same_database("postgresql://h/a", "postgresql://h/b"))

    def test_a_file_that_changes_while_it_is_read_is_loaded_whole(self):
        path = self.put("a.ndjson", BASE)
        self.load()
        path = self.put("b.ndjson", [{"id": 30}])
        grown = [False]

        def grow(*_):
            if not grown[0]:
                grown[0] = True
                path.write_text(path.read_text() + '{"id": 31}\n')
            return 5

        with mock.patch("tessaron.sinks.database.database_target.DatabaseTarget.next_number", grow):
            kept = self.load()
        # The first try was taken back; the next one, in the same run, has all of it.
        self.assertEqual(
            (kept.new, kept.loads[0].receipt.records, self.ids()), (1, 2, [0, 1, 2, 3, 4, 30, 31])
        )
        self.assertEqual(self.load().known, 2)

    def test_one_run_at_a_time(self):
        self.put("a.ndjson", BASE)
        lock = self.folder / "office.db.lock"
        with RunLock(lock, self.said.append, 0):
            with self.assertRaisesRegex(
                tessaron.TargetError, rf"under way here \(.* process {os.getpid()}, since \d s\); try again"
            ):
                self.load(wait=0.3)
            self.assertIn("waiting until it is done", self.said[0])
        holder = subprocess.Popen(
            [
                sys.executable,
                "-c",
                f"from tessaron.repeat.ledgers.run_lock import *; RunLock(Path({str(lock)!r}), print, 0).__enter__(); print('held', flush=True); time.sleep(60)",
            ],
            stdout=subprocess.PIPE,
        )
        holder.stdout.readline()
        holder.kill()
        holder.communicate()
        self.said.clear()
        self.assertEqual(self.load().new, 1)
        self.assertRegex(
            self.said[0],
            rf"the last run here ended without a word \(.* process {holder.pid}, since .*\); going on",
        )

    def test_the_commands(self):
        self.put("a.ndjson", BASE)
        load = (
            "load",
            self.folder / "inbox",
            "--to",
            self.url,
            "--ledger",
            self.url,
            "--mode",
            "merge",
            "--key",
            "id",
            "--name",
            "calls",
        )
        done = quick_command(*load)
        self.assertEqual(
            (done.returncode, done.stdout.decode().splitlines()[-1]), (0, "sources: 1 loaded, 0 known")
        )
        self.assertEqual(quick_command(*load).stdout.decode(), "sources: nothing new, 1 known\n")
        self.put("b.ndjson", [WITH_NEW])
        done = quick_command(*load)
        self.assertEqual(done.returncode, 1)
        self.assertIn("structure: $.berth: 1 value has no place", done.stderr.decode())
        told = json.loads(quick_command(*load, "--json").stdout)
        self.assertEqual((told["known"], told["loads"]), (2, []))
        for wrong, said in (
            (("--changed", "reload"), "go with --ledger"),
            (("--ledger", "l.db", "--complete"), "not with --ledger"),
        ):
            done = quick_command("load", self.folder / "inbox", "--to", self.url, *wrong)
            self.assertEqual((done.returncode, said in done.stderr.decode()), (2, True))
        done = quick_command("history", self.url)
        lines = done.stdout.decode().splitlines()
        self.assertRegex(lines[2], r"^  2 +20.* merge +calls +1 +0 +3 +1 +0 ")
        self.assertIn("run 2: $.berth: 1 value has no place", done.stdout.decode())
        self.assertEqual(
            [run["run"] for run in json.loads(quick_command("history", self.url, "--json").stdout)["runs"]],
            [2, 1],
        )
        done = quick_command("trace", self.url, "calls_stays", "4")
        self.assertEqual(done.returncode, 0)
        shown = done.stdout.decode()
        for part in (
            "$.stays[1] in the record of calls 2",
            "run       1, ",
            "a.ndjson, record 2, line 2",
            '{"id":1,"teu":1,',
        ):
            self.assertIn(part, shown)
        (self.folder / "inbox/a.ndjson").unlink()
        done = quick_command("trace", self.url, "calls", "1")
        self.assertEqual((done.returncode, "1 not there any more" in done.stdout.decode()), (1, True))
        cases = (
            ("calls", "99", "no row whose row_key is 99"),
            ("calls", "x", "is a number"),
            ("cals", "1", "no run has loaded a table 'cals'"),
        )
        for table, key, said in cases:
            done = quick_command("trace", self.url, table, key)
            self.assertEqual((done.returncode, said in done.stderr.decode()), (2, True), said)


class LedgerBesideTest(Ledgers, NightTest):
    def setUp(self):
        super().setUp()
        self.ledger = self.folder / "done.ledger"


@needs_postgres
class PostgresLedgerTest(Ledgers, NightTest):
    def setUp(self):
        super().setUp()
        self.url = self.ledger = self.enterContext(postgres_database())

    def test_schemas_are_made_by_those_who_may(self):
        self.put("a.ndjson", BASE)
        own = {"schema": "office", "runs_schema": "books"}
        self.assertEqual(self.load(**own).new, 1)
        self.assertEqual(self.rows("SELECT count(*) FROM office.calls, books.tessaron_runs"), [(5,)])
        owner = sa.create_engine(
            self.url.replace("postgresql://", "postgresql+psycopg://"), isolation_level="AUTOCOMMIT"
        )
        self.addCleanup(owner.dispose)
        with owner.connect() as connection:
            for statement in (
                "DROP ROLE IF EXISTS clerk", "CREATE ROLE clerk LOGIN",
                "GRANT ALL ON SCHEMA office, books TO clerk", "GRANT ALL ON ALL TABLES IN SCHEMA office, books TO clerk",
            ):  # fmt: skip
                connection.execute(sa.text(statement))
        self.url = self.ledger = self.url.replace("postgres@", "clerk@")
        self.put("b.ndjson", [{"id": 20}])
        self.assertEqual(self.load(**own).new, 1)
        with self.assertRaisesRegex(tessaron.TargetError, "permission denied"):
            self.load(schema="other")

    def test_one_run_at_a_time(self):
        self.put("a.ndjson", BASE)
        with OpenDatabase(self.url) as other:
            other.begin_alone()
            for wait, end in ((0, "; try again once it is done"), (0.3, "; it did not end; try again")):
                said = rf"under way \(.* process {os.getpid()}, since \d s\){end}"
                with self.assertRaisesRegex(tessaron.TargetError, said):
                    self.load(wait=wait)
        self.assertEqual((len(self.said), self.load().new), (1, 1))


NIGHTS = (
    ([{"a": None}], [{"a": 7}, {"a": True}], ["t.row_rest: a, which is text, comes as boolean and integer, too"]),
    ([{"a": "x"}], [{"a": 0.5}, {"b": 1}], ["t.b: $.b", "t.row_rest: a, which is text, comes as fraction, too"]),
    ([{"a": "2026-01-05"}], [{"a": "soon"}, {"a": 5}], ["t.row_rest: a, which is text, comes as integer, too", "t.a: date → text"]),
    ({"page": 1, "calls": [{"a": 1}]}, {"page": 2.5, "total": 5, "tags": ["x"], "calls": [{"a": 2, "b": 3}]},
     ["t_documents.total: $.total", "t_documents_tags: $.tags[*]", "t.b: $.b", "t_documents.page: integer → decimal(20,1)"]),
)  # fmt: skip


class ChangingStructureTest(NightTest):
    def night(self, number, documents, **options):
        lines = documents if isinstance(documents, list) else [documents]
        self.write(f"inbox/{number}.json", "".join(json.dumps(each) + "\n" for each in lines))
        return self.load(**{"mode": "append", "key": (), "name": "t", **options})

    def test_tables_that_grow_tell_all_that_came(self):
        for first, second, changes in NIGHTS:
            with self.subTest(changes[0]):
                self.setUp()
                records = {"records": "$.calls[*]"} if isinstance(first, dict) else {}
                self.night(1, first, **records)
                with self.assertRaisesRegex(tessaron.DataError, "nothing was loaded"):
                    self.night(2, second, on_change="stop")
                kept = self.night(2, second, on_change="extend")
                self.assertEqual(list(kept.changes), changes)
                self.assertTrue(tessaron.verify(self.url, self.folder / "inbox").passed)

    def test_numbers_among_texts_are_told(self):
        self.night(1, [{"a": "x", "b": 1}])
        kept = self.night(2, [{"a": 5, "b": 2}, {"a": "y"}, {"a": True}])
        said = "$.a: 2 values are no texts; a number or boolean, kept as its text ("
        self.assertTrue(kept.changes[0].startswith(said), kept.changes)
        self.assertEqual(
            (len(kept.changes), self.rows("SELECT a FROM t")), (1, [("x",), ("5",), ("y",), ("true",)])
        )
        self.assertEqual(self.night(3, [{"a": None}, {"a": "z"}]).changes, ())

    def test_what_any_run_has_rejected_is_known_to_the_proof(self):
        for number, record in enumerate(({"a": 1}, {"a": "x"}, {"a": 2, "b": 3}, {"a": 4})):
            self.night(number, [record])
        found = tessaron.verify(self.url, self.folder / "inbox")
        self.assertEqual(
            (found.passed, [run.rejected_values for run in tessaron.history(self.url).runs]),
            (True, [0, 1, 1, 0]),
        )


class XmlTest(NightTest):
    def test_an_element_that_repeats_has_rows_once_sources_are_taken_again(self):
        stays = {
            "a.xml": "<call id='1'><stay>4</stay></call><call id='2'><stay>5</stay></call>",
            "b.xml": "<call id='3'><stay>6</stay><stay>7</stay></call>",
        }
        given = {"records": "/calls/call", "on_change": "extend"}
        for name, text in stays.items():
            self.write(f"inbox/{name}", f"<calls>{text}</calls>")
            kept = self.load(**given)
        self.assertIn("calls_stay: stay", kept.changes)
        self.assertEqual(self.load(**given, again=True).new, 2)
        self.assertEqual(self.rows("SELECT value FROM calls_stay ORDER BY value"), [(4,), (5,), (6,), (7,)])
        sources = sorted((self.folder / "inbox").iterdir())
        found = tessaron.verify(self.url, sources)
        self.assertEqual((found.passed, list(found.worked_on)), (True, ["calls.stay"]))
        for statement in ("UPDATE calls SET stay = 9 WHERE id = 2", "DELETE FROM calls_stay WHERE value = 7"):
            with sa.create_engine(self.url).begin() as connection:
                connection.execute(sa.text(statement))
            self.assertFalse(tessaron.verify(self.url, sources).passed)


class TracingTest(NightTest):
    def test_rows_are_traced_by_whatever_tells_them(self):
        records = [{"id": n, "parts": [{"sizes": [n, n + 1]}]} for n in range(6)]
        cases = (
            {"mode": "append"},
            {"mode": "append", "keys": "digest", "key": ["id"]},
            {"mode": "append", "keys": "digest"},
        )
        for options in cases:
            with self.subTest(**options):
                self.setUp()
                first, second = self.put("a.ndjson", records[:3]), self.put("b.ndjson", records[3:])
                for source in (first, second):
                    tessaron.load(
                        source,
                        self.url,
                        name="calls",
                        as_before=source is second,
                        **(options if source is first else {"mode": "append"}),
                    )
                (key,) = self.rows(
                    "SELECT s.row_key FROM calls_parts_sizes AS s WHERE s.value = 5 AND s.ordinal = 1"
                )[0]
                found = tessaron.trace(self.url, "calls_parts_sizes", key)
                self.assertEqual(
                    (found.source, found.record, found.line, found.place),
                    (str(second), 3, 3, "$.parts[0].sizes[0]"),
                )
                self.assertEqual((found.run, json.loads(found.text)), (2, records[5]))

    def test_rows_of_a_folder(self):
        records = [{"id": n, "parts": [{"sizes": [n, n + 1]}]} for n in range(6)]
        for number, keys in enumerate(("sequence", "digest")):
            self.put("a.ndjson", records[:3])
            folder = self.folder / f"out{number}"
            given = {"ledger": self.folder / f"l{number}.db", "name": "calls", "keys": keys, "key": ["id"]}
            tessaron.grow(self.folder / "inbox", folder, **given)
            self.put("b.ndjson", records[3:])
            tessaron.grow(self.folder / "inbox", folder, **given)
            rows = pq.read_table(folder / "calls_parts_sizes", partitioning=None).to_pylist()
            key = next(row["row_key"] for row in rows if (row["value"], row["ordinal"]) == (1, 1))
            found = tessaron.trace(folder, "calls_parts_sizes", key)
            self.assertEqual(
                (found.source, found.record, found.place),
                (str(self.folder / "inbox/a.ndjson"), 2, "$.parts[0].sizes[0]"),
            )
        tessaron.export(records, self.folder / "plain", name="calls")
        found = tessaron.trace(self.folder / "plain", "calls", 2)
        self.assertEqual((found.source, found.missing), (None, ("<objects>",)))
        with self.assertRaisesRegex(tessaron.SourceError, "is no folder of an export"):
            tessaron.trace(self.folder / "inbox", "calls", 2)


class WatchTest(NightTest):
    def watch(self, look, rounds, **options):
        standing = StandingWatch(look, options.pop("every", 0.01), self.folder / "health.json", **options)
        return standing.run(rounds)

    def test_a_watch_goes_on_whatever_comes(self):
        self.put("a.ndjson", BASE)
        answers = [self.load, tessaron.TargetError("the server is away"), self.load, self.load]
        looked = []

        def look():
            looked.append(read_health(self.folder / "health.json").state)
            answer = answers.pop(0)
            if isinstance(answer, Exception):
                raise answer
            if len(answers) == 1:
                self.write("inbox/b.ndjson.gz", b"\x1f\x8b\x08\x00 no gzip")
                self.put("c.ndjson", [{"id": 9}])
            return Looked.of_loads(answer())

        with self.assertLogs("tessaron.watch", "INFO") as logged:
            health = self.watch(look, 4)
        self.assertEqual(
            (health.state, health.rounds, health.sources, health.records, health.aside, health.failures),
            ("stopped", 4, 2, 6, 1, 0),
        )
        events = [record.getMessage() for record in logged.records]
        self.assertEqual(
            events,
            [
                "watch begins",
                "loaded",
                "out of order, it is tried again",
                "loaded",
                "put aside",
                "watch ends",
            ],
        )
        self.assertEqual((set(looked), self.ids()), ({"loading"}, [0, 1, 2, 3, 4, 9]))

    def test_the_command_is_stopped_by_a_signal_and_tells_its_health(self):
        (self.folder / "inbox").mkdir()
        command = [
            sys.executable,
            "-m",
            "tessaron",
            "watch",
            self.folder / "inbox",
            "--to",
            self.url,
            "--every",
            "30s",
            "--settle",
            "0.2s",
        ]
        command += [
            "--name",
            "calls",
            "--mode",
            "merge",
            "--key",
            "id",
            "--health",
            self.folder / "health.json",
            "--log",
            "json",
        ]
        process = subprocess.Popen(list(map(str, command)), stderr=subprocess.PIPE)
        self.addCleanup(process.stderr.close)
        self.addCleanup(process.kill)
        lines = [json.loads(process.stderr.readline())]
        self.put("a.ndjson", BASE)
        lines.append(json.loads(process.stderr.readline()))
        until = time.monotonic() + 10
        while read_health(self.folder / "health.json").state != "idle" and time.monotonic() < until:
            time.sleep(0.05)
        done = quick_command("watch", "--status", self.folder / "health.json")
        self.assertEqual((done.returncode, b"records   5\n" in done.stdout), (0, True))
        process.send_signal(signal.SIGTERM)
        lines += [json.loads(line) for line in process.stderr]
        self.assertEqual(process.wait(), 0)
        self.assertEqual([line["event"] for line in lines], ["watch begins", "loaded", "watch ends"])
        self.assertEqual((lines[1]["records"], lines[1]["level"]), (5, "info"))
        done = quick_command("watch", "--status", self.folder / "health.json")
        self.assertEqual((done.returncode, b"it was stopped" in done.stderr), (1, True))
        for arguments, said in (
            (("--status", self.folder / "nix"), b"cannot be read"),
            (("x",), b"say what to watch"),
            (("x", "--to", "y", "--every", "soon"), b"a time like 30s"),
        ):
            done = quick_command("watch", *arguments)
            self.assertEqual((done.returncode, said in done.stderr), (2, True), said)


COMPARED = (
    ([{"a": 1}], [{"a": 1, "b": {"c": 2, "d": 3}}], [("$.b", "new", "WIDENS")]),
    ([{"a": 1, "b": {"c": 2, "d": 3}}], [{"a": 1}], [("$.b", "gone", "HARMLESS")]),
    ([{"a": 1}], [{"a": 1.25}], [("$.a", "type", "WIDENS")]), ([{"a": 1.25}], [{"a": 1}], [("$.a", "type", "HARMLESS")]),
    ([{"a": 1}], [{"a": "x"}], [("$.a", "type", "BREAKS")]), ([{"a": "2026-01-31"}], [{"a": "soon"}], [("$.a", "type", "WIDENS")]),
    ([{"a": {"b": 1, "c": 2}}], [{"a": [{"b": 1, "c": 2}]}], [("$.a", "array", "BREAKS")]), ([{"a": [{"b": 1}]}], [{"a": {"b": 1}}], [("$.a", "single", "HARMLESS")]),
    ([{"a": "x"}], [{"a": {"code": "x"}}], [("$.a.code", "object", "BREAKS")]),
    ([{"a": n} for n in range(40)], [{"a": n if n % 2 else None} for n in range(40)], [("$.a", "fill", "HARMLESS")]),
    ([{"a": n} for n in range(9)], [{"a": n // 2} for n in range(9)], [("$.a", "key", "HARMLESS")]),
    ([{"a": "xy"[n % 2]} for n in range(9)], [{"a": "xyz"[n % 3]} for n in range(9)], [("$.a", "values", "HARMLESS")]),
    ([{"a": {f"{n}{m}": 1 for m in range(30)}} for n in range(30)], [{"a": {"new": 2, "next": 3}}], [("$.a.*", "dictionary", "HARMLESS")]),
)  # fmt: skip
LAYOUT = (
    '[tables.calls]\nrows = "$"\nkey = ["id"]\n[tables.calls.columns]\nid = { path = "$.id", type = "integer" }\n'
    'kind = { path = "$.kind", type = "text", allowed = ["a", "b"] }\nport = { path = "$.port", type = "text", required = true }\n'
)


class ComparingTest(FolderTest):
    def test_changes_are_judged(self):
        for old, new, expected in COMPARED:
            with self.subTest(old=str(old)[:60], new=str(new)[:60]):
                found = tessaron.compare(old, new)
                self.assertEqual(
                    [(each.path, each.kind, each.judgement.name) for each in found.changes], expected
                )
                self.assertEqual(tessaron.compare(old, old).changes, ())

    def test_what_a_layout_asks_for(self):
        records = [{"id": n // 2, "kind": "abc"[n % 3], "port": None if n == 3 else "N"} for n in range(6)]
        found = tessaron.compare(tessaron.Layout(LAYOUT), records)
        self.assertEqual([(each.kind, each.column, each.judgement.name) for each in found.changes], [
            ("key", "calls.id", "BREAKS"), ("values", "calls.kind", "BREAKS"), ("required", "calls.port", "BREAKS"),
        ])  # fmt: skip
        gone = tessaron.compare(tessaron.Layout(LAYOUT), [{"id": 1, "kind": "a"}])
        self.assertEqual([(each.kind, each.judgement.name) for each in gone.changes], [("gone", "BREAKS")])

    def test_everything_that_has_a_structure(self):
        old = self.write("old.ndjson", "".join(json.dumps(each) + "\n" for each in BASE))
        new = self.write(
            "new.ndjson",
            "".join(json.dumps({**each, "teu": each["teu"] + 0.5, "tug": 1}) + "\n" for each in BASE),
        )
        survey = self.write("old.survey.json", quick_command("survey", old, "--json").stdout)
        layout = self.folder / "old.layout.toml"
        tessaron.draft(old, name="calls").write(layout)
        tessaron.export(old, self.folder / "out", name="calls")
        tessaron.load(old, f"sqlite:///{self.folder / 'office.db'}", name="calls")
        for each in (old, survey, layout, self.folder / "out", f"sqlite:///{self.folder / 'office.db'}"):
            with self.subTest(each=str(each)):
                done = quick_command("compare", each, new, "--json")
                told = json.loads(done.stdout)
                self.assertEqual(
                    [(change["path"], change["kind"]) for change in told["changes"]],
                    [("$.teu", "type"), ("$.tug", "new")],
                )
                self.assertEqual(
                    (done.returncode, told["counts"]), (0, {"breaks": 0, "widens": 2, "harmless": 0})
                )
                self.assertEqual(quick_command("compare", each, new, "--gate", "widens").returncode, 1)
                self.assertEqual(
                    quick_command("compare", each, old).stdout, b"no change: what comes fits what is there\n"
                )
        shown = quick_command("compare", layout, new).stdout.decode()
        self.assertRegex(
            shown,
            r"widens +\$\.teu +integer before, decimal\(2,1\) now +calls\.teu +0\.5 \(.*new\.ndjson, line 1\)",
        )


class GrowingTest(NightTest):
    def grow(self, **options):
        return tessaron.grow(
            self.folder / "inbox", self.folder / "out", ledger=self.folder / "l.db", name="calls", **options
        )

    def test_a_folder_grows_whole_or_not_at_all(self):
        for form in ("parquet", "csv", "jsonl", "arrow"):
            with self.subTest(form):
                self.setUp()
                first = self.put("b.ndjson", BASE)
                self.assertEqual(self.grow(format=form).rows, {"calls": 5, "calls_stays": 10})
                self.assertEqual(self.grow().run, 0)
                # What comes later stands behind, whatever its name is.
                second = self.put("a.ndjson", [{"id": 7, "teu": 8, "stays": [9]}])
                self.assertEqual(self.grow(format=form).kept.new, 1)
                third = self.put("c.ndjson", [WITH_NEW])
                with self.assertRaisesRegex(tessaron.DataError, r"(?s)nothing was added:.*\$\.berth"):
                    self.grow(on_change="stop")
                before = sorted(self.folder.glob("out/**/*"))
                with (
                    mock.patch("tessaron.sinks.target_folder.put_in_place", side_effect=KeyboardInterrupt),
                    self.assertRaises(KeyboardInterrupt),
                ):
                    self.grow(on_change="extend")
                self.assertEqual(sorted(self.folder.glob("out/**/*")), before)
                grown = self.grow(on_change="extend")
                self.assertEqual((grown.run, grown.kept.changes[0]), (3, "calls.berth: $.berth"))
                before = tessaron.Layout.read(self.folder / "out/layout.before-run-3.toml")
                self.assertNotIn("berth", before.columns("calls"))
                self.assertIn("berth", tessaron.Layout.read(grown.kept.layout_file).columns("calls"))
                self.assertTrue(tessaron.verify(self.folder / "out", [first, second, third]).passed)
                self.assertFalse(tessaron.verify(self.folder / "out", [first, third]).passed)
                self.assertEqual(
                    [run.records for run in tessaron.history(self.folder / "out").runs], [1, 1, 5]
                )
                self.assertEqual(tessaron.load(self.folder / "out", self.url).tables[0].after, 7)
                self.assertEqual(len(list((self.folder / "out/calls").iterdir())), 3)

    def test_a_crash_between_folder_and_ledger(self):
        self.put("a.ndjson", BASE)
        with (
            mock.patch.object(LedgerBeside, "after", side_effect=KeyboardInterrupt),
            self.assertRaises(KeyboardInterrupt),
        ):
            self.grow()
        self.assertEqual((self.grow().run, self.grow().kept.known), (0, 1))

    def test_a_bad_delivery_keeps_no_good_one_back(self):
        self.put("a.ndjson", BASE)
        self.write("inbox/b.ndjson.gz", b"\x1f\x8b\x08\x00 no gzip")
        self.put("c.ndjson", [{"id": 9}])

        def start(inputs, *others):
            for each in inputs:
                if each.name.endswith("c.ndjson"):
                    raise tessaron.SourceError(f"{each.name}: cannot be read: the disk is gone")
            return start_run(inputs, *others)

        with mock.patch("tessaron.repeat.growing_export.start_run", start):
            grown = self.grow()
        self.assertEqual((grown.rows, grown.run, grown.records), ({"calls": 5, "calls_stays": 10}, 1, 5))
        self.assertEqual(
            [Path(name).name for name in sorted(grown.kept.put_aside)], ["b.ndjson.gz", "c.ndjson"]
        )
        self.assertEqual((grown.kept.new, grown.passed, self.grow().kept.aside), (1, False, 2))
        # Once they are others they are new.
        self.put("c.ndjson", [{"id": 9}, {"id": 10}])
        self.assertEqual(self.grow().rows["calls"], 2)

    def test_a_bad_delivery_among_many_costs_few_runs(self):
        for number in range(64):
            self.put(f"{number:02}.ndjson", [{"id": number}])
        tries = []

        def start(inputs, *others):
            tries.append(len(inputs))
            if any(each.name.endswith("41.ndjson") for each in inputs):
                raise tessaron.SourceError("41.ndjson: cannot be read: the disk is gone")
            return start_run(inputs, *others)

        with mock.patch("tessaron.repeat.growing_export.start_run", start):
            grown = self.grow()
        self.assertEqual((grown.records, grown.kept.new, len(grown.kept.put_aside)), (63, 63, 1))
        self.assertLess(len(tries), 20)
        self.assertEqual(self.grow().kept.known, 63)

    def test_a_watch_lets_it_grow(self):
        self.put("a.ndjson", BASE)
        done = self.watch("--format", "csv", "--log", "json")
        told = [json.loads(line) for line in done.stderr.splitlines()]
        self.assertEqual([told[1][name] for name in ("event", "run", "records")], ["loaded", 1, 5])
        self.put("b.ndjson", [WITH_NEW])
        self.assertIn(b"loaded: run 2; records 1;", self.watch("--on-change", "extend").stderr)
        self.assertEqual(len(list((self.folder / "out/calls").glob("*.csv"))), 2)
        for wrong, said in (
            (("--mode", "merge"), b"a folder grows"),
            (("--schema-name", "x"), b"go with databases"),
            (("--to", self.url, "--format", "csv"), b"--format goes with a folder"),
        ):
            done = self.watch(*wrong)
            self.assertEqual((done.returncode, said in done.stderr), (2, True), done.stderr)
        done = quick_command("watch", "x", "--to", self.folder / "out")
        self.assertIn(b"--ledger FILE", done.stderr)

    def watch(self, *options):
        named = {"--to": self.folder / "out", "--ledger": self.folder / "l.db", "--name": "calls"}
        given = [each for pair in named.items() for each in pair]
        return quick_command(
            "watch", self.folder / "inbox", *given, "--rounds", "1", "--settle", "0s", *options
        )

    def test_what_does_not_grow(self):
        self.put("a.ndjson", BASE)
        tessaron.export(self.folder / "inbox", self.folder / "out")
        with self.assertRaisesRegex(tessaron.TargetError, "of one run, which does not grow"):
            self.grow()
        for options in ({"format": "xlsx"}, {"format": "csv", "header": False}):
            with self.assertRaisesRegex(tessaron.UsageError, "what grows tells its columns"):
                tessaron.grow(
                    self.folder / "inbox", self.folder / "o", ledger=self.folder / "l.db", **options
                )
        done = quick_command(
            "export",
            self.folder / "inbox",
            "-o",
            self.folder / "o2",
            "--ledger",
            self.folder / "l.db",
            "--name",
            "calls",
        )
        self.assertEqual(
            (done.returncode, done.stdout.decode().splitlines()[-1]), (0, "sources: 1 loaded, 0 known")
        )
        done = quick_command(
            "export",
            self.folder / "inbox",
            "-o",
            self.folder / "o2",
            "--ledger",
            self.folder / "l.db",
            "--format",
            "csv",
        )
        self.assertIn("its files are written otherwise", done.stderr.decode())


class EnduranceTest(FolderTest):
    def test_all_of_it_is_there_once(self):
        wrong, office = endurance.run(
            self.folder,
            f"sqlite:///{self.folder / 'office.db'}",
            f"sqlite:///{self.folder / 'office.db'}",
            30,
            3,
        )
        self.assertEqual(wrong, [])
        self.assertTrue({"killed", "put aside", "same"} <= office.told.keys())


if __name__ == "__main__":
    unittest.main()
