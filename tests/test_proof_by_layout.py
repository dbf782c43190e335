"""verify on exports whose layouts leave out, keep as JSON, flatten, fold or reject: right ones pass, damaged ones do not."""

import json
import unittest

import pyarrow as pa
import pyarrow.parquet as pq

import tessaron
from tests.harness import FolderTest

CALLS = [
    {"id": 1, "stays": [{"b": "N1", "m": [{"t": 1}, {"t": 2}]}, {"b": "N2", "m": []}], "j": {"x": [1]},
     "tags": ["a", "b", "c"], "n": 5},
    {"id": 2, "stays": [], "j": None, "n": "x"},
    {"id": 3, "n": 7, "tags": ["z"]},
]  # fmt: skip
TOP = '[tables.c]\nrows = "$"\n[tables.c.columns]\nid = { path = "$.id", type = "integer" }\n'
STAYS = '[tables.s]\nrows = "$.stays[*]"\n{}[tables.s.columns]\nb = {{ path = "@.b", type = "text" }}\n'
MOVES = (
    '[tables.m]\nrows = "$.stays[*].m[*]"\n{}[tables.m.columns]\nt = {{ path = "@.t", type = "integer" }}\n'
)
RIGHT = {
    "left out": (TOP, {}),
    "a table between is not written": (TOP + STAYS.format("write = false\n") + MOVES.format(""), {}),
    "the top table is not written": (TOP.replace('"$"', '"$"\nwrite = false', 1) + STAYS.format(""), {}),
    "nothing stands above": (STAYS.format("") + '[tables.g]\nrows = "$.tags[*]"\n[tables.g.columns]\nv = { path = "@", type = "text" }\n', {}),
    "a part as JSON": (TOP + 'j = { path = "$.j", type = "json" }\n', {}),
    "the record as JSON": (TOP + 'j = { path = "$", type = "json" }\n', {}),
    "flags": (TOP + 'tag = { path = "$.tags[*]", flags = ["a", "z"] }\n', {}),
    "numbered columns": (TOP + 'tag = { path = "$.tags[*]", type = "text", numbered = 2 }\n', {}),
    "values that do not fit": (TOP + 'n = { path = "$.n", type = "integer" }\n', {}),
    "values that do not fit, noted": (TOP + 'n = { path = "$.n", type = "integer", misfit = "note" }\n', {}),
    "values that do not fit, exact": ("exact = true\n" + TOP + 'n = { path = "$.n", type = "uuid" }\n', {}),
    "records that do not fit": (TOP + 'n = { path = "$.n", type = "integer", misfit = "record" }\n', {}),
    "rows above without rows": (TOP + STAYS.format("with_empty = true\n"), {}),
    "rows above without rows, below others": (TOP + STAYS.format("") + MOVES.format("with_empty = true\n"), {}),
    "folded": (TOP + 'k = { path = "$.stays[*]", fold = "count" }\n', {}),
    "filtered": (TOP.replace('"$"', '"$"\nkeep = "id > 1"', 1) + STAYS.format(""), {}),
    "flat": (None, {"flat": "$.stays[*].m[*]"}),
    "flat with empty": (None, {"flat": "$.stays[*].m[*]", "with_empty": True}),
    "only": (None, {"only": ["id", "$.stays"]}),
}  # fmt: skip


class LayoutProofTest(FolderTest):
    def exported(self, text, options, records=CALLS, **more):
        source = self.write("calls.ndjson", "\n".join(map(json.dumps, records)))
        layout = None if text is None else tessaron.Layout(text)
        tessaron.export(
            source, self.folder / "out", layout=layout, replace=True, workers=1, **options, **more
        )
        return tessaron.verify(self.folder / "out", workers=1)

    def test_right_exports_are_identical(self):
        for name, (text, options) in RIGHT.items():
            for form in ("parquet", "csv"):
                with self.subTest(name, format=form):
                    found = self.exported(text, options, format=form)
                    self.assertTrue(found.passed, found.to_json())

    def test_a_changed_value_is_noticed(self):
        for name, (text, options) in RIGHT.items():
            with self.subTest(name):
                self.exported(text, options)
                (file, *_) = sorted((self.folder / "out").glob("*.parquet"))
                table = pq.read_table(file)
                index, column = next(
                    (index, column) for index, column in reversed(list(enumerate(table.columns)))
                    if column.null_count < len(column)
                )  # fmt: skip
                values = column.to_pylist()
                row = next(row for row, value in enumerate(values) if value is not None)
                values[row] = not values[row] if isinstance(values[row], bool) else values[row] * 2
                changed = table.set_column(index, table.schema.field(index), pa.array(values, column.type))
                pq.write_table(changed, file)
                found = tessaron.verify(self.folder / "out", workers=1)
                self.assertFalse(found.is_identical and all(
                    check.passed for check in found.checks if check.name != "files as written"
                ))  # fmt: skip

    def test_what_is_left_out_is_no_difference_of_a_record_that_differs(self):
        self.exported(TOP + STAYS.format(""), {})
        other = self.write(
            "other.ndjson", "\n".join(map(json.dumps, [{**CALLS[0], "id": 9, "extra": 1}, *CALLS[1:]]))
        )
        found = tessaron.verify(self.folder / "out", other)
        self.assertEqual([(each.kind, each.path) for each in found.differences], [("value", "$.id")])

    def test_moments_beyond_year_9999_in_csv(self):
        records = [{"a": "9999-12-31T23:59:59-01:00"}, {"a": "2026-01-01T00:00:00-01:00"}, {"a": None}]
        found = self.exported(None, {}, records, format="csv")
        self.assertTrue(found.passed, found.to_json())

    def test_documents_of_tables_that_keep_rows_above(self):
        self.exported(TOP + STAYS.format("") + MOVES.format("with_empty = true\n"), {})
        tessaron.rebuild(self.folder / "out", self.folder / "back.ndjson")
        back = [json.loads(line) for line in (self.folder / "back.ndjson").read_text().splitlines()]
        self.assertEqual(
            back,
            [{"id": 1, "stays": [{"b": "N1", "m": [{"t": 1}, {"t": 2}]}, {"b": "N2"}]}, {"id": 2}, {"id": 3}],
        )

    def test_no_documents_can_be_made_where_nothing_stands_above(self):
        self.exported(*RIGHT["nothing stands above"])
        with self.assertRaisesRegex(
            tessaron.UsageError, "nothing stands above s, g: give the layout a table"
        ):
            tessaron.rebuild(self.folder / "out", self.folder / "b")


class MaskedRejectsTest(FolderTest):
    LAYOUT = (
        '[tables.c]\nrows = "$"\n[tables.c.columns]\nid = { path = "$.id", type = "integer" }\n'
        'email = { path = "$.email", type = "text", mask = "constant" }\n'
        'n = { path = "$.n", type = "integer", misfit = "record" }\n'
    )
    RECORDS = (
        '{"id":1,"email":"crew@sea.test","n":"bad"}\n{"id":2,"email":"crew@sea.test" "crew@sea.test"}\n'
        '{"id":3,"email":"crew@sea.test","email":"mate@sea.test","n":1}\n{"id":4,"n":1}\n{"id":5,"email":crew@sea.test}\n'
    )

    def test_nothing_masked_stands_in_rejects_unless_asked_for(self):
        source = self.write("c.ndjson", self.RECORDS)
        for keeps in (False, True):
            target = self.folder / f"o{keeps}"
            layout = tessaron.Layout(self.LAYOUT)
            receipt = tessaron.export(source, target, layout=layout, keep_raw_rejects=keeps)
            texts = [(target / name).read_text() for name in ("rejects.ndjson", "receipt.json")]
            with self.subTest(keeps):
                self.assertEqual(any("sea.test" in text or "crew" in text for text in texts), keeps)
                said = [note.text for note in receipt.notes if note.path == "rejects"]
                self.assertEqual(len(said), not keeps)
                rejects = [json.loads(line) for line in texts[0].splitlines()]
                self.assertEqual([each["line"] for each in rejects], [2, 5, 1])
        self.assertIn(
            "3 records are not kept", tessaron.export(source, self.folder / "p", layout=layout).notes[-1].text
        )

    def test_a_record_ends_where_the_next_begins_good_or_bad(self):
        source = self.write("c.ndjson", self.RECORDS)
        tessaron.export(source, self.folder / "o", layout=tessaron.Layout(self.LAYOUT), keep_raw_rejects=True)
        raws = [
            json.loads(line)["raw"] for line in (self.folder / "o/rejects.ndjson").read_text().splitlines()
        ]
        lines = self.RECORDS.splitlines()
        self.assertEqual(raws, [lines[1], lines[4], lines[0]])


if __name__ == "__main__":
    unittest.main()
