"""The layout file: drafted, edited, brought up to date, changed from Python, and all its mistakes at once."""

import json
import tomllib
import unittest
from importlib.resources import files

import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.layout.layout_model import layout_schema
from tessaron.core.layout.toml_lines import key_lines
from tests.harness import KERNELS, FolderTest, quick_command
from tests.strategies import RECORDS

DOCUMENTS = [
    {"call": {"id": 1, "eta": "2026-01-01"}, "vessel": {"name": "Auk", "id": 7}, "tags": ["a", "b"], "by_day": {f"2026-01-{d:02}": {"n": d} for d in range(1, 20)}},
    {"call": {"id": 2, "eta": None}, "vessel": {"name": "Ibis", "id": 8}, "ok": "yes", "holds": [{"n": 1, "holds": [{"n": 2}]}]},
    {"call": {"id": 3}, "ok": "no", "holds": {"n": 3}, "x y": {"é": 1.50}},
]  # fmt: skip


def lines_of(documents):
    return "\n".join(map(json.dumps, documents)).encode()


def same_tables(first, second):
    return list(first) == list(second) and all(first[name].equals(second[name]) for name in first)


class DraftTest(FolderTest):
    def test_a_draft_makes_the_same_tables_as_an_export_without_one(self):
        envelope = json.dumps({"port": "BRW", "calls": DOCUMENTS}).encode()
        for source in (lines_of(DOCUMENTS), envelope):
            for options in ({}, {"keys": "digest"}, {"origin": True}, {"key": ["call_id"], "keys": "digest"}):
                with self.subTest(options=options):
                    layout = tessaron.draft(source, **options)
                    plain = tessaron.shred(source, **options)
                    self.assertTrue(same_tables(plain, tessaron.shred(source, layout=layout)))

    @settings(max_examples=12, deadline=None)
    @given(st.data())
    def test_any_documents_make_the_same_tables_through_their_draft(self, data):
        # Empty objects among arrays are one row or none: what a path says cannot tell them apart.
        scalars = (
            st.none()
            | st.booleans()
            | st.integers(-5, 2**66)
            | st.sampled_from([1.5, -0.0, "t", "2026-01-01", "yes", ""])
        )
        names = st.sampled_from(["a", "b", "items", "x y"])
        values = st.recursive(
            scalars,
            lambda inner: st.lists(inner, max_size=3) | st.dictionaries(names, inner, min_size=1, max_size=3),
            max_leaves=12,
        )
        source = lines_of(
            data.draw(
                st.lists(st.dictionaries(names, values, min_size=1, max_size=3), min_size=1, max_size=4)
            )
        )
        layout = tessaron.draft(source, workers=1)
        self.assertTrue(
            same_tables(tessaron.shred(source, workers=1), tessaron.shred(source, layout=layout, workers=1))
        )

    def test_the_text_has_a_line_per_column_with_what_is_known(self):
        text = tessaron.draft(lines_of(DOCUMENTS), name="calls").text
        self.assertIn('[tables.calls]\nrows = "$"\n[tables.calls.columns]\n', text)
        self.assertRegex(
            text, r'\ncall_eta +\= \{ path = "\$\.call\.eta", type = "date" \} +# 33 %; e\.g\. "2026-01-01"'
        )
        self.assertIn('words = ["yes", "no"]', text)
        self.assertIn('again."$.holds[*].holds" = "$.holds"', text)
        self.assertIn('rows = "$.by_day.*"', text)
        self.assertIn('''path = "$['x y'].é"''', text)
        tables = list(tomllib.loads(text)["tables"])
        self.assertEqual(tables[0], "calls")

    def test_names_are_as_short_as_they_can_be(self):
        layout = tessaron.draft(lines_of(DOCUMENTS), name="calls", names="leaf")
        self.assertEqual(
            list(layout.columns("calls")),
            ["call_id", "eta", "name", "vessel_id", "ok", "é"],
        )
        self.assertEqual(layout.part.reading.names, "leaf")

    def test_the_command_writes_a_file_but_not_over_another(self):
        source = self.write("calls.ndjson", lines_of(DOCUMENTS))
        target = self.folder / "calls.layout.toml"
        self.assertEqual(quick_command("draft", source, "-o", target).returncode, 0)
        self.assertEqual(tessaron.Layout.read(target), tessaron.draft(source))
        again = quick_command("draft", source, "-o", target)
        self.assertEqual(again.returncode, 2)
        self.assertIn(b"is there already; --update keeps its edits", again.stderr)
        self.assertEqual(quick_command("draft", source, "-o", target, "--replace").returncode, 0)
        self.assertEqual(quick_command("draft", source).stdout.decode(), target.read_text())


EDITED = """# our calls
[reading]
format = "json"

[tables.calls]       # the top
rows = "$"
keep = "id > 0"
[tables.calls.columns]
id     = { path = "$.call.id", type = "integer", required = true }   # the key
# ok = { path = "$.ok", type = "boolean" }   not wanted
vessel = { path = "$.vessel", type = "json" }
gone   = { path = "$.gone", type = "text" }  # was here once

[tables.tags]
rows = "$.tags[*]"
[tables.tags.columns]
tag = { path = "@", type = "text" }
"""


class UpdateTest(FolderTest):
    def test_edits_and_comments_stay_new_paths_come_and_lost_ones_are_marked(self):
        layout, changes = tessaron.update(tessaron.Layout(EDITED), lines_of(DOCUMENTS))
        text = layout.text
        for line in EDITED.splitlines():
            if "gone" not in line:
                self.assertIn(line, text)
        self.assertRegex(text, r"gone   = \{ .* \} *# not met; was here once\n")
        self.assertRegex(text, r'\ncall_eta = \{ path = "\$\.call\.eta", type = "date" \} *# new; 33 %')
        self.assertIn('[tables.calls_holds]  # new\nrows = "$.holds[*]"', text)
        self.assertNotIn("vessel_name", text)
        self.assertEqual(text.count("$.ok"), 1)
        self.assertEqual(changes.unmet, ("calls.gone: $.gone",))
        self.assertIn("calls.call_eta: $.call.eta", changes.new)

    def test_what_a_table_has_of_several_places_is_not_new(self):
        cases = (
            ('parallel = ["$.tide.time[*]", "$.tide.level_m[*]"]\ncolumns.time = { path = "@.time", type = "text" }', {"tide": {"time": ["a"], "level_m": [1.5]}}),
            ('rows = ["$.from", "$.to"]\ncolumns.name = { path = "@.name", type = "text" }', {"from": {"name": "A"}, "to": {"name": "B"}}),
            ('rows = ["$.in[*]", "$.out[*]"]\ncolumns.name = { path = "@.name", type = "text" }', {"in": [{"name": "A"}], "out": [{"name": "B"}]}),
        )  # fmt: skip
        for text, record in cases:
            layout = tessaron.Layout(
                f'[tables.t]\nrows = "$"\ncolumns.id = {{ path = "$.id", type = "integer" }}\n[tables.u]\n{text}'
            )
            with self.subTest(text):
                _, changes = tessaron.update(layout, [{"id": 1, **record}] * 3)
                self.assertEqual(changes.new, ())

    def test_a_second_update_changes_nothing_and_what_comes_back_loses_its_mark(self):
        once, _ = tessaron.update(tessaron.Layout(EDITED), lines_of(DOCUMENTS))
        twice, changes = tessaron.update(once, lines_of(DOCUMENTS))
        self.assertEqual(twice.text, once.text)
        self.assertEqual(changes.new, ())
        back, changes = tessaron.update(once, lines_of([*DOCUMENTS, {"gone": "x"}]))
        self.assertEqual(changes.met_again, ("calls.gone: $.gone",))
        self.assertRegex(back.text, r"gone   = \{ .* \} *# was here once\n")

    def test_new_tables_are_named_after_the_records_not_the_documents_around_them(self):
        feed = {"port": "BRW", "calls": [{"id": 1}, {"id": 2}]}
        layout = tessaron.draft(json.dumps(feed).encode())
        self.assertEqual(layout.tables, ("calls_documents", "calls"))
        feed["calls"][0]["moves"] = [{"teu": 1}]
        updated, changes = tessaron.update(layout, json.dumps(feed).encode())
        self.assertEqual(changes.new, ("calls_moves: $.moves[*]",))
        self.assertEqual(tessaron.shred(json.dumps(feed).encode(), layout=updated)["calls_moves"].num_rows, 1)

    def test_the_command_says_what_it_changed(self):
        source = self.write("calls.ndjson", lines_of(DOCUMENTS))
        file = self.write("calls.layout.toml", EDITED)
        done = quick_command("draft", source, "--update", file)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn(b"new: calls.call_eta: $.call.eta", done.stderr)
        self.assertIn(b"not met: calls.gone: $.gone", done.stderr)
        again = quick_command("draft", source, "--update", file)
        self.assertNotIn(b"new:", again.stderr)


MISTAKEN = """[reading]
keys = "sequenced"
recods = "$.calls[*]"
[structure]
merged = "$.x"
named_rows = { "$.rows" = "columns" }
[tables.calls]
rows = "$.calls[?@.a]"
keep = "statuss != 'cancelled'"
carry = ["call.id"]
[tables.calls.columns]
call_id = { path = "$.call_id", tpye = "text" }
draught = { path = "$.vessel.draught_m", type = "decimal(5;2)" }
eta = { path = "$.eta", type = "timestamp", format = "%Q" }
teu = { value = "sums(moves.teu)" }
zone = { path = "$.z", type = "timestamp_tz", zone = "Nowhere/Else" }
[tables.moves]
rows = "$.stays[*].moves[*]"
key = ["idd"]
colums = {}
[tables.moves.columns]
id = { path = "@.id", type = "integer" }
teu = { path = "$.other[*].teu", type = "integer" }
kind = { path = "@.kind", type = "text", case = "UPPER" }
x = { path = "@.x", type = "integer", allowed = ["a"], pattern = "(" }
both = { path = "@.x", value = "1" }
seals = { path = "@.seals[*]", type = "text" }
words = { path = "@.w", type = "text", words = ["y", "n"] }
least = { path = "@.l", type = "integer", least = 5, most = 2 }
"""
MISTAKES = [
    (2, "reading.keys", "did you mean sequence?"), (3, "reading.recods", "did you mean records?"),
    (5, "structure.merged", "expected a list"), (6, "structure.named_rows", "expected"),
    (8, "tables.calls.rows", "use keep for rows"), (9, "tables.calls.keep", "no column 'statuss'"),
    (10, "tables.calls.carry.1", "did you mean calls?"), (12, "tables.calls.columns.call_id.tpye", "did you mean type?"),
    (13, "tables.calls.columns.draught.type", "did you mean decimal?"), (14, "tables.calls.columns.eta.format", "'%Q'"),
    (15, "tables.calls.columns.teu.value", "did you mean sum?"), (16, "tables.calls.columns.zone.zone", "no time zone"),
    (19, "tables.moves.key", "did you mean id?"), (20, "tables.moves.colums", "did you mean columns?"),
    (23, "tables.moves.columns.teu.path", "stands neither in the rows of moves"),
    (24, "tables.moves.columns.kind.case", "did you mean upper?"), (25, "tables.moves.columns.x.allowed", "expected integer, got 'a'"),
    (25, "tables.moves.columns.x.pattern", "no regular expression"), (26, "tables.moves.columns.both", "got path and value"),
    (27, "tables.moves.columns.seals.path", 'say fold = "first"'), (28, "tables.moves.columns.words.words", "goes with the types boolean"),
    (29, "tables.moves.columns.least.least", "is more than most"),
]  # fmt: skip
SINGLE = [
    ("", "tables: expected, but it is not there"),
    ("[tables.a\n", "line 1: not TOML"),
    ('[tables.a]\nrows = "$"\nrows = "$"', "line 3: not TOML"),
    ("[tables.a]\n", "expected rows, where its rows stand"),
    ('[tables.a]\nrows = "@.x[*]"', "begins at a row of the parent; say which"),
    ('[tables.a]\nrows = "$.x[0]"', "a position names one element"),
    ('[tables.a]\nrows = "$..x"', "one step after another"),
    ('[tables.a]\nrows = "x"', "tables.a.rows"),
    ('[tables.a]\nrows = "@.x"\nparent = "b"\n[tables.b]\nrows = "@.y"\nparent = "a"', "a table below itself"),
    ('[tables.a]\nrows = ["$.x[*]", "$.y[*].z[*]"]', "of one and the same row"),
    ('[tables.a]\nparallel = ["$.x"]', "ending with [*]"),
    ('[tables.a]\nrows = "$"\n[tables.a.columns]\nf = { path = "$.t[*]", flags = ["x"], fold = "first" }', "expected one of fold, flags and numbered"),
    ('[tables.a]\nrows = "$"\n[tables.a.columns]\nf = { path = "$.t", type = "text", fold = "first" }', "nothing to fold"),
    ('[tables.a]\nrows = "$"\n[tables.a.columns]\nf = { path = "$.t[*]", type = "boolean", fold = "sum" }', "sum cannot be made of boolean"),
    ('[tables.a]\nrows = "$"\n[tables.a.columns]\nf_x = { path = "$.f", type = "text" }\nf = { path = "$.t[*]", flags = ["x"] }', "is taken by f_x"),
    ('[tables.a]\nrows = "$"\nkey = ["k"]\n[tables.a.columns]\nk = { path = "$.k", type = "text", hidden = true }', "is not written"),
    ('[tables.a]\nrows = "$"\n[tables.a.columns]\nk = { path = "$.k", type = "text", hidden = true, unique = true }', "only what is written"),
    ('[tables.a]\nrows = "$.d.*"\n[tables.b]\nrows = "$.d.x[*]"', "the names at $.d are keys for one path ($.d.*), but 'x' is a field"),
    ('[reading]\nrecords = "calls"\n[tables.a]\nrows = "$"', "reading.records"),
    ('[structure]\nagain = { "$.a" = "$.b" }\n[tables.a]\nrows = "$"', "expected a path above"),
]  # fmt: skip


class MistakeTest(FolderTest):
    def test_all_mistakes_come_at_once_each_with_its_line(self):
        with self.assertRaises(tessaron.LayoutError) as caught:
            tessaron.Layout(MISTAKEN, "calls.layout.toml")
        found = [(fault.line, ".".join(fault.keys)) for fault in caught.exception.faults]
        for line, keys, message in MISTAKES:
            with self.subTest(keys=keys):
                self.assertTrue(any(at == line and name.startswith(keys) for at, name in found), found)
                self.assertIn(message, str(caught.exception))
        self.assertEqual(len(found), len(MISTAKES))
        self.assertIn(f"calls.layout.toml: {len(MISTAKES)} mistakes\n", str(caught.exception))

    def test_single_mistakes_say_what_was_expected(self):
        for text, message in SINGLE:
            with self.subTest(text=text), self.assertRaises(tessaron.LayoutError) as caught:
                tessaron.Layout(text)
            self.assertIn(message, str(caught.exception))

    def test_the_command_shows_them_and_touches_nothing(self):
        source = self.write("calls.ndjson", lines_of(DOCUMENTS))
        layout = self.write("calls.layout.toml", MISTAKEN)
        done = quick_command("export", source, "--layout", layout, "-o", self.folder / "out")
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"line 3: reading.recods: no such key; did you mean records?", done.stderr)
        self.assertFalse((self.folder / "out").exists())
        for bad, message in ((b"\xff", b"a layout is UTF-8"), (None, b"cannot be read: No such file")):
            path = self.folder / "missing.toml" if bad is None else self.write("bad.toml", bad)
            done = quick_command("export", source, "--layout", path, "-o", self.folder / "out")
            self.assertEqual(done.returncode, 2)
            self.assertIn(message, done.stderr)

    def test_options_that_the_layout_speaks_of_are_refused(self):
        layout = tessaron.Layout(EDITED)
        for options in (
            {"records": "$"},
            {"name": "x"},
            {"keys": "digest"},
            {"only": ["a"]},
            {"flat": "$.tags[*]"},
        ):
            with (
                self.subTest(**options),
                self.assertRaisesRegex(tessaron.UsageError, "does not go with a layout"),
            ):
                tessaron.shred(lines_of(DOCUMENTS), layout=layout, **options)

    def test_lines_are_found_in_any_toml(self):
        text = 'a = [\n  1,\n]\n"b c".d = """x\n[e]\n"""\n[f]  # g\n[f.g]\nh = { i = 1 }\n'
        lines = key_lines(text)
        cases = {("a",): 1, ("b c", "d"): 4, ("f", "g"): 8, ("f", "g", "h", "i"): 9, ("zz",): None}
        for keys, line in cases.items():
            self.assertEqual(lines.line_of(keys), line, keys)


class ChangeTest(unittest.TestCase):
    def test_every_change_returns_a_new_layout_and_keeps_the_comments(self):
        layout = tessaron.Layout(EDITED)
        changed = (
            layout.set_column("calls", "eta", path="$.call.eta", type="date")
            .set_column("calls", "id", required=None, unique=True)
            .rename_column("calls", "id", "call_id")
            .remove_columns("calls", "gone")
            .order_columns("calls", ["eta"])
            .set_table("tags", carry=["calls.call_id"])
            .set_reading(nulls=["-"])
            .set_structure(arrays=["$.tags"])
            .rename_table("calls", "visits")
        )
        self.assertEqual(layout.text, EDITED)
        self.assertEqual(list(changed.columns("visits")), ["eta", "call_id", "vessel"])
        self.assertEqual(changed.part.tables["visits"].keep, "call_id > 0")
        self.assertEqual(changed.part.tables["tags"].carry, ["visits.call_id"])
        for comment in ("# our calls", "# the key", "not wanted"):
            self.assertIn(comment, changed.text)
        tables = tessaron.shred(lines_of(DOCUMENTS), layout=changed)
        self.assertEqual(
            tables["tags"].to_pylist()[0],
            {"row_key": 1, "parent_key": 1, "ordinal": 1, "call_id": 1, "tag": "a"},
        )

    def test_what_is_not_there_cannot_be_changed(self):
        layout = tessaron.Layout(EDITED)
        for change, message in (
            (lambda: layout.remove_table("call"), "no table 'call' in the layout; did you mean calls?"),
            (lambda: layout.remove_columns("calls", "idd"), "no column 'idd' in calls; did you mean id?"),
            (lambda: layout.rename_column("calls", "id", "gone"), "has a column 'gone' already"),
            (lambda: layout.columns("x"), "no table 'x'"),
            (lambda: layout.set_column("calls", "id", typo="x"), "no such key"),
            (lambda: layout.remove_columns("calls", "id"), "no column 'id' in calls"),
        ):
            with self.subTest(message=message), self.assertRaises(tessaron.UsageError) as caught:
                change()
            self.assertIn(message, str(caught.exception))

    def test_the_schema_that_ships_is_that_of_the_model(self):
        shipped = json.loads(files("tessaron").joinpath("layout.schema.json").read_text("utf-8"))
        self.assertEqual(shipped, json.loads(json.dumps(layout_schema())))
        self.assertEqual(json.loads(quick_command("draft", "--schema").stdout), shipped)


class QuickChoiceTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.source = self.write("calls.ndjson", lines_of(DOCUMENTS))

    def test_patterns_choose_and_the_rest_is_listed(self):
        cases = [
            ({"only": ["$.call"]}, {"calls": ["call_id", "call_eta"]}),
            ({"only": ["$.call.*"], "without": ["$.c*.e*"]}, {"calls": ["call_id"]}),
            ({"only": ["$.by_day.*"]}, {"calls": [], "calls_by_day": ["key", "n"]}),
            ({"only": ["id"], "without": ["$.vessel"]}, {"calls": ["call_id"]}),
            ({"only": ["$.tags[*]", "*a"]}, {"calls": ["call_eta"], "calls_tags": ["value"]}),
            ({"only": ["$.holds[*].n"]}, {"calls": [], "calls_holds": ["n"]}),
            ({"only": ["$['x y'].*"]}, {"calls": ["x_y_é"]}),
        ]
        for options, wanted in cases:
            for kernel in KERNELS:
                with self.subTest(**options, kernel=kernel):
                    tables = tessaron.shred(self.source, kernel=kernel, **options)
                    found = {
                        name: [c.name for c in t.columns]
                        for name, t in zip(tables, tables.layout.tables, strict=True)
                    }
                    self.assertEqual(found, wanted)
        receipt = tessaron.export(self.source, self.folder / "out", without=["holds", "by_day", "tags"])
        self.assertEqual({each.path for each in receipt.left_out}, {"$.by_day", "$.holds", "$.tags"})

    def test_a_pattern_that_meets_nothing_is_an_error(self):
        with self.assertRaisesRegex(tessaron.UsageError, r"expected a step such as \.name.*got '\[0\]'"):
            tessaron.shred(self.source, only=["$.tags[0]"])
        for options, near in (({"only": ["etaa"]}, "eta"), ({"without": ["$.vesel"]}, r"\$\.vessel")):
            with (
                self.subTest(**options),
                self.assertRaisesRegex(tessaron.UsageError, f"met by the pattern.*{near}"),
            ):
                tessaron.shred(self.source, **options)

    def test_a_flat_table_without_a_layout_file(self):
        tables = tessaron.shred(self.source, flat="$.tags[*]", only=["id", "tags"])
        self.assertEqual(
            tables["calls_tags"].to_pylist()[1], {"row_key": 2, "call_id": 1, "vessel_id": 7, "value": "b"}
        )
        tables = tessaron.shred(self.source, flat="$.tags[*]", with_empty=True, only=["id", "tags"])
        self.assertEqual(tables["calls_tags"]["call_id"].to_pylist(), [1, 1, 2, 3])
        done = quick_command(
            "export", self.source, "--flat", "$.tags[*]", "--times", "$.by_day.*", "-o", self.folder / "out"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("calls_tags: 38 rows come out of calls_tags × calls_by_day".encode(), done.stderr)
        self.assertEqual(pq.read_table(self.folder / "out" / "calls_tags.parquet").num_rows, 38)
        with self.assertRaisesRegex(
            tessaron.UsageError, r"no rows stand at '\$\.tag\[\*\]'; there are rows at \$\.tags"
        ):
            tessaron.shred(self.source, flat="$.tag[*]")

    def test_a_row_that_stands_for_none_is_nobodys_parent(self):
        source = b'{"call": 1}\n{"b":[{"b":{"a":null},"a":[]}]}'
        layout = tessaron.draft(source)
        flat = layout.flatten("records_b", [], True)
        rows = tessaron.shred(source, layout=flat)["records_b"].to_pylist()
        self.assertEqual([row["within_key"] for row in rows][1:], [None, 2])
        found = tessaron.shred(source, flat=layout.part.tables["records_b"].rows, with_empty=True)[
            "records_b"
        ]
        self.assertEqual(found.to_pylist(), rows)

    @settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(st.lists(RECORDS, min_size=1, max_size=4), st.data())
    def test_a_flat_table_is_what_its_layout_says(self, records, data):
        source = "\n".join(['{"call": 1}', *records]).encode()
        keys = data.draw(st.sampled_from(["sequence", "digest"]))
        layout = tessaron.draft(source, keys=keys)
        tables = {name: part.rows for name, part in layout.part.tables.items() if not part.around}
        flat, *times = data.draw(st.lists(st.sampled_from(list(tables)), min_size=1, max_size=2, unique=True))
        with_empty = data.draw(st.booleans())
        try:
            wanted = tessaron.shred(source, layout=layout.flatten(flat, times, with_empty))
        except tessaron.LayoutError:
            with self.assertRaises(tessaron.UsageError):
                tessaron.shred(source, flat=tables[flat], times=[tables[name] for name in times], keys=keys)
            return
        found = tessaron.shred(
            source,
            flat=tables[flat],
            times=[tables[name] for name in times],
            with_empty=with_empty,
            keys=keys,
        )
        self.assertEqual(found[flat].schema, wanted[flat].schema)
        self.assertEqual(repr(found[flat].to_pylist()), repr(wanted[flat].to_pylist()))

    def test_a_document_alone_is_no_envelope_for_a_layout(self):
        """What stands in an array of one lone document looks like records, but a layout says what it is."""
        calls = [{"id": n, "port": "Brackwater", "stays": [{"berth": "N1"}, {"berth": "N2"}]} for n in (1, 2)]
        layout = tessaron.draft("\n".join(map(json.dumps, calls)), name="calls")
        lone = json.dumps(calls[1])
        self.assertEqual(tessaron.shred(lone, layout=layout)["calls"].column("id").to_pylist(), [2])
        self.assertEqual(tessaron.update(layout, lone)[1].new, ())
        self.assertEqual(tessaron.compare(layout, lone).changes, ())
        self.assertEqual(tessaron.shred(json.dumps(calls), layout=layout)["calls_stays"].num_rows, 4)

    def test_what_cannot_be_multiplied_is_said_before_anything_is_written(self):
        source = b'{"c":[{"a":[1,2]}],"e":[{"d":[3,4]}]}'
        cases = (
            ("$.c[*].a[*]", r"it stands in rows of \$\.c\[\*\]"),
            ("$.e[*]", "does not stand beside"),
            ("$.z[*]", r"no rows stand at .*; there are rows at"),
        )
        for times, message in cases:
            with self.subTest(times=times), self.assertRaisesRegex(tessaron.UsageError, message):
                tessaron.shred(source, flat="$.e[*].d[*]", times=[times])

    def test_records_of_an_envelope_alone(self):
        source = b'{"page": 1, "stays": [{"berth": "N1"}, {"berth": "N2"}]}'
        layout = tessaron.draft(source).flatten("stays")
        rows = tessaron.shred(source, layout=layout)["stays"].to_pylist()
        self.assertEqual([(row["document_key"], row["berth"]) for row in rows], [(1, "N1"), (1, "N2")])

    def test_commands_take_layouts_and_tell_what_was_done(self):
        layout = self.write(
            "l.toml",
            EDITED.replace("[tables.tags]", '[tables.tags]\nmultiply = ["holds"]\n')
            + '[tables.holds]\nrows = "$.holds[*]"\n',
        )
        done = quick_command("export", self.source, "--layout", layout, "-o", self.folder / "out")
        self.assertIn("rows come out of tags × holds".encode(), done.stderr)
        self.assertIn(b"not met: calls.gone: $.gone stands nowhere", done.stderr)
        self.assertIn(b"left out: ", done.stderr)
        self.assertEqual(done.returncode, 0)
        strict = quick_command(
            "export", self.source, "--layout", layout, "-o", self.folder / "two", "--strict"
        )
        self.assertEqual(strict.returncode, 1)
        survey = quick_command("survey", self.source, "--layout", layout, COLUMNS="160")
        self.assertRegex(survey.stdout.decode(), r"id +100% █████ +integer +3 +calls\.id")
        preview = quick_command(
            "preview", self.source, "--layout", layout, "--table", "calls", "--as", "json"
        )
        self.assertEqual([json.loads(line)["id"] for line in preview.stdout.splitlines()], [1, 2, 3])
        self.assertIn(b"not met in the source: calls.gone: $.gone", preview.stderr)

    def test_csv_and_parquet_hold_json_as_text(self):
        layout = tessaron.Layout(EDITED)
        tessaron.export(self.source, self.folder / "p", layout=layout)
        tessaron.export(self.source, self.folder / "c", layout=layout, format="csv")
        column = pq.read_table(self.folder / "p" / "calls.parquet")["vessel"]
        self.assertEqual((column.type, column[0].as_py()), (pa.large_string(), '{"name":"Auk","id":7}'))
        self.assertIn('"{""name"":""Auk"",""id"":7}"', (self.folder / "c" / "calls.csv").read_text("utf-8"))


if __name__ == "__main__":
    unittest.main()
