"""Hard structures: what is one table in the mind of the reader is one table in the result."""

import json
import unittest
from collections import Counter

from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.shape.dictionaries import MANY_KEYS
from tessaron.core.shape.shape_node import MOST_NAMES
from tessaron.sources.demo.inspections import inspections_document
from tests.harness import tally, values_of, walk


def rows(tables, name, *columns):
    table = tables[name]
    return list(zip(*(table.column(column).to_pylist() for column in columns), strict=True))


class ObjectOrArrayTest(unittest.TestCase):
    def test_one_object_is_the_only_element(self):
        records = [{"p": {"n": 1}}, {"p": None}, {"p": [{"n": 2}, {"n": 3}]}, {"p": []}, {}]
        tables = tessaron.shred(records, name="r")
        self.assertEqual(list(tables), ["r", "r_p"])
        self.assertEqual(rows(tables, "r_p", "parent_key", "ordinal", "n"), [(1, 0, 1), (3, 1, 2), (3, 2, 3)])
        self.assertIn(("$.p", "1 single objects stand where arrays do; they are rows too"), tables.notes)

    def test_also_when_the_array_comes_in_the_last_chunk(self):
        lines = "\n".join(f'{{"p":{{"n":{n},"deep":{{"x":[{n}]}}}}}}' for n in range(200))
        data = (lines + '\n{"p":[{"n":-1},{"n":-2,"deep":{"x":[7,8]}}]}').encode()
        for chunk_bytes in (50, 10**6):
            tables = tessaron.shred(data, name="r", chunk_bytes=chunk_bytes)
            self.assertEqual(tables["r_p"].num_rows, 202)
            self.assertEqual(
                rows(tables, "r_p", "parent_key", "ordinal", "n")[-2:], [(201, 1, -1), (201, 2, -2)]
            )
            self.assertEqual(
                rows(tables, "r_p_deep_x", "parent_key", "value")[-3:], [(200, 199), (202, 7), (202, 8)]
            )


QUAYS = ("north", "south", "east", "west", "old", "new", "coal", "fish")


class DictionaryTest(unittest.TestCase):
    def test_names_that_are_data(self):
        cases = {
            "days": [{"d": {"2026-01-01": 1, "2026-01-02": 2}}, {"d": {"2026-01-03": 3}}],
            "numbers": [{"d": {"1": "a", "20": "b", "300": "c"}}],
            "uuids": [{"d": {f"0f3c8a52-8d1e-4f6a-9b7c-2d5e6f70819{n}": n for n in range(3)}}],
            "codes, each in few records": [{"d": {"en": 1, "no": 2}}] + [{"d": {code: 3}} for code in ["de", "fr", "it", "es", "nl", "pl"]],
            "many rare names": [{"d": {f"buoy{n}": {"lit": True}}} for n in range(MANY_KEYS)],
            "objects in one document": [{"d": {f"berth {n}": {"depth": n} for n in range(MANY_KEYS)}}],
            "objects of one structure, always there": [{"d": {quay: {"depth": 5, "lit": True} for quay in QUAYS}}] * 9,
        }  # fmt: skip
        for title, records in cases.items():
            with self.subTest(title):
                tables = tessaron.shred(records, name="r")
                self.assertEqual(list(tables), ["r", "r_d"])
                keys = [str(key) for key in tables["r_d"].column("key").to_pylist()]
                self.assertEqual(keys, [key for record in records for key in record["d"]])
                ordinals = [n for record in records for n in range(1, len(record["d"]) + 1)]
                self.assertEqual(tables["r_d"].column("ordinal").to_pylist(), ordinals)

    def test_what_is_no_dictionary(self):
        cases = {
            "a wide record": [{f"field_{n}": n for n in range(300)}] * 5,
            "one wide record": [{f"field_{n}": n for n in range(300)}],
            "two thousand fields": [{f"f{n}": n for n in range(2_000)}] * 2,
            "values of all kinds": [{"d": {"1": 1, "2": "x", "3": True, "4": {"a": 1}}}],
            "few names": [{"d": {"en": "a", "no": "b"}}] * 9,
            "few objects of one structure": [{"d": {quay: {"depth": 5, "lit": 1} for quay in QUAYS[1:]}}] * 9,
            "objects of several structures": [
                {"d": {quay: {"lit": n, f"a{n}": 1, f"b{n}": 2} for n, quay in enumerate(QUAYS)}}
            ],
            "a few objects among texts": [{"d": {quay: {"a": 1, "b": 2} for quay in QUAYS} | {"note": "x"}}],
        }
        for title, records in cases.items():
            with self.subTest(title):
                self.assertEqual(len(tessaron.shred(records, name="r", most_columns=5_000)), 1)

    def test_entries_that_are_arrays_or_dictionaries(self):
        for title, value, wanted in (
            ("arrays of like objects", [{"a": 1, "b": 2}] * 2, ["r", "r_d", "r_d_items"]),
            (
                "dictionaries of codes",
                {"2026-01": 5, "2026-02": 6, "2026-03": 7},
                ["r", "r_d", "r_d_entries"],
            ),
        ):
            with self.subTest(title):
                tables = tessaron.shred([{"d": dict.fromkeys(QUAYS, value)}], name="r")
                self.assertEqual(list(tables), wanted)
                self.assertEqual(tables["r_d"].column("key").to_pylist(), list(QUAYS))
                self.assertEqual(tables[wanted[-1]].num_rows, len(value) * len(QUAYS))

    def test_forced_on_and_off(self):
        on = [{"d": {"north": 1, "south": 2}}]
        tables = tessaron.shred(on, name="r", dictionaries=["$.d"])
        self.assertEqual(rows(tables, "r_d", "key", "value"), [("north", 1), ("south", 2)])
        off = [{"d": {"2026-01-01": 1, "2026-01-02": 2, "2026-01-03": 2}}]
        tables = tessaron.shred(off, name="r", not_dictionaries=["$.d"])
        self.assertEqual(tables["r"].column_names[1:], ["d_2026_01_01", "d_2026_01_02", "d_2026_01_03"])
        notes = tessaron.shred(on, name="r", dictionaries=["$.e"], not_dictionaries=["$.d"]).notes
        self.assertEqual(notes, (("$.e", "no object stands here: nothing was changed by this path"),))
        with self.assertRaisesRegex(
            tessaron.UsageError, r"path 'd', character 1: expected a path that begins"
        ):
            tessaron.shred(on, dictionaries=["d"])

    def test_names_beyond_all_bounds_are_told(self):
        apart = [{"d": {f"n{part}_{n}": n for n in range(1_000)}} for part in range(6)]
        plain = "dictionary: more than 5,000 names are keys of rows"
        for records in (apart, [{"d": {f"n{n}": n for n in range(5_001)}}]):
            data = "\n".join(map(json.dumps, records)).encode()
            for size in (1, 10**6):
                with self.subTest(records=len(records), chunk_bytes=size):
                    found = {
                        tessaron.shred(data, chunk_bytes=size, records="$", name="r", **options).notes
                        for options in ({}, {"kernel": "python"})
                    }
                    self.assertEqual(found, {(("$.d", plain),)})
            refused = tessaron.shred(data, records="$", not_dictionaries=["$.d"])
            self.assertEqual(
                refused.notes, (("$.d", f"{plain}; so many are never columns, whatever is asked"),)
            )

    def test_few_names_in_a_structure_that_contains_itself_are_not_many(self):
        days = [{f"2026-{month:02d}-{day:02d}": day for day in range(1, 29)} for month in (1, 2, 3)]
        record = {"n": {"d": days[0], "n": {"d": days[1], "n": {"d": days[2]}}}}
        data = "\n".join([json.dumps(record)] * 3).encode()
        for size in (1, 10**6):
            with self.subTest(chunk_bytes=size):
                notes = dict(tessaron.shred(data, records="$", chunk_bytes=size, name="r").notes)
                self.assertRegex(notes["$.n[*].d"], "^dictionary: [0-9]+ names are keys of rows$")

    def test_more_keys_than_columns_in_any_chunks(self):
        wanted = {f"k{n}": {"v": n, "tags": [n]} for n in range(7_000)}
        names = list(wanted)
        parts = [{"d": {name: wanted[name] for name in names[start::7]}} for start in range(7)]
        data = "\n".join(map(json.dumps, parts)).encode()
        small, large = (tessaron.shred(data, name="r", chunk_bytes=n) for n in (40_000, 10**9))
        self.assertGreater(len(wanted), MOST_NAMES)
        self.assertEqual(list(large), ["r", "r_d", "r_d_tags"])
        self.assertEqual(
            dict(rows(large, "r_d", "key", "v")), {name: item["v"] for name, item in wanted.items()}
        )
        self.assertEqual(large["r_d_tags"].column("value").to_pylist(), large["r_d"].column("v").to_pylist())
        for name, table in large.items():
            self.assertTrue(table.equals(small[name]), name)


class SelfContainingTest(unittest.TestCase):
    HOLDS = (
        {"c": [{"n": 1, "c": [{"n": 2, "c": [{"n": 3}]}, {"n": 4}]}, {"n": 5}]},
        {"c": []},
        {"c": [{"n": 6, "c": None}, {"n": 7, "c": [{"n": 8}]}]},
    )

    def test_one_table_that_references_itself(self):
        tables = tessaron.shred(self.HOLDS, name="h")
        self.assertEqual(list(tables), ["h", "h_c"])
        self.assertEqual(
            rows(tables, "h_c", "row_key", "parent_key", "within_key", "ordinal", "depth", "n"),
            [
                (1, 1, None, 1, 1, 1),
                (2, 1, 1, 1, 2, 2),
                (3, 1, 2, 1, 3, 3),
                (4, 1, 1, 2, 2, 4),
                (5, 1, None, 2, 1, 5),
                (6, 3, None, 1, 1, 6),
                (7, 3, None, 2, 1, 7),
                (8, 3, 7, 1, 2, 8),
            ],
        )

    def test_keys_go_on_over_chunks(self):
        data = "\n".join(map(json.dumps, self.HOLDS)).encode()
        whole, parts = (tessaron.shred(data, name="h", records="$", chunk_bytes=n) for n in (10**6, 10))
        self.assertTrue(whole["h_c"].equals(parts["h_c"]))

    def test_single_objects_and_two_alternating_names(self):
        tables = tessaron.shred({"part": {"id": 1, "part": {"id": 2, "part": {"id": 3}}}}, name="p")
        self.assertEqual(
            rows(tables, "p_part", "within_key", "depth", "id"), [(None, 1, 1), (1, 2, 2), (2, 3, 3)]
        )
        record = {
            "a": [{"n": 1, "b": [{"m": 1, "a": [{"n": 2}]}, {"m": 2, "a": [{"n": 3, "b": [{"m": 3}]}]}]}]
        }
        tables = tessaron.shred(record, name="r")
        self.assertEqual(list(tables), ["r", "r_a", "r_a_b"])
        self.assertEqual(
            rows(tables, "r_a", "within_key", "through_key", "n"), [(None, None, 1), (1, 1, 2), (1, 2, 3)]
        )
        self.assertEqual(rows(tables, "r_a_b", "parent_key", "m"), [(1, 1), (1, 2), (3, 3)])

    def test_the_way_is_told_where_there_are_several(self):
        record = {"b": {"n": 1, "a": {"b": {"n": 2}}, "b": {"n": 3, "b": {"n": 4}}}}
        tables = tessaron.shred([record], name="r")
        self.assertEqual(
            rows(tables, "r_b", "within_key", "within_path", "depth", "n"),
            [(None, None, 1, 1), (1, "$.a.b", 2, 2), (1, "$.b", 2, 3), (3, "$.b", 3, 4)],
        )
        keys = tessaron.shred(json.dumps(record).encode(), keys="digest", records="$")["records_b"].column(
            "row_key"
        )
        self.assertEqual(len(set(keys.to_pylist())), 4)

    def test_a_thousand_levels(self):
        text = '{"n":1,"c":[' * 1_000 + '{"n":1}' + "]}" * 1_000
        tables = tessaron.shred(b'{"c":' + text.encode() + b"}", name="d")
        self.assertEqual(tables["d_c"].column("depth").to_pylist(), list(range(1, 1_002)))


class OddsAndEndsTest(unittest.TestCase):
    def test_lone_surrogates_nul_and_long_texts(self):
        long = "x" * 5_000_000
        data = ('{"v":"\\u0000a"}\n{"v":"\\ud83d"}\n{"v":"\\ud83d\\ude00"}\n{"v":"' + long + '"}').encode()
        values = tessaron.shred(data)["records"].column("v").to_pylist()
        self.assertEqual(values, ["\0a", "\\ud83d", "😀", long])

    def test_repeated_names(self):
        data = b'{"id":1,"a":1,"a":{"b":2}}\n{"id":2,"a":3}'
        tables = tessaron.shred(data, name="r")
        self.assertEqual(rows(tables, "r", "id", "a", "a_b"), [(1, None, 2), (2, 3, None)])
        self.assertIn(
            ("$.a", "stands twice in its object (<bytes>, line 1); the earlier 1 gave way"), tables.notes
        )
        tables = tessaron.shred(data, name="r", duplicate_keys="reject")
        self.assertEqual(tables["r"].column("id").to_pylist(), [2])
        self.assertEqual([(r.code, r.line, r.path) for r in tables.rejects], [("repeated_name", 1, "$.a")])

    def test_the_inspections_of_the_demo(self):
        text = inspections_document(30)
        tables = tessaron.shred(text.encode())
        names = ["inspections_documents", "inspections", "inspections_pilot", "inspections_soundings_m",
                 "inspections_soundings_m_items", "inspections_tide_by_day", "inspections_holds",
                 "inspections_holds_compartments", "inspections_remarks"]  # fmt: skip
        self.assertEqual(sorted(tables), sorted(names))
        records = json.loads(text)["inspections"]
        inside = values_of(tally(tables)) - Counter({"Brackwater": 1})
        expected = values_of(sum(map(walk, records), Counter()))
        self.assertEqual(expected - inside, Counter())
        self.assertEqual(
            tables["inspections_tide_by_day"].num_rows, sum(len(r["tide_by_day"]) for r in records)
        )

    @settings(max_examples=24, deadline=None)
    @given(st.randoms(use_true_random=False), st.integers(1, 40))
    def test_records_shuffled_give_the_same_layout(self, random, chunk_bytes):
        records = json.loads(inspections_document(12))["inspections"]
        layout = tessaron.shred(records, name="i").layout
        random.shuffle(records)
        lines = "\n".join(map(json.dumps, records)).encode()
        self.assertEqual(tessaron.shred(lines, name="i", chunk_bytes=chunk_bytes * 200).layout, layout)
