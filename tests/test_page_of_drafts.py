"""Every line of `docs/layout.md`: what becomes of what, and each rule on both sides of its threshold."""

import json
import unittest

import tessaron
from tests.harness import FolderTest

KEYS = {"row_key", "parent_key", "ordinal", "within_key", "depth"}
# records; the rows of each table without its keys, but for those that are named in the first of them
BECOMES = {
    "an object inside a record": ([{"vessel": {"homePort": "B", "deep": {"x": 1}}}], {"t": [{"vessel_home_port": "B", "vessel_deep_x": 1}]}),
    "an array at any depth": (
        [{"a": {"b": [{"c": [{"d": 1}]}]}}], {"t": [{}], "t_a_b": [{}], "t_a_b_c": [{"d": 1, "parent_key": 1, "ordinal": 1}]},
    ),
    "an array of scalars": ([{"s": ["x", "y"]}], {"t": [{}], "t_s": [{"value": "x", "ordinal": 1}, {"value": "y", "ordinal": 2}]}),
    "arrays beside each other": ([{"s": [1], "v": [2, 3]}], {"t": [{}], "t_s": [{"value": 1}], "t_v": [{"value": 2}, {"value": 3}]}),
    "an array directly in an array": (
        [{"m": [[1, 2], [3]]}],
        {"t": [{}], "t_m": [{"ordinal": 1}, {"ordinal": 2}], "t_m_items": [{"value": 1, "parent_key": 1}, {"value": 2, "parent_key": 1}, {"value": 3, "parent_key": 2}]},
    ),
    "one object here, an array there": (
        [{"p": {"n": 1}}, {"p": [{"n": 2}, {"n": 3}]}],
        {"t": [{}, {}], "t_p": [{"ordinal": 0, "n": 1}, {"ordinal": 1, "n": 2}, {"ordinal": 2, "n": 3}]},
    ),
    "a scalar here, an object there": ([{"b": 1}, {"b": {"x": 2}}], {"t": [{"b": 1, "b_x": None}, {"b": None, "b_x": 2}]}),
    "scalars and objects in an array": ([{"a": [1, {"x": 2}]}], {"t": [{}], "t_a": [{"value": 1, "x": None}, {"value": None, "x": 2}]}),
    "a scalar here, an array there": ([{"b": 1}, {"b": [2]}], {"t": [{"b": 1}, {"b": None}], "t_b": [{"value": 2}]}),
    "a dictionary": (
        [{"d": {"2026-01": {"v": 1}, "2026-02": {"v": 2}, "2026-03": {"v": 3}}}],
        {"t": [{}], "t_d": [{"key": "2026-01", "v": 1}, {"key": "2026-02", "v": 2}, {"key": "2026-03", "v": 3}]},
    ),
    "an empty array, and a field that is always null": ([{"e": [], "n": None}, {"e": [1]}], {"t": [{"n": None}, {"n": None}], "t_e": [{"value": 1, "parent_key": 2}]}),
    "a name twice": ([b'{"a":1,"a":2}'], {"t": [{"a": 2}]}),
    "half of a surrogate": ([b'{"a":"\\uD83dx"}'], {"t": [{"a": "\\ud83dx"}]}),
    "a hollow object among empty arrays": ([{"h": {}}, {"h": []}], {"t": [{}, {}], "t_h": [{"ordinal": 0, "parent_key": 1}]}),
    "records that are scalars": ([1, 2], {"t": [{"value": 1}, {"value": 2}]}),
    "records that are arrays": ([[1, 2], [3]], {"t": [{}, {}], "t_items": [{"value": 1, "parent_key": 1}, {"value": 2, "parent_key": 1}, {"value": 3, "parent_key": 2}]}),
}  # fmt: skip


def numbered(count, word="name"):
    return [f"{word}{chr(97 + number // 26)}{chr(97 + number % 26)}" for number in range(count)]


def in_turn(names, objects, value, of_each=1):
    """Return so many objects, each with some of the names in turn, and `value` of each."""
    return [
        {"d": {names[(n * of_each + k) % len(names)]: value((n * of_each + k) % len(names)) for k in range(of_each)}} for n in range(objects)
    ]  # fmt: skip


def field(number):
    return {"n": number, "kind": "x"}


# records, and whether what stands at $.d is a dictionary
DICTIONARIES = {
    "two dates are not enough": ([{"d": {"2026-01-01": 1, "2026-01-02": 2}}], False),
    "three dates are": ([{"d": {"2026-01-01": 1, "2026-01-02": 2, "2026-01-03": 3}}], True),
    "three numbers": ([{"d": {"1": 1, "22": 2, "-3.5": 3}}], True),
    "three UUIDs": ([{"d": {f"6f0b1f60-5b1e-4c0e-9d57-1d1f0e0c1a2{n}": n for n in range(3)}}], True),
    "dates, and a word among them": ([{"d": {"2026-01-01": 1, "2026-01-02": 2, "note": 3}}], False),
    "dates with values of several kinds": ([{"d": {"2026-01-01": 1, "2026-01-02": "x", "2026-01-03": True}}], False),
    "seven codes, each seldom": (in_turn(["AB", "CD", "EF", "GH", "IJ", "KL", "MN"], 21, lambda n: n), False),
    "eight codes, each seldom": (in_turn(["AB", "CD", "EF", "GH", "IJ", "KL", "MN", "OP"], 24, lambda n: n), True),
    "eight codes, each nearly always": (in_turn(["AB", "CD", "EF", "GH", "IJ", "KL", "MN", "OP"], 24, lambda n: n, 6), False),
    "29 words, each seldom": (in_turn(numbered(29), 145, lambda n: n), False),
    "30 words, each in a fifth": (in_turn(numbered(30), 150, lambda n: n, 6), True),
    "30 words, each in a quarter": (in_turn(numbered(30), 150, lambda n: n, 8), False),
    "30 words of objects, each in half": (in_turn(numbered(30), 60, field, 15), True),
    "30 words of objects, each in two thirds": (in_turn(numbered(30), 60, lambda n: {f"f{n}": 1, f"g{n}": 2}, 20), False),
    "30 words of scalars, of one object": ([{"d": dict.fromkeys(numbered(30), 1)}], False),
    "257 words of arrays, of one object": ([{"d": {name: [1] for name in numbered(257)}}], True),
    "256 words of scalars, of one object": ([{"d": dict.fromkeys(numbered(256), 1)}], False),
    "seven objects of one structure, always": ([{"d": {name: field(1) for name in numbered(7)}}] * 9, False),
    "eight objects of one structure, always": ([{"d": {name: field(1) for name in numbered(8)}}] * 9, True),
    "eight objects of one field, always": ([{"d": {name: {"n": 1} for name in numbered(8)}}] * 9, False),
    "eight, of one field, alone and in arrays": (
        [{"d": {name: [{"n": 1}] if name.endswith("a") else {"n": 1} for name in numbered(8)}}] * 9, True,
    ),
    "eight objects of different fields": ([{"d": {name: {name + "x": 1, name + "y": 2} for name in numbered(8)}}] * 9, False),
    "eight arrays of one structure": ([{"d": {name: [field(1), field(2)] for name in numbered(8)}}] * 9, True),
}  # fmt: skip


def kinds(rows, own):
    """Return records of two kinds, each with so many fields of its own."""
    return [
        {"id": n, "kind": kind, "at": n, **{f"{kind}_{k}": n for k in range(own)}} for n in range(rows) for kind in [("tug", "gate")[n % 2]]
    ]  # fmt: skip


# records, and the names of the tables
DIVIDED = {
    "two fields of each kind": (kinds(40, 2), {"t", "t_tug", "t_gate"}),
    "one field of each kind stays": (kinds(40, 1), {"t"}),
    "19 rows are too few": (kinds(19, 3), {"t"}),
    "20 rows are enough": (kinds(20, 3), {"t", "t_tug", "t_gate"}),
    "three alternatives": ([{"id": n, ["tug", "crane", "gate"][n % 3]: {"a": n, "b": 1, "c": 2}} for n in range(30)], {"t", "t_tug", "t_crane", "t_gate"}),
    "two alternatives stay": ([{"id": n, ["tug", "crane"][n % 2]: {"a": n, "b": 1}} for n in range(30)], {"t"}),
}  # fmt: skip
AGENT = {"agent": "A", "phone": "00", "mail": "a@b"}
PLACES = ["owner", "charterer", "loading", "towage", "stores", "waste", "pilot"]
# files, and the name of the top table
NAMED = (
    (["vessel_calls.ndjson"], "vessel_calls"), (["calls-2026-01-31.json"], "calls"), (["calls.2026.ndjson"], "calls"), (["stays_n1.json", "stays_s2.json"], "stays"),
    (["Vessel Calls.JSON"], "vessel_calls"),
)  # fmt: skip
# names beside each other, and those of their columns
COLUMN_NAMES = (
    (["homePort", "home_port"], ["home_port", "home_port_2"]), (["A", "a"], ["a", "a_2"]), (["eta (UTC)"], ["eta_utc"]), (["Größe"], ["größe"]),
    (["x" * 63], ["x" * 63]), (["2026"], ["2026"]), (["vessel.no"], ["vessel_no"]), (["HTTPPort"], ["http_port"]), ([""], ["field"]), (["!?"], ["field"]),
)  # fmt: skip


class DraftsPageTest(FolderTest):
    def test_what_becomes_of_what(self):
        for name, (records, expected) in BECOMES.items():
            with self.subTest(name):
                lines = b"\n".join(r if isinstance(r, bytes) else json.dumps(r).encode() for r in records)
                tables = tessaron.shred(lines, name="t")
                found = {
                    table: [{key: row[key] for key in row if key not in KEYS or key in expected[table][0]} for row in rows.to_pylist()]
                    for table, rows in tables.items()
                }  # fmt: skip
                self.assertEqual(found, expected)

    def test_dictionaries(self):
        for name, (records, expected) in DICTIONARIES.items():
            with self.subTest(name):
                tables = tessaron.shred(records, name="t", undivided=True)
                self.assertEqual("t_d" in tables and "key" in tables["t_d"].column_names, expected)

    def test_single_cases_are_decided(self):
        records = DICTIONARIES["eight objects of one structure, always"][0]
        self.assertEqual(
            list(tessaron.shred(records, name="t", not_dictionaries=["$.d"], not_shared=True)), ["t"]
        )
        records = DICTIONARIES["two dates are not enough"][0]
        self.assertEqual(list(tessaron.shred(records, name="t", dictionaries=["$.d"])), ["t", "t_d"])

    def test_kinds_and_alternatives(self):
        for name, (records, expected) in DIVIDED.items():
            with self.subTest(name):
                self.assertEqual(set(tessaron.shred(records, name="t")), expected)
                self.assertEqual(list(tessaron.shred(records, name="t", undivided=True)), ["t"])

    def test_no_table_is_wider_than_asked(self):
        records = [{f"g{k}": {f"f{n}": n for n in range(5)} for k in range(6)}, {}]
        for most in (40, 30, 20):
            with self.subTest(most=most):
                tables = tessaron.shred(records, name="t", most_columns=most, not_shared=True)
                self.assertLessEqual(max(table.num_columns for table in tables.values()), most)
                self.assertEqual(
                    sum(name[-2] == "f" for table in tables.values() for name in table.column_names), 30
                )

    def test_more_than_a_handful_of_places_share(self):
        for count, shared in ((5, False), (6, True), (7, True)):
            with self.subTest(count=count):
                records = [{"call": n, **dict.fromkeys(PLACES[:count], AGENT)} for n in range(4)]
                tables = tessaron.shred(records, name="t")
                self.assertEqual(any("place" in table.column_names for table in tables.values()), shared)
                self.assertEqual(list(tessaron.shred(records, name="t", not_shared=True)), ["t"])
        records = [{"call": n, "owner": AGENT, "pilot": AGENT} for n in range(4)]
        self.assertEqual(len(tessaron.shred(records, name="t", shared=["$.owner"])), 2)

    def test_names_of_top_tables(self):
        for files, expected in NAMED:
            with self.subTest(files):
                paths = [self.write(f"{expected}/{file}", '{"a":1}\n') for file in files]
                self.assertEqual(list(tessaron.shred([str(path) for path in paths])), [expected])
        self.assertEqual(list(tessaron.shred([{"a": 1}])), ["records"])

    def test_names_of_columns(self):
        for given, expected in COLUMN_NAMES:
            with self.subTest(given):
                table = tessaron.shred([dict.fromkeys(given, 1)], name="t")["t"]
                self.assertEqual(table.column_names[1:], expected)
                self.assertTrue(all(len(name.encode()) <= 63 for name in table.column_names))

    def test_keys(self):
        records = [{"row_key": 5, "s": [{"ordinal": 7}]}]
        tables = tessaron.shred(records, name="t")
        self.assertEqual(tables["t"].column_names, ["t_row_key", "row_key"])
        self.assertEqual(
            tables["t_s"].to_pylist(), [{"row_key": 1, "parent_key": 1, "t_s_ordinal": 1, "ordinal": 7}]
        )
        one, other = (
            tessaron.shred(f'{{"a":{n}}}\n{{"a":3}}'.encode(), name="t", keys="digest")["t"].to_pylist()
            for n in (1, 2)
        )
        self.assertNotEqual(one[0]["row_key"], other[0]["row_key"])
        self.assertEqual(one[1]["row_key"], other[1]["row_key"])


if __name__ == "__main__":
    unittest.main()
