"""What comes out of documents: tables, rows, keys, names. Through the public interface."""

import io
import json
import unittest
from collections import Counter
from datetime import date
from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.paths import Origin
from tests.harness import FolderTest, tally, values_of, walk

# Number-like floats are left to test_types; here every scalar has one spelling.
SCALARS = st.none() | st.booleans() | st.integers(-(10**25), 10**25) | st.text('aé"\\\n,0 ', max_size=4)
NAMES = st.sampled_from(["a", "b", "C", "row_key", "parent key", "ä.b", ""])


def documents(depth=4):
    return st.recursive(
        SCALARS,
        lambda inner: st.lists(inner, max_size=4) | st.dictionaries(NAMES, inner, max_size=4),
        max_leaves=20,
    )


RECORDS = st.lists(st.dictionaries(NAMES, documents(), max_size=5), min_size=1, max_size=8)


class StructureTest(unittest.TestCase):
    def test_cases(self):
        cases = {
            "nested objects become columns": (
                [{"a": {"b": {"c": 1}}}],
                {"records": [{"row_key": 1, "a_b_c": 1}]},
            ),
            "siblings are not multiplied": (
                [{"x": [1, 2], "y": ["p", "q", "r"]}],
                {
                    "records": [{"row_key": 1}],
                    "records_x": [
                        {"row_key": 1, "parent_key": 1, "ordinal": 1, "value": 1},
                        {"row_key": 2, "parent_key": 1, "ordinal": 2, "value": 2},
                    ],
                    "records_y": [
                        {"row_key": 1, "parent_key": 1, "ordinal": 1, "value": "p"},
                        {"row_key": 2, "parent_key": 1, "ordinal": 2, "value": "q"},
                        {"row_key": 3, "parent_key": 1, "ordinal": 3, "value": "r"},
                    ],
                },
            ),
            "keys go on over records, empty arrays give no rows": (
                [{"x": [{"y": [1]}, {"y": []}]}, {"x": []}, {"x": [{"y": [2, 3]}]}],
                {
                    "records": [{"row_key": 1}, {"row_key": 2}, {"row_key": 3}],
                    "records_x": [
                        {"row_key": 1, "parent_key": 1, "ordinal": 1},
                        {"row_key": 2, "parent_key": 1, "ordinal": 2},
                        {"row_key": 3, "parent_key": 3, "ordinal": 1},
                    ],
                    "records_x_y": [
                        {"row_key": 1, "parent_key": 1, "ordinal": 1, "value": 1},
                        {"row_key": 2, "parent_key": 3, "ordinal": 1, "value": 2},
                        {"row_key": 3, "parent_key": 3, "ordinal": 2, "value": 3},
                    ],
                },
            ),
            "a field that comes last, and one that is always null": (
                [{"n": None}, {"n": None, "late": "x"}],
                {
                    "records": [
                        {"row_key": 1, "n": None, "late": None},
                        {"row_key": 2, "n": None, "late": "x"},
                    ]
                },
            ),
            "scalar and object in one place are both kept": (
                [{"a": 5}, {"a": {"b": "x"}}],
                {"records": [{"row_key": 1, "a": 5, "a_b": None}, {"row_key": 2, "a": None, "a_b": "x"}]},
            ),
            "arrays of arrays": (
                [{"m": [[1, 2], [3]]}],
                {
                    "records": [{"row_key": 1}],
                    "records_m": [
                        {"row_key": 1, "parent_key": 1, "ordinal": 1},
                        {"row_key": 2, "parent_key": 1, "ordinal": 2},
                    ],
                    "records_m_items": [
                        {"row_key": 1, "parent_key": 1, "ordinal": 1, "value": 1},
                        {"row_key": 2, "parent_key": 1, "ordinal": 2, "value": 2},
                        {"row_key": 3, "parent_key": 2, "ordinal": 1, "value": 3},
                    ],
                },
            ),
            "the data keeps its name, the key gives way": (
                [{"row_key": "mine", "Ordinal": 3}],
                {"records": [{"records_row_key": 1, "row_key": "mine", "ordinal": 3}]},
            ),
        }
        for title, (records, expected) in cases.items():
            with self.subTest(title):
                tables = tessaron.shred(records)
                self.assertEqual({name: table.to_pylist() for name, table in tables.items()}, expected)

    def test_keys_are_known(self):
        tables = tessaron.shred([{"ordinal": 1, "x": [{"ordinal": 2}]}], name="Berth calls")
        self.assertEqual(list(tables), ["berth_calls", "berth_calls_x"])
        self.assertEqual(tables.primary_key("berth_calls_x"), ("row_key",))
        self.assertEqual(tables.foreign_key("berth_calls_x"), ("parent_key",))
        self.assertEqual(
            (tables.parent("berth_calls_x"), tables.parent("berth_calls")), ("berth_calls", None)
        )
        columns = ["row_key", "parent_key", "berth_calls_x_ordinal", "ordinal"]
        self.assertEqual(tables["berth_calls_x"].column_names, columns)
        with self.assertRaisesRegex(
            tessaron.UsageError, "no table 'x'; there are berth_calls, berth_calls_x"
        ):
            tables.parent("x")

    def test_order_of_columns_does_not_depend_on_the_order_of_records(self):
        records = [{"a": 1, "b": 2, "c": 3}, {"c": 1, "z": 1}, {"a": 1, "x": 5, "b": 2, "c": 0}]
        one, other = tessaron.shred(records), tessaron.shred(records[::-1])
        self.assertEqual(one.layout, other.layout)
        self.assertEqual(one["records"].column_names, ["row_key", "a", "x", "z", "b", "c"])

    def test_deep_nesting(self):
        depth = 700
        for opening, closing, tables in (('{"a":', "}", 1), ("[", "]", depth)):
            with self.subTest(opening=opening):
                made = tessaron.shred((opening * depth + "7" + closing * depth).encode(), name="d")
                self.assertEqual(len(made), tables)
                last = made[list(made)[-1]]
                self.assertEqual(last.column(last.num_columns - 1).to_pylist(), [7])
        made = tessaron.shred(b"[1," + b"[" * 20_000 + b"]" * 20_000 + b",2]")
        self.assertEqual(made["records"].column("value").to_pylist(), [1, 2])
        self.assertEqual([(reject.code, reject.record) for reject in made.rejects], [("depth", 2)])
        self.assertRegex(made.rejects[0].message, "nested deeper than 10,000 levels")


class CountsTest(unittest.TestCase):
    """Every value is in its table, as often as an independent walk finds it."""

    @settings(max_examples=60, deadline=None)
    @given(RECORDS, st.integers(1, 60))
    def test_nothing_is_lost_and_chunks_do_not_matter(self, records, chunk_bytes):
        expected = sum(map(walk, records), Counter())
        lines = b"\n".join(json.dumps(record).encode() for record in records)
        array = json.dumps(records, indent=1, ensure_ascii=False).encode()
        from_lines = tessaron.shred(lines, chunk_bytes=chunk_bytes, records="$")
        from_array = tessaron.shred(array, chunk_bytes=chunk_bytes)
        from_objects = tessaron.shred(iter(records))
        self.assertEqual(values_of(tally(from_lines)), values_of(expected))
        if not from_lines.notes:
            self.assertEqual(+tally(from_lines), +expected)
        for other in (from_array, from_objects):
            self.assertEqual(other.layout, from_lines.layout)
            for name, table in other.items():
                self.assertTrue(table.equals(from_lines[name]), name)

    @settings(max_examples=30, deadline=None)
    @given(RECORDS)
    def test_keys_are_dense_and_every_child_finds_its_parent(self, records):
        tables = tessaron.shred(records)
        for table in tables.layout.tables:
            data = tables[table.name]
            self.assertEqual(data.column(table.row_key).to_pylist(), list(range(1, data.num_rows + 1)))
            if table.parent:
                parents = data.column(table.parent_key).to_pylist()
                ordinals = data.column(table.ordinal).to_pylist()
                self.assertEqual(parents, sorted(parents))
                for column, other in table.references():
                    keys = set(data.column(column).to_pylist()) - {None}
                    self.assertLessEqual(keys, set(range(1, tables[other].num_rows + 1)))
                places = [
                    data.column(column).to_pylist()
                    for column in (table.parent_key, table.within_key, table.through_key)
                    if column
                ]
                places += [
                    data.column(column.name).to_pylist()
                    for column in table.columns
                    if column.path[-1:] == (Origin.WAY,)
                ]
                seen: Counter = Counter()
                for place, ordinal in zip(zip(*places, strict=True), ordinals, strict=True):
                    seen[place] += 1
                    # What stands without an array has ordinal 0, and nothing stands beside it.
                    self.assertIn(ordinal, (seen[place], 0) if seen[place] == 1 else (seen[place],))


class SourcesTest(FolderTest):
    RECORDS = ({"id": 1, "tags": ["x"]}, {"id": 2, "tags": []})

    def test_every_way_to_give_the_same_records(self):
        text = json.dumps(self.RECORDS).encode()
        lines = b"".join(json.dumps(record).encode() + b"\r\n" for record in self.RECORDS)
        pretty = b"\n".join(json.dumps(record, indent=2).encode() for record in self.RECORDS)
        path = self.write("feed.data", text)
        ways = {
            "path": path,
            "path as text": str(path),
            "array": text,
            "lines": lines,
            "byte order mark": b"\xef\xbb\xbf" + lines,
            "blank lines": b"\n\n" + lines.replace(b"\r\n", b"\n \n"),
            "pretty documents one after another": pretty,
            "open file": io.BytesIO(lines),
            "list": list(self.RECORDS),
            "iterator": iter(self.RECORDS),
            "several paths": [
                self.write("a.json", json.dumps(self.RECORDS[0])),
                self.write("b", json.dumps(self.RECORDS[1])),
            ],
            "tuple of mappings": tuple(self.RECORDS),
        }
        for title, source in ways.items():
            with self.subTest(title):
                tables = tessaron.shred(source, name="feed")
                self.assertEqual(tables["feed"].column("id").to_pylist(), [1, 2])
                self.assertEqual(tables["feed_tags"].num_rows, 1)
                self.assertEqual(tables.record_count, 2)

    def test_one_object_is_one_record(self):
        self.assertEqual(tessaron.shred({"id": 1})["records"].to_pylist(), [{"row_key": 1, "id": 1}])
        self.assertEqual(tessaron.shred(b'{\n "id": 1\n}')["records"].num_rows, 1)

    def test_no_record_is_a_table_without_rows(self):
        self.assertEqual(tessaron.shred(b" [ ] ")["records"].num_rows, 0)
        self.assertEqual(tessaron.shred([])["records"].num_rows, 0)

    def test_a_folder_is_read_in_natural_order(self):
        for number in (10, 2, 1):
            self.write(f"in/part-{number}.json", json.dumps({"n": number}))
        self.write("in/sub/deep.NDJSON", '{"n": 99}')
        self.write("in/readme.txt", "not data")
        self.write("in/.hidden.json", "not data")
        tables = tessaron.shred(self.folder / "in", name="parts")
        self.assertEqual(tables["parts"].column("n").to_pylist(), [1, 2, 10, 99])

    def test_python_values(self):
        tables = tessaron.shred([{"d": date(2026, 3, 4), "m": Decimal("1.50"), "f": 0.1, "t": (1, 2)}])
        row = tables["records"].to_pylist()[0]
        self.assertEqual(
            row, {"row_key": 1, "d": date(2026, 3, 4), "m": Decimal("1.50"), "f": Decimal("0.1")}
        )
        self.assertEqual(tables["records_t"].column("value").to_pylist(), [1, 2])

    def test_wrong_use_says_where(self):
        cases = (
            ([{"a": [{"b": {1, 2}}]}], r"got \{1, 2\} \(set\) at \$\.a\[\*\]\.b"),
            ([{"a": float("nan")}], r"got nan \(float\) at \$\.a"),
            ([{"a": {7: 1}}], r"names to be text, got 7 \(int\) in \$\.a"),
            (7, "got int"),
            (io.StringIO("{}"), "opened in binary mode"),
        )
        for source, message in cases:
            with self.subTest(message), self.assertRaisesRegex(tessaron.UsageError, message):
                tessaron.shred(source)
