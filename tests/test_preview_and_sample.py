"""Previews show what an export writes; samples keep structure and hide values."""

import json
import os
import re
import unittest
from collections import Counter

import pyarrow.csv as pa_csv
from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.json_text import json_text
from tessaron.core.base.paths import ELEMENT
from tessaron.core.sample.choosing import Choice
from tessaron.core.sample.masking import Mask
from tessaron.sources.demo.vessel_calls import write_calls
from tessaron.views.grid import Grid, shorten, shown, text_width
from tests.harness import FolderTest, quick_command

MIXED = [
    {"id": 1, "v": "a,b", "at": "2026-01-02T03:04:05Z", "d": 1.50, "tags": ["x", ""], "n": None},
    {"id": 2, "v": "", "at": "2026-01-02T03:04:06Z", "d": 2.25, "tags": [], "n": None},
    {"id": 3, "at": "2026-01-02T03:04:07Z", "d": 10.00, "tags": ["null"], "n": None},
]


class PreviewTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.feed = self.write("feed.json", json.dumps(MIXED))

    def test_the_tables(self):
        done = quick_command("preview", self.feed, COLUMNS="120")
        self.assertEqual(
            done.stdout.decode().splitlines(),
            [
                "feed (3 of 3 rows)",
                "row_key       id  v     at                               d  n",
                "integer  integer  text  timestamp_tz          decimal(4,2)  text",
                "───────  ───────  ────  ────────────────────  ────────────  ────",
                "      1        1  a,b   2026-01-02 03:04:05Z          1.50  null",
                '      2        2  ""    2026-01-02 03:04:06Z          2.25  null',
                "      3        3  null  2026-01-02 03:04:07Z         10.00  null",
                "",
                "feed_tags (3 of 3 rows)",
                "row_key  parent_key  ordinal  value",
                "integer     integer  integer  text",
                "───────  ──────────  ───────  ──────",
                "      1           1        1  x",
                '      2           1        2  ""',
                '      3           3        1  "null"',
            ],
        )
        self.assertEqual(done.stderr, b"")

    def test_narrow_terminals_get_a_field_per_line(self):
        lines = (
            quick_command("preview", self.feed, "--table", "feed", "--rows", "1", COLUMNS="50")
            .stdout.decode()
            .splitlines()
        )
        self.assertEqual(
            lines[1:4], ["row_key  integer       1", "id       integer       1", "v        text          a,b"]
        )
        self.assertLessEqual(max(map(len, lines)), 50)

    def test_rows_for_other_tools_are_those_of_an_export(self):
        calls = write_calls(self.folder, 150)
        tessaron.export(calls, self.folder / "out", format="csv")
        for table in ("vessel_calls", "vessel_calls_stays_moves"):
            with self.subTest(table):
                done = quick_command("preview", calls, "--table", table, "--rows", "100000", "--as", "csv")
                made = self.write("p.csv", done.stdout)
                self.assertTrue(
                    pa_csv.read_csv(made).equals(pa_csv.read_csv(self.folder / "out" / f"{table}.csv"))
                )
        done = quick_command("preview", self.feed, "--table", "tags", "--as", "json", "--rows", "1")
        self.assertEqual(done.stdout, b'{"row_key":1,"parent_key":1,"ordinal":1,"value":"x"}\n')

    def test_it_says_how_much_was_read(self):
        done = quick_command("preview", write_calls(self.folder, 300), "--table", "stays", "--rows", "2")
        self.assertIn(b"read the first 200 records only", done.stderr)

    def test_wrong_use(self):
        cases = (
            (["--table", "tag"], "no table 'tag'; there is feed_tags"),
            (["--as", "csv"], "--as csv is for one table; choose with --table: feed, feed_tags"),
        )
        for options, message in cases:
            with self.subTest(message):
                done = quick_command("preview", self.feed, *options)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())


class GridTest(unittest.TestCase):
    def test_cells(self):
        cases = (
            (None, "null"),
            ("", '""'),
            ("null", '"null"'),
            ("a\tb", "a\\tb"),
            ("x" * 50, "x" * 19 + "…"),
            ("港" * 20, "港" * 9 + "…"),
        )
        for cell, expected in cases:
            with self.subTest(cell):
                self.assertEqual(shown(cell, 20), expected)
        self.assertEqual(text_width(shorten("港" * 20, 20)), 19)

    def test_wide_letters_stay_aligned(self):
        lines = list(Grid(["name", "n"], right=frozenset([1])).lines([["港", "1"], ["abc", "22"]]))
        self.assertEqual(lines, ["name   n", "────  ──", "港     1", "abc   22"])


SHAPES = re.compile(r"[a-z]|[A-Z]|[0-9]")


def look(text):
    return SHAPES.sub(
        lambda found: "a" if found.group().islower() else "A" if found.group().isupper() else "0", text
    )


class MaskTest(unittest.TestCase):
    def test_looks_stay(self):
        texts = ["BRW-0000001", "departed", "desk0@agents.example", "2026-01-04T07:35:00Z", "2026-02-29", "3/4/2026",
                 "0f3c8a52-8d1e-4f6a-9b7c-2d5e6f708191", "Ånd", "", "⚓ early", "+00 5550 0100"]  # fmt: skip
        mask = Mask(b"secret" * 4)
        for text in texts:
            with self.subTest(text):
                made = mask.scalar(text)
                self.assertEqual(len(made), len(text))
                if "0f3c" not in text and "Å" not in text:
                    self.assertEqual(look(made), look(text))
                self.assertEqual(made, mask.scalar(text))
        types = tessaron.shred(
            [
                {
                    "t": mask.scalar("2026-01-04T07:35:00.5Z"),
                    "u": mask.scalar(texts[6]),
                    "d": mask.scalar("2024-02-29"),
                }
            ]
        )
        self.assertEqual(
            [column.type.name for column in types.layout.tables[0].columns], ["timestamp_tz", "uuid", "date"]
        )

    def test_numbers_keep_kind_and_digits(self):
        mask = Mask(b"secret" * 4)
        for text in (
            "0",
            "7",
            "-12",
            "1234567890123456789",
            "-9223372036854775808",
            "123456789012345678901234567890",
            "0.50",
            "-1.5e+10",
            "12.0",
        ):
            with self.subTest(text):
                before = tessaron.shred(f'[{{"v":{text}}}]'.encode()).layout.tables[0].columns[0].type
                made = json_text(mask.scalar(next(tessaron.find(f"[{text}]".encode(), "$[0]")).match.value))
                after = tessaron.shred(f'[{{"v":{made}}}]'.encode()).layout.tables[0].columns[0].type
                self.assertEqual((look(made), after.name), (look(text), before.name))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.text("abAB01 -é", min_size=1, max_size=3), max_size=40))
    def test_different_values_stay_different(self, texts):
        mask = Mask(b"k" * 32)
        made = [mask.scalar(text) for text in texts]
        self.assertEqual(len(set(made)), len(set(texts)))
        self.assertEqual([made.index(item) for item in made], [texts.index(item) for item in texts])

    def test_json_in_a_text_stays_json(self):
        made = Mask(b"k" * 32).scalar('{"crane": "C4", "n": [12, null, true]}')
        self.assertEqual(json.loads(made).keys(), {"crane", "n"})
        self.assertNotIn("C4", made)

    def test_keys_of_dictionaries_are_values(self):
        records = [{"by_day": {"2026-01-01": 1, "2026-01-02": 2, "2026-01-03": 3}, "name": {"first": "Ada"}}]
        target = os.path.join(os.environ.get("TMPDIR", "/tmp"), f"masked-{os.getpid()}.json")
        self.addCleanup(os.remove, target)
        tessaron.sample(json.dumps(records).encode(), target, first=1, mask=True)
        with open(target, encoding="utf-8") as file:
            (made,) = json.load(file)
        self.assertEqual(made["name"].keys(), {"first"})
        self.assertFalse(made["by_day"].keys() & records[0]["by_day"].keys())
        self.assertTrue(all(re.fullmatch(r"\d{4}-\d\d-\d\d", key) for key in made["by_day"]))


def features(record):
    """Return every path with its kind in a record."""
    found, pending = set(), [((), record)]
    while pending:
        path, value = pending.pop()
        found.add((path, type(value).__name__))
        if isinstance(value, dict):
            pending.extend(((*path, name), item) for name, item in value.items())
        elif isinstance(value, list):
            pending.extend(((*path, ELEMENT), item) for item in value)
    return found


class SampleTest(FolderTest):
    def test_rare_structures_are_kept(self):
        records = [{"id": n, "v": n} for n in range(2_000)]
        records[1_500] = {"id": 1_500, "v": "text", "rare": [{"x": None}]}
        records[1_900] = {"id": "1900", "v": {"deep": True}}
        source = self.write("r.ndjson", "\n".join(map(json.dumps, records)))
        taken = tessaron.sample(source, self.folder / "s.ndjson", first=5)
        made = [json.loads(line) for line in (self.folder / "s.ndjson").read_text("utf-8").splitlines()]
        self.assertEqual((taken.records, taken.seen), (5, 2_000))
        self.assertEqual(made, [records[n] for n in (0, 1, 2, 1_500, 1_900)])

    @settings(max_examples=48, deadline=None)
    @given(st.lists(st.dictionaries(st.sampled_from("ab"), st.recursive(st.none() | st.integers(0, 2) | st.text("x", max_size=1), lambda inner: st.lists(inner, max_size=2), max_leaves=3), max_size=2), max_size=12))  # fmt: skip
    def test_every_path_and_kind_appears_if_there_is_room(self, records):
        choice = Choice(len(records) or 1)
        for record in records:
            choice.take(record)
        shown_by_all = set().union(*map(features, records)) if records else set()
        chosen = choice.chosen()
        self.assertEqual(set().union(*map(features, chosen)) if chosen else set(), shown_by_all)

    def test_the_outer_form_stays(self):
        page = {
            "page": 1,
            "data": {"calls": [{"id": 1}, {"id": 2}, {"id": 3, "x": "S3CRET"}]},
            "end": "S3CRET",
        }
        cases = (
            ("array.json", json.dumps([{"id": 1}, {"id": 2}]), {}, [{"id": 1}, {"id": 2}]),
            ("lines.ndjson", '{"id":1}\n{"id":2}', {}, None),
            ("page.json", json.dumps(page), {}, page),
            ("some.json", json.dumps(page), {"records": "$.data.calls[?@.id>1]"}, None),
        )  # fmt: skip
        for name, text, options, expected in cases:
            with self.subTest(name):
                target = self.folder / f"sample-{name}"
                tessaron.sample(self.write(name, text), target, first=9, **options)
                made = target.read_text("utf-8")
                if expected is not None:
                    self.assertEqual(json.loads(made), expected)
                self.assertEqual(tessaron.shred(target).record_count, made.count('"id"'))
        done = quick_command("sample", self.folder / "page.json", "-o", self.folder / "m.json", "--mask")
        self.assertIn(b"3 of 3 records", done.stderr)
        self.assertNotIn("S3CRET", (self.folder / "m.json").read_text("utf-8"))

    def test_a_masked_sample_has_the_same_tables(self):
        calls = write_calls(self.folder, 100)
        tessaron.sample(calls, self.folder / "vessel_calls_m.ndjson", first=100, mask=True)
        before, after = (
            tessaron.shred(calls, name="c"),
            tessaron.shred(self.folder / "vessel_calls_m.ndjson", name="c"),
        )
        self.assertEqual(
            {name: table.num_rows for name, table in before.items()},
            {name: table.num_rows for name, table in after.items()},
        )
        for column in ("status", "vessel_name"):
            patterns = [
                sorted(Counter(tables["c"].column(column).to_pylist()).values()) for tables in (before, after)
            ]
            self.assertEqual(*patterns)
        self.assertFalse(
            set(before["c"].column("call_id").to_pylist()) & set(after["c"].column("call_id").to_pylist())
        )

    def test_targets(self):
        source = self.write("a.json", "[1]")
        self.assertEqual(quick_command("sample", source, "-o", source).returncode, 2)
        self.assertEqual(source.read_text(), "[1]")
        done = quick_command("sample", source, "-o", self.folder / "no" / "x.json")
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"cannot be written", done.stderr)
        self.assertEqual(quick_command("sample", source, "-o", source, "--replace").returncode, 0)
        with self.assertRaisesRegex(tessaron.UsageError, "not of objects"):
            tessaron.sample([{"a": 1}], self.folder / "o.json", first=1)
