"""Tables as sources: CSV, Parquet, Arrow and databases, with documents in their columns."""

import bz2
import datetime
import gzip
import io
import json
import sqlite3
import unittest
from decimal import Decimal
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron import TableSource
from tessaron.core.base.text_lane import TextLane
from tessaron.core.kernel.xml_values import parse_xml
from tessaron.core.lines.document_cells import Cell, sort_of, sorts_of
from tessaron.core.lines.xml_cells import XmlCells
from tessaron.core.types.arrow_texts import json_texts
from tests.harness import FolderTest, quick_command
from tests.postgres import needs_postgres, postgres_database
from tests.random_markup import xml_document

DAY = datetime.datetime(2026, 1, 2, 3, 4, 5, 600)
TEXTS = (
    (pa.array([1, None, -5]), ["1", None, "-5"]), (pa.array([1.5, float("nan"), 1e300]), ["1.5", '"nan"', "1e+300"]),
    (pa.array([True, None]), ["true", None]), (pa.array(['a"\n', "é"]), ['"a\\"\\u000a"', '"é"']), (pa.array([Decimal("1.50"), None]), ["1.50", None]),
    (pa.array([DAY.date()]), ['"2026-01-02"']), (pa.array([DAY]), ['"2026-01-02T03:04:05.000600"']), (pa.array([DAY.time()]), ['"03:04:05.000600"']),
    (pa.array([DAY], pa.timestamp("s", "+02:00")), ['"2026-01-02T03:04:05Z"']), (pa.array([[1, None], None, []]), ["[1,null]", None, "[]"]),
    (pa.array([{"a": 1, "b": [{"c": "x"}]}, None, {"a": None, "b": None}]), ['{"a":1,"b":[{"c":"x"}]}', None, "{}"]),
    (pa.array([[("k", 1), ('l"', None)], None, []], pa.map_(pa.string(), pa.int64())), ['{"k":1,"l\\"":null}', None, "{}"]),
    (pa.array([b"\x00\xff", None]), ['"AP8="', None]), (pa.array(["x", "y"]).dictionary_encode(), ['"x"', '"y"']), (pa.nulls(2), [None, None]),
)  # fmt: skip
ROWS = [
    {
        "id": 1,
        "code": "007",
        "fee": "1.50",
        "payload": '{"call":1,"stays":[{"berth":"N1"},\n {"berth":"S1"}]}',
        "note": 'say "x"; y',
    },
    {"id": 2, "code": "8", "fee": "2.25", "payload": ' {"call":2,"stays":[]}', "note": ""},
    {"id": 3, "code": "9", "fee": None, "payload": None, "note": None},
]
EXPECTED = [
    {"id": 1, "code": "007", "fee": Decimal("1.50"), "payload_call": 1, "note": 'say "x"; y'},
    {"id": 2, "code": "8", "fee": Decimal("2.25"), "payload_call": 2, "note": ""},
    {"id": 3, "code": "9", "fee": None, "payload_call": None, "note": None},
]


def as_csv(rows, delimiter=","):
    """Return rows as CSV: null is empty, all texts are in quotes."""

    def cell(value):
        return (
            ""
            if value is None
            else str(value)
            if isinstance(value, int)
            else '"' + value.replace('"', '""') + '"'
        )

    lines = [delimiter.join(rows[0]), *(delimiter.join(map(cell, row.values())) for row in rows)]
    return "\r\n".join(lines) + "\r\n"


def without_keys(table):
    return [{name: value for name, value in row.items() if name != "row_key"} for row in table.to_pylist()]


class TextsTest(unittest.TestCase):
    def test_every_type_of_arrow_as_json(self):
        for values, expected in TEXTS:
            for part, wanted in ((values, expected), (values.slice(1), expected[1:])):
                with self.subTest(str(values.type), count=len(part)):
                    self.assertEqual(json_texts(part).to_pylist(), wanted)
                    for text in filter(None, wanted):
                        json.loads(text)


# texts of cells, and what they are
CELLS = (
    ("", 0), (" \n\t", 0), ('{"a":[1,"]"]}', 1), (" [1] ", 1), ('"x"', 1), ("12", 1), ("null", 1), ('{"a":\n1}', 2), ('{"a":1}\r\n', 2), (" <a/>", 3),
    ('{"a":1},{"b":2}', 4), ('{"a":1}{}', 4), ("1,2", 4), ('"a":1', 4), ("1 2", 4), ("]", 4), ("}{", 4), ('{"a":"', 4), ('{"a":"\\"}', 4), ('{"a":"\n"}', 4), ('"a"b', 4), ("[[]", 4),
)  # fmt: skip


class CellsTest(unittest.TestCase):
    def test_what_cells_hold(self):
        texts = [text for text, _ in CELLS]
        self.assertEqual([int(sort_of(text.encode())) for text in texts], [sort for _, sort in CELLS])
        self.assertEqual(sorts_of(TextLane.of(texts)).tolist(), [sort for _, sort in CELLS])

    @settings(max_examples=300, deadline=None)
    @given(st.lists(st.text('{}[],:"\\ \n\r\t1a<', max_size=8), max_size=20))
    def test_both_readers_say_the_same(self, texts):
        self.assertEqual(sorts_of(TextLane.of(texts)).tolist(), [sort_of(text.encode()) for text in texts])

    @settings(max_examples=200, deadline=None)
    @given(st.recursive(st.none() | st.integers() | st.text(max_size=3), lambda each: st.lists(each, max_size=3) | st.dictionaries(st.text(max_size=2), each, max_size=3), max_leaves=8), st.booleans())  # fmt: skip
    def test_every_document_is_whole(self, value, pretty):
        text = json.dumps(value, indent=1 if pretty else None)
        self.assertIn(sort_of(text.encode()), (Cell.WHOLE, Cell.IN_LINES))

    @settings(max_examples=60, deadline=None)
    @given(st.randoms(use_true_random=False))
    def test_xml_is_written_as_it_is_parsed(self, chance):
        document = xml_document(chance)
        self.assertEqual(json.loads(XmlCells().as_json(document)), parse_xml(document))


class TabularFilesTest(FolderTest):
    XML = (
        ("1", '<m no="007" teu="2"><item>steel</item><item>salt</item><ok>true</ok><w>1.50</w></m>'), ("2", None),
        ("3", '<m no="12" teu="4"><item>wool</item></m>'), ("4", '<m no="13"><item>'),
    )  # fmt: skip

    def test_columns_of_xml(self):
        rows = [{"id": number, "doc": text} for number, text in self.XML]
        path = self.folder / "inbox.parquet"
        pq.write_table(pa.Table.from_pylist(rows), path)
        for source in (
            TableSource(path, ["doc"]),
            TableSource(self.write("inbox.csv", as_csv(rows)), ["doc"]),
        ):
            with self.subTest(source):
                target = self.folder / "out"
                receipt = tessaron.export(source, target, replace=True)
                self.assertEqual((receipt.records, receipt.rejected), (3, 1))
                self.assertIn(
                    "1 of 4 rows have no document in doc", " ".join(note.text for note in receipt.notes)
                )
                self.assertIn("expected XML: Premature end", (target / "rejects.ndjson").read_text("utf-8"))
                self.assertTrue(tessaron.verify(target, source).passed)
                tables = tessaron.shred(source)
                kept = [
                    (row["doc_no"], row["doc_teu"], row["doc_ok"], row["doc_w"])
                    for row in tables["inbox"].to_pylist()
                ]
                self.assertEqual(
                    kept, [("007", 2, True, Decimal("1.50")), (None,) * 4, ("12", 4, None, None)]
                )
                self.assertEqual(
                    [row["value"] for row in tables["inbox_doc_item"].to_pylist()], ["steel", "salt", "wool"]
                )
        found = tessaron.shred(self.write("all.csv", as_csv([{"id": n, "doc": t} for n, t in self.XML[:3]])))
        self.assertIn("all_doc_item", found)

    def test_spreadsheets(self):
        import openpyxl

        book = openpyxl.Workbook()
        sheet = book.active
        sheet.title = "Inbox"
        sheet.append(["id", "fee", "on", "payload", "mixed"])
        sheet.append([1, 1.5, DAY.date(), '{"call": 1, "stays": [{"berth": "N1"}]}', "x"])
        sheet.append([None] * 5)
        sheet.append([2, None, None, None, 7])
        book.create_sheet("Old").append(["a"])
        path = self.folder / "inbox.xlsx"
        book.save(path)
        tables = tessaron.shred(path)
        kept = [tuple(row.values())[1:] for row in tables["inbox"].to_pylist()]
        self.assertEqual([(row[0], row[1], row[-1]) for row in kept], [(1, 1.5, "x"), (2, None, "7")])
        self.assertEqual(tables["inbox_payload_stays"].column("berth").to_pylist(), ["N1"])
        self.assertIn("the sheet 'Inbox' is read, and not 'Old'", " ".join(text for _, text in tables.notes))
        for name, rows, said in (
            ("empty.xlsx", [], "is empty; expected a row"), ("twice.xlsx", [["a", "a"]], "two columns are called 'a'"), ("gap.xlsx", [["a", None, "b"]], "a column without a name"),
        ):  # fmt: skip
            book = openpyxl.Workbook()
            for row in rows:
                book.active.append(row)
            book.save(self.folder / name)
            with self.subTest(name), self.assertRaisesRegex(tessaron.DataError, said):
                tessaron.shred(self.folder / name)
        with self.assertRaisesRegex(tessaron.DataError, "no spreadsheet"):
            tessaron.shred(self.write("broken.xlsx", b"PK\x03\x04x"))
        with (
            mock.patch.dict("sys.modules", openpyxl=None),
            self.assertRaisesRegex(tessaron.UsageError, r"tessaron\[xlsx\]"),
        ):
            tessaron.shred(path)

    def test_tables_without_a_name(self):
        parquet, arrow = io.BytesIO(), io.BytesIO()
        table = pa.Table.from_pylist(ROWS)
        pq.write_table(table, parquet)
        with pa.ipc.new_file(arrow, table.schema) as writer:
            writer.write_table(table)
        for name, data in (
            ("csv", as_csv(ROWS).encode()),
            ("semicolons", as_csv(ROWS, ";").encode()),
            ("quoted", as_csv(ROWS).replace("id,code", '"id","code"').encode()),
            ("parquet", parquet.getvalue()),
            ("arrow", arrow.getvalue()),
        ):
            with self.subTest(name):
                for source in (data, io.BytesIO(data)):
                    tables = tessaron.shred(source)
                    self.assertEqual(
                        [row["payload_call"] for row in tables["records"].to_pylist()], [1, 2, None]
                    )
                done = quick_command("export", "-", "-o", self.folder / name, stdin=data)
                self.assertEqual(done.returncode, 0, done.stderr)
        for seed in range(40):
            # Packed bytes can look like a line of names, with letters and commas.
            lines = (b'{"call": %d, "seed": %d}\n' % (number * 7919, seed) for number in range(200))
            self.assertEqual(tessaron.survey(bz2.compress(b"".join(lines))).records, 200)
        for text, records in (
            ("true\nfalse\n", 2),
            ("null\n", 1),
            ('"a"\n"b"\n', 2),
            ('"a,b"\n', 1),
            ("12\n", 1),
        ):
            with self.subTest(text):
                done = quick_command("survey", "-", "--json", stdin=text.encode())
                self.assertEqual(json.loads(done.stdout)["records"], records)
        self.assertIn(
            b"expected a value, found 'hello'", quick_command("survey", "-", stdin=b"hello, world").stderr
        )

    def test_named_columns(self):
        path = self.write("inbox.csv", as_csv(ROWS))
        self.assertEqual(quick_command("survey", path, "--documents", "payload").returncode, 0)
        for arguments, said in (
            ((path, "--documents", "nope"), "no column 'nope' to hold documents; there are id, code"),
            (
                (self.write("a.json", "{}"), "--documents", "nope"),
                "no table, whose columns could hold documents",
            ),
            ((path, "--query", "select 1"), "go with the URL of a database"),
        ):
            with self.subTest(said):
                done = quick_command("survey", *arguments)
                self.assertEqual((done.returncode, said in done.stderr.decode()), (2, True), done.stderr)

    def check(self, path, expected=EXPECTED):
        tables = tessaron.shred(path)
        self.assertEqual(list(tables), ["inbox", "inbox_payload_stays"])
        self.assertEqual(without_keys(tables["inbox"]), expected)
        self.assertEqual([row["berth"] for row in tables["inbox_payload_stays"].to_pylist()], ["N1", "S1"])
        receipt = tessaron.export(path, self.folder / "out", replace=True)
        self.assertIn("the documents of payload in them", " ".join(note.text for note in receipt.notes))
        self.assertEqual(quick_command("verify", self.folder / "out").returncode, 0)

    def test_csv_in_every_dress(self):
        text = as_csv(ROWS)
        cases = (
            ("inbox.csv", text.encode()), ("inbox.csv.gz", gzip.compress(text.encode())), ("inbox.tsv", as_csv(ROWS, "\t").encode()),
            ("inbox.csv", as_csv(ROWS, ";").encode()), ("inbox.csv", as_csv(ROWS, "|").encode()), ("inbox.csv", text.encode("utf-16")),
            ("inbox.csv", text.encode("utf-8-sig")), ("inbox.csv", text.replace("\r\n", "\n").encode()), ("deep/inbox.csv", text.rstrip().encode()),
        )  # fmt: skip
        for name, data in cases:
            with self.subTest(name, head=data[:12]):
                self.check(self.write(name, data))

    def test_parquet_and_arrow(self):
        rows = [{**row, "fee": None if row["fee"] is None else Decimal(row["fee"])} for row in ROWS]
        table = pa.Table.from_pylist(rows)
        pq.write_table(table, self.folder / "inbox.parquet")
        self.check(self.folder / "inbox.parquet")
        for new, name in ((pa.ipc.new_file, "inbox.arrow"), (pa.ipc.new_stream, "inbox.feather")):
            with new(self.folder / name, table.schema) as writer:
                writer.write_table(table)
            with self.subTest(name):
                self.check(self.folder / name)

    def test_broken_documents_and_rows_are_rejects(self):
        bad = (
            '{"call":',
            "1",
            '1,"id":9',
            '1}\n{"id":8',
            '{"call":1} {"call":2}',
            '],"x":[',
            "{'call':1}",
            '"',
            '{"call":1,"call2"',
        )
        rows = [{"id": number, "payload": '{"call":1}'} for number in range(100)]
        for number, text in enumerate(bad):
            rows[5 + 7 * number]["payload"] = text
        text = as_csv(rows).splitlines(keepends=True)
        text.insert(50, "50\r\n")
        text.insert(60, '60,"{}",more\r\n')
        path = self.write("inbox.csv", "".join(text))
        tables = tessaron.shred(path)
        # A number is JSON too, and stands beside the objects.
        self.assertEqual(len(tables.rejects), len(bad) - 1 + 2)
        ids = [row["id"] for row in tables["inbox"].to_pylist()]
        self.assertEqual(
            ids, [row["id"] for row in rows if row["payload"] not in bad or row["payload"] == "1"]
        )
        said = " ".join(reject.raw or "" for reject in tables.rejects)
        for expected in ('"id":5', "row 50 has 1 field, not 2", "row 60 has 3 fields, not 2"):
            self.assertIn(expected, said)

    def test_texts_that_two_rows_make_together_are_none(self):
        for texts in (("[1", ",2] 3"), ('{"a":1', ',"b":2}'), ('{"a":1}{"b":2}', "{}"), ("[", "]")):
            with self.subTest(texts):
                rows = [{"id": n, "payload": "{}"} for n in range(40)]
                for number, text in enumerate(texts):
                    rows[number]["payload"] = text
                tables = tessaron.shred(self.write("inbox.csv", as_csv(rows)))
                self.assertEqual(tables["inbox"].num_rows, 40 - sum(text != "{}" for text in texts))

    def test_old_encodings_and_numbers_that_come_late(self):
        path = self.write("inbox.csv", "größe;n\nä;1\n€;2\n".encode("cp1252"))
        self.assertEqual(
            without_keys(tessaron.shred(path)["inbox"]), [{"größe": "ä", "n": 1}, {"größe": "€", "n": 2}]
        )
        path = self.write("inbox.csv", "n\n" + "1\n" * 300_000 + "x\n")
        column = tessaron.shred(path)["inbox"].column("n").to_pylist()
        self.assertEqual((column[0], column[-1], len(column)), ("1", "x", 300_001))

    def test_faults_are_told(self):
        cases = (
            ("empty.csv", b"", "empty|expected a line"), ("twice.csv", b"a,a\n1,2\n", "two columns are called 'a'"), ("no.parquet", b"x" * 40, "cannot be read"),
            ("no.arrow", b"x" * 40, "cannot be read"),
        )  # fmt: skip
        for name, data, said in cases:
            with (
                self.subTest(name),
                self.assertRaisesRegex((tessaron.DataError, tessaron.SourceError), said) as caught,
            ):
                tessaron.shred(self.write(name, data))
            self.assertIn(name, str(caught.exception))

    def test_folders_and_paths_into_documents(self):
        for number in (1, 2, 10):
            self.write(f"in/part-{number}.csv", as_csv([{"id": number, "payload": f'{{"call":{number}}}'}]))
        self.assertEqual(
            [row["id"] for row in next(iter(tessaron.shred(self.folder / "in").values())).to_pylist()],
            [1, 2, 10],
        )
        self.assertEqual(quick_command("find", self.folder / "in", "$.payload.call").stdout, b"1\n2\n10\n")
        self.write("in/x.json", '{"id":7}')
        self.assertEqual(
            [row["id"] for row in next(iter(tessaron.shred(self.folder / "in").values())).to_pylist()], [7]
        )


class SqliteTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.file = self.folder / "office.db"
        with sqlite3.connect(self.file) as database:
            database.execute(
                "create table inbox(id integer primary key, code text, fee numeric, payload text, note text)"
            )
            database.executemany("insert into inbox values(?,?,?,?,?)", [tuple(row.values()) for row in ROWS])
        database.close()
        self.url = f"sqlite:///{self.file}"

    def test_a_table_and_a_query(self):
        tables = tessaron.shred(tessaron.DatabaseQuery(self.url, table="inbox"))
        self.assertEqual(list(tables), ["inbox", "inbox_payload_stays"])
        self.assertEqual([row["payload_call"] for row in tables["inbox"].to_pylist()], [1, 2, None])
        query = tessaron.DatabaseQuery(
            self.url, "select id, payload as p from inbox where code <> ':x' and id < 3 order by id desc"
        )
        self.assertEqual([row["p_call"] for row in tessaron.shred(query)["records"].to_pylist()], [2, 1])

    def test_the_commands(self):
        out = self.folder / "out"
        asked = (self.url, "--from-table", "inbox")
        for command in (
            ("survey", *asked),
            ("preview", *asked),
            ("draft", *asked),
            ("export", *asked, "-o", out),
            ("verify", out, *asked),
        ):
            with self.subTest(command[0]):
                done = quick_command(*command)
                self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(quick_command("find", *asked, "$.payload.call").stdout, b"1\n2\n")

    def test_only_named_documents(self):
        query = tessaron.DatabaseQuery(self.url, table="inbox", documents=["note"])
        self.assertEqual([reject.record for reject in tessaron.shred(query).rejects], [1])

    def test_what_cannot_be_right(self):
        query = tessaron.DatabaseQuery
        cases = (
            (lambda: query(self.url), tessaron.UsageError, "either a query or a table"),
            (lambda: query("nonsense", table="x"), tessaron.UsageError, "expected the URL of a database"),
            (lambda: query("nosuch://u:secret@h/d", table="x"), tessaron.UsageError, "expected the URL of a database"),
            (lambda: query(f"sqlite:///{self.folder}/none.db", table="x"), tessaron.SourceError, "no such file"),
            (lambda: query(self.url, table="nope"), tessaron.SourceError, "no such table"),
            (lambda: query(self.url, "delete from inbox"), tessaron.SourceError, "."),
            (lambda: query(self.url, "select 1 as a, 2 as a"), tessaron.UsageError, "two columns of the query are called 'a'"),
            (lambda: query(self.url, table="inbox", documents=["nope"]), tessaron.UsageError, "no column 'nope'"),
            (lambda: self.url, tessaron.UsageError, "say what to read"),
        )  # fmt: skip
        for number, (make, kind, said) in enumerate(cases):
            with self.subTest(number), self.assertRaisesRegex(kind, said) as caught:
                tessaron.shred(make())
            self.assertNotIn("secret", str(caught.exception))
        with sqlite3.connect(self.file) as database:
            self.assertEqual(database.execute("select count(*) from inbox").fetchone(), (3,))
        database.close()
        for arguments in (
            (self.url,),
            (self.url, "--query", "a", "--from-table", "b"),
            ("x.json", "--query", "a"),
        ):
            with self.subTest(arguments):
                self.assertEqual(quick_command("survey", *arguments).returncode, 2)


@needs_postgres
class PostgresTest(FolderTest):
    @classmethod
    def setUpClass(cls):
        cls.url = cls.enterClassContext(postgres_database())
        import psycopg

        with psycopg.connect(cls.url) as connection:
            connection.execute(
                "create table inbox(id bigint, at timestamptz, fee numeric(9,2), u uuid, doc jsonb, raw json, txt text, tags int[], x xml)"
            )
            connection.execute(
                "insert into inbox select n, '2026-01-01 10:00+01'::timestamptz + n * interval '1 second', n + 0.5, gen_random_uuid(),"
                """ jsonb_build_object('call', n), case when n % 5 > 0 then '{"n": 1.10}'::json end,"""
                """ case n when 7 then '{"m":' else '{"m":[' || n || ']}' end, array[n, n + 1], ('<a n="' || n || '"/>')::xml from generate_series(1, 12000) n"""
            )

    def test_columns_of_every_type(self):
        tables = tessaron.shred(tessaron.DatabaseQuery(self.url, table="public.inbox"))
        self.assertEqual(
            {name: table.num_rows for name, table in tables.items()},
            {"inbox": 11_999, "inbox_txt_m": 11_999, "inbox_tags": 23_998},
        )
        self.assertEqual(
            [(reject.code, '"id":7' in (reject.raw or "")) for reject in tables.rejects], [("syntax", True)]
        )
        row = tables["inbox"].to_pylist()[0]
        self.assertEqual(
            (row["id"], row["fee"], row["doc_call"], row["raw_n"]), (1, Decimal("1.50"), 1, Decimal("1.10"))
        )
        self.assertEqual(row["x_n"], 1)
        self.assertEqual(row["at"], datetime.datetime(2026, 1, 1, 9, 0, 1, tzinfo=datetime.UTC))
        self.assertEqual(str(tables["inbox"].schema.field("at").type), "timestamp[us, tz=UTC]")

    def test_export_verify_and_no_writing(self):
        asked = (self.url, "--query", "select id, doc from inbox where id <= 100 order by id")
        self.assertEqual(quick_command("export", *asked, "-o", self.folder / "out").returncode, 0)
        done = quick_command("verify", self.folder / "out", *asked)
        self.assertIn(b"identical: 100 records", done.stdout)
        nothing = tessaron.DatabaseQuery(
            self.url, "select id, doc from inbox where id < 0 and 'a%' like '%a' and ':x' <> ''"
        )
        with self.assertRaisesRegex(tessaron.DataError, "is empty"):
            tessaron.survey(nothing)
        query = tessaron.DatabaseQuery(self.url, "select current_setting('transaction_read_only') as setting")
        self.assertEqual(tessaron.shred(query)["records"].column("setting").to_pylist(), ["on"])


if __name__ == "__main__":
    unittest.main()
