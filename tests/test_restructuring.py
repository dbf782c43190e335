"""What a layout changes of the structure: a function of the record alone, whatever stands beside it."""

import json
import random
import unittest
from collections import Counter

import tessaron
from tests.harness import KERNELS

NAMES = ["m", "s", "w", "name", "rows", "columns", "a"]
TOP = '[tables.c]\nrows = "$"\n[tables.c.columns]\nm = { path = "$.m", type = "text" }\n'
VALUE = 'v = { path = "@", type = "text" }\n'


def table(name, rows, *columns):
    return f'[tables.{name}]\nrows = "{rows}"\n[tables.{name}.columns]\n' + "".join(columns)


def member(name):
    return f'{name} = {{ path = "@.{name}", type = "text" }}\n'


LAYOUTS = {
    "merged": '[structure]\nmerged = ["$.w"]\n' + TOP + 's = { path = "$.w.s", type = "text" }\nw = { path = "$.w", type = "text" }\n'
    + table("a", "$.w.a[*]", VALUE),
    "merged inside": '[structure]\nmerged = ["$.a[*].w"]\n' + TOP
    + table("a", "$.a[*]", 'm = { path = "@.w.m", type = "text" }\n', 'j = { path = "@.w.s", type = "json" }\n'),
    "unwrapped": '[structure]\nunwrapped = ["$.w"]\n' + TOP + 's = { path = "$.s", type = "text" }\nw = { path = "$.w", type = "text" }\n'
    + table("a", "$.a[*]", VALUE, member("m")) + table("ww", "$.w[*]", VALUE),
    "unwrapped inside": '[structure]\nunwrapped = ["$.a[*].w"]\n' + TOP + table("a", "$.a[*]", member("m"))
    + table("z", "$.a[*].s[*]", VALUE),
    "named rows": '[structure]\nnamed_rows = { "$.rows" = "$.columns[*].name" }\n' + TOP
    + table("r", "$.rows[*]", member("m"), member("s"), VALUE) + table("z", "$.rows[*].s[*]", VALUE),
    "arrays": '[structure]\narrays = ["$.w"]\n' + TOP + table("r", "$.w[*]", member("m"), VALUE) + table("z", "$.w[*].s[*]", VALUE),
    "split": '[structure]\nsplit = { "$.w" = "|" }\n' + TOP + table("r", "$.w[*]", member("m"), VALUE),
    "embedded": '[structure]\nembedded = { "$.w" = "json" }\n' + TOP + 'w = { path = "$.w", type = "text" }\n'
    + table("r", "$.w[*]", member("m"), VALUE) + table("z", "$.w.a[*]", VALUE),
    "dictionaries": '[structure]\ndictionaries = ["$.w"]\n' + TOP + 'w = { path = "$.w", type = "text" }\n'
    + table("r", "$.w.*", 'key = { origin = "key" }\n', member("m"), VALUE),
    "not dictionaries": '[structure]\nnot_dictionaries = ["$.w"]\n' + TOP + 'w = { path = "$.w.m", type = "text" }\n',
    "several rows": TOP + '[tables.u]\nrows = ["$.w", "$.a", "$.s"]\n[tables.u.columns]\nrole = { origin = "key" }\n' + member("m"),
    "parallel": TOP + '[tables.p]\nparallel = ["$.w[*]", "$.a[*]"]\n[tables.p.columns]\n' + member("w") + member("a"),
    "again": '[structure]\nagain = { "$.w[*].w" = "$.w" }\n' + TOP + table("r", "$.w[*]", member("m")),
}  # fmt: skip


def value(chance, depth):
    kind = chance.random()
    if depth > 3 or kind < 0.35:
        return chance.choice([None, 1, 1.5, True, "x", "A", "7", "m", "s"])
    if kind < 0.65:
        return [value(chance, depth + 1) for _ in range(chance.randint(0, 3))]
    return {name: value(chance, depth + 1) for name in chance.sample(NAMES, chance.randint(0, 3))}


def record(chance):
    """Return a record with everything where layouts do not expect it."""
    made = {name: value(chance, 1) for name in chance.sample(NAMES, chance.randint(0, 4))}
    if chance.random() < 0.8:
        made["w"] = chance.choice([value(chance, 1), [value(chance, 2) for _ in range(chance.randint(0, 3))]])
    if chance.random() < 0.5:
        made["columns"] = [
            chance.choice([{"name": chance.choice("msa")}, {"name": 1}, {}, "x", None])
            for _ in range(chance.randint(0, 3))
        ]
    if chance.random() < 0.5:
        rows = [[value(chance, 3) for _ in range(chance.randint(0, 3))], {"m": 1, "s": [2]}, None, 5]
        made["rows"] = [chance.choice(rows) for _ in range(chance.randint(0, 3))]
    if chance.random() < 0.4:
        made["w"] = chance.choice([json.dumps(value(chance, 2)), "a|b", "|", "", "a"])
    return made


def laid(layout, records, **options):
    tables = tessaron.shred("\n".join(map(json.dumps, records)).encode(), layout=layout, **options)
    rows = {name: tables[name].to_pylist() for name in tables}
    rejects = Counter((each.code, each.record, each.message) for each in tables.rejects)
    return rows, rejects, sorted((each.code, each.name, each.count) for each in tables.findings)


class AloneTest(unittest.TestCase):
    def test_neither_chunks_nor_kernels_change_what_becomes_of_a_record(self):
        for seed in range(8):
            chance = random.Random(seed)
            records = [record(chance) for _ in range(chance.randint(1, 6))]
            for name, text in LAYOUTS.items():
                layout = tessaron.Layout("exact = true\n" * (seed % 2) + text)
                with self.subTest(name, seed=seed):
                    wanted = laid(layout, records, kernel="python", chunk_bytes=1, workers=1)
                    self.assertEqual(laid(layout, records, kernel="python", workers=1), wanted)
                    self.assertEqual(
                        laid(layout, records, kernel=KERNELS[-1], chunk_bytes=1, workers=1), wanted
                    )
                    self.assertEqual(laid(layout, records, kernel=KERNELS[-1], workers=1), wanted)

    def test_workers_change_nothing(self):
        chance = random.Random(1)
        records = [record(chance) for _ in range(300)]
        for name, text in LAYOUTS.items():
            with self.subTest(name):
                layout = tessaron.Layout(text)
                self.assertEqual(
                    laid(layout, records, chunk_bytes=2_000, workers=2), laid(layout, records, workers=1)
                )


def rows_of(name, *records):
    tables = tessaron.shred(list(records), layout=tessaron.Layout(LAYOUTS[name]))
    made = {each: [tuple(row.values()) for row in tables[each].to_pylist()] for each in tables}
    return made, sorted((each.code, each.count) for each in tables.findings)


class MeaningTest(unittest.TestCase):
    def test_pieces_do_not_take_the_place_of_objects(self):
        layout = tessaron.Layout(
            '[structure]\nmerged = ["$.w"]\n[tables.c]\nrows = "$"\n[tables.c.columns]\n'
            'm = { path = "$.w.m", type = "text" }\ns = { path = "$.w.s", type = "integer" }\n'
        )
        records = [{"w": [{"m": "A"}, {"s": 1}]}, {"w": {"m": "B"}}, {"w": {"m": "C", "s": 2}}]
        found = tessaron.shred(records, layout=layout)["c"].to_pylist()
        self.assertEqual([(row["m"], row["s"]) for row in found], [("A", 1), ("B", None), ("C", 2)])

    def test_each_value_is_unwrapped_by_its_own_kind(self):
        rows, findings = rows_of(
            "unwrapped", {"w": [{"a": [1, 2]}, {"a": [3]}, {"m": 1}, 7]}, {"w": {"m": 5, "a": [9]}},
            {"a": [0], "w": [{"a": [4]}]}, {"w": [[1, 2, 3]]}, {"w": 1.5}, {"w": None}, {"m": 1, "w": {"w": 3, "m": 2}},
        )  # fmt: skip
        self.assertEqual(
            [row[1:] for row in rows["c"]],
            [(None, None, None), ("5", None, None), (None, None, None), (None, None, None), (None, None, "1.5"),
             (None, None, None), ("1", None, "3")],
        )  # fmt: skip
        self.assertEqual(
            [row[1:4] for row in rows["a"]], [(1, 1, "1"), (1, 2, "2"), (1, 3, "3"), (2, 1, "9"), (3, 1, "0")]
        )
        self.assertEqual(findings, [("folded_away", 3), ("name_taken", 2)])

    def test_rows_that_are_objects_stay_and_names_that_repeat_are_said(self):
        layout = tessaron.Layout(
            '[structure]\nnamed_rows = { "$.r" = "$.n[*]" }\n[tables.c]\nrows = "$.r[*]"\n[tables.c.columns]\n'
            'a = { path = "@.a", type = "text" }\nb = { path = "@.b", type = "text" }\n'
        )
        records = [{"n": ["a", "a", "b"], "r": [[1, 2, 3], {"a": 9}, [4], [5, 6, 7, 8], []]}, {"r": [[1]]}]
        tables = tessaron.shred(records, layout=layout)
        self.assertEqual(
            [(row["a"], row["b"]) for row in tables["c"].to_pylist()],
            [("1", "3"), ("9", None), ("4", None), ("5", "7"), (None, None), (None, None)],
        )
        self.assertEqual(
            sorted((each.code, each.count) for each in tables.findings),
            [("name_repeated", 2), ("row_too_long", 2), ("row_too_short", 1)],
        )


if __name__ == "__main__":
    unittest.main()
