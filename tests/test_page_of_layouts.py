"""Every key of `docs/layouts.md`, with what it says of small records worked out by hand."""

import os
import re
import unittest
from datetime import UTC, date, datetime, time
from decimal import Decimal
from pathlib import Path
from unittest import mock

import tessaron

D = Decimal
PAGE = (Path(__file__).parent.parent / "docs" / "layouts.md").read_text("utf-8")
CALLS = {
    "stays": [{"b": "N1"}, {"b": None}, {"b": "S1"}, {"b": "N1"}],
    "n": [3, None, 1],
    "ok": [True, None, False],
}

# what stands at $.x, the keys of a column beside its path, and its value (or values by column, or the code of the reject)
COLUMNS = (
    # how values are written
    ("05/03/2026", 'type = "date", format = "%d/%m/%Y"', date(2026, 3, 5)),
    ("5.3.26 7:05", 'type = "timestamp", format = "%d.%m.%y %H:%M"', datetime(2026, 3, 5, 7, 5)),
    ("1.234,50", 'type = "decimal(9,2)", decimal = ",", grouping = "."', D("1234.50")),
    ("1 234", 'type = "integer", grouping = " "', 1234), ("J", 'type = "boolean", words = ["J", "N"]', True),
    ("N", 'type = "boolean", words = ["J", "N"]', False), ("X", 'type = "boolean", words = ["J", "N"]', "misfit"),
    (0, 'type = "timestamp_tz", unit = "s"', datetime(1970, 1, 1, tzinfo=UTC)),
    (1500, 'type = "timestamp_tz(3)", unit = "ms"', datetime(1970, 1, 1, 0, 0, 1, 500_000, tzinfo=UTC)),
    ("2026-03-05T08:00", 'type = "timestamp_tz", zone = "+01:00"', datetime(2026, 3, 5, 7, tzinfo=UTC)),
    ("2026-03-05T08:00Z", 'type = "timestamp_tz", zone = "+01:00"', datetime(2026, 3, 5, 8, tzinfo=UTC)),
    ("10:30", 'type = "time"', time(10, 30)), ("2026-03-05 08:00:00.25", 'type = "timestamp(2)"', datetime(2026, 3, 5, 8, 0, 0, 250_000)),
    ("x", 'type = "integer"', "misfit"), ("2.50", 'type = "integer"', "misfit"), (2.0, 'type = "integer"', 2),
    (12.345, 'type = "decimal(4,2)"', "misfit"), (True, 'type = "text"', "true"), (None, 'type = "text"', None),
    ("1.50", 'type = "decimal(4,2)", written = "fixed"', D("1.50")),
    # cleaning, in its order
    ("  N1 ", 'type = "text", trim = true', "N1"), (" - ", 'type = "text", trim = true, nulls = ["-"]', None),
    ("Calm", 'type = "text", case = "lower"', "calm"), ("Calm", 'type = "text", case = "upper"', "CALM"),
    (" SW ", 'type = "text", trim = true, case = "lower", replace = { sw = "south-west" }', "south-west"),
    ("n/a", 'type = "integer", nulls = ["n/a"], default = 4', 4), (None, 'type = "text", default = "unknown"', "unknown"),
    ("x7", 'type = "integer", replace = { x7 = "7" }', 7),
    # conditions: the record goes, or only a note is made
    (13, 'type = "integer", most = 12', "range"), (12, 'type = "integer", most = 12', 12), (-1, 'type = "integer", least = 0', "range"),
    (13, 'type = "integer", most = 12, failed = "note"', 13), ("Z", 'type = "text", allowed = ["N", "S"]', "allowed"),
    ("N", 'type = "text", allowed = ["N", "S"]', "N"), (None, 'type = "text", required = true', "required"),
    ("BRW-1", 'type = "text", pattern = "BRW-[0-9]{2}"', "pattern"), ("BRW-12", 'type = "text", pattern = "BRW-[0-9]{2}"', "BRW-12"),
    (None, 'type = "text", pattern = "x", allowed = ["y"], unique = true', None),
    ("x", 'type = "integer", misfit = "record"', "misfit"), ("x", 'type = "integer", misfit = "note"', None),
    # masks
    ("a@b", 'type = "text", mask = "constant"', "***"), ("a@b", 'type = "text", mask = "constant", mask_text = "hidden"', "hidden"),
    ("a@b", 'type = "text", mask = "drop"', {}), ("a@b", 'type = "text", hidden = true', {}),
    # as it stands
    ({"a": [1.50, None]}, 'type = "json"', '{"a":[1.5,null]}'),
)  # fmt: skip
# a path below CALLS, the keys of a fold, and its value (or values by column)
FOLDS = (
    ("$.stays[*].b", 'fold = "joined", separator = " > "', "N1 > S1 > N1"), ("$.stays[*].b", 'fold = "joined"', "N1, S1, N1"),
    ("$.stays[*].b", 'fold = "first", type = "text"', "N1"), ("$.stays[*].b", 'fold = "last", type = "text"', "N1"),
    ("$.stays[*].b", 'fold = "nth", position = 2, type = "text"', None), ("$.stays[*].b", 'fold = "nth", position = -2, type = "text"', "S1"),
    ("$.stays[*]", 'fold = "count"', 4), ("$.stays[*].b", 'fold = "count"', 3), ("$.stays[*].b", 'fold = "count_distinct"', 2),
    ("$.n[*]", 'fold = "sum", type = "integer"', 4), ("$.n[*]", 'fold = "mean", type = "decimal(9,6)"', D("2.000000")), ("$.n[*]", 'fold = "least", type = "integer"', 1),
    ("$.n[*]", 'fold = "most", type = "integer"', 3), ("$.ok[*]", 'fold = "any"', True), ("$.ok[*]", 'fold = "all"', False),
    ("$.stays[0].b", 'type = "text"', "N1"), ("$.stays[-2].b", 'type = "text"', "S1"), ("$.stays[9].b", 'type = "text"', None),
    ("$.n[*]", 'fold = "json"', "[3,null,1]"),
    ("$.stays[*].b", 'flags = ["N1", "S1", "W1"]', {"x_n1": True, "x_s1": True, "x_w1": False}),
    ("$.n[*]", 'type = "integer", numbered = 2', {"x_1": 3, "x_2": None}),
)  # fmt: skip
# the layout, the records, and the rows of each table without its keys (or with those that are named)
WHOLE = {
    "two tables with the same rows, one only where it is filled": (
        [{"a": 1, "b": 2}, {"a": 3}],
        '[tables.t]\nrows = "$"\ncolumns.a = { path = "$.a", type = "integer" }\n'
        '[tables.u]\nrows = "$"\nonly_filled = true\ncolumns.b = { path = "$.b", type = "integer" }',
        {"t": [{"a": 1}, {"a": 3}], "u": [{"b": 2}]},
    ),
    "what is known of a row does not fill it": (
        [{"b": 2}, {"a": 3}],
        '[tables.t]\nrows = "$"\n[tables.u]\nrows = "$"\nonly_filled = true\n'
        'columns.n = { origin = "origin_record" }\ncolumns.b = { path = "$.b", type = "integer" }',
        {"t": [{}, {}], "u": [{"n": 1, "b": 2}]},
    ),
    "calculated values are of the type that is said": (
        [{"a": "zz"}, {"a": "0e37df36-f698-11e6-8dd4-cb9ced3df976"}],
        '[tables.t]\nrows = "$"\n[tables.t.columns]\na = { path = "$.a", type = "text" }\n'
        'u = { value = "upper(a)", type = "uuid" }\nj = { value = "part(a, 1, 2)", type = "json" }',
        {"t": [{"a": "zz", "u": None, "j": '"zz"'},
               {"a": "0e37df36-f698-11e6-8dd4-cb9ced3df976", "u": "0E37DF36-F698-11E6-8DD4-CB9CED3DF976", "j": '"0e"'}]},
    ),
    "one flat table": (
        [{"id": 1, "s": [{"b": "N"}, {"b": "S"}]}, {"id": 2, "s": []}],
        '[tables.t]\nrows = "$"\nwrite = false\ncolumns.id = { path = "$.id", type = "integer" }\n'
        '[tables.s]\nrows = "$.s[*]"\ncarry = ["t.id"]\nwith_empty = true\ncolumns.b = { path = "@.b", type = "text" }',
        {"s": [{"id": 1, "b": "N"}, {"id": 1, "b": "S"}, {"id": 2, "b": None}]},
    ),
    "arrays beside each other, each row with each": (
        [{"s": ["N", "S"], "v": [1, 2]}],
        '[tables.t]\nrows = "$"\n[tables.s]\nrows = "$.s[*]"\nmultiply = ["v"]\ncarry = ["v.k"]\ncolumns.b = { path = "@", type = "text" }\n'
        '[tables.v]\nrows = "$.v[*]"\nwrite = false\ncolumns.k = { path = "@", type = "integer" }',
        {"t": [{}, ], "s": [{"k": 1, "b": "N"}, {"k": 2, "b": "N"}, {"k": 1, "b": "S"}, {"k": 2, "b": "S"}]},
    ),
    "pieces of one object, and several objects in one table": (
        [{"w": [{"m": "A"}, {"m2": "B"}], "o": {"n": "C"}, "p": {"n": "D"}}],
        '[structure]\nmerged = ["$.w"]\n[tables.t]\nrows = "$"\ncolumns.m = { path = "$.w.m", type = "text" }\n'
        'columns.m2 = { path = "$.w.m2", type = "text" }\n[tables.u]\nrows = ["$.o", "$.p"]\n[tables.u.columns]\n'
        'role = { origin = "key" }\nn = { path = "@.n", type = "text" }',
        {"t": [{"m": "A", "m2": "B"}], "u": [{"role": "o", "n": "C"}, {"role": "p", "n": "D"}]},
    ),
    "fields that move up": (
        [{"id": 1, "ship": {"name": "A"}}],
        '[structure]\nunwrapped = ["$.ship"]\n[tables.t]\nrows = "$"\ncolumns.name = { path = "$.name", type = "text" }',
        {"t": [{"name": "A"}]},
    ),
    "bare rows with their names, and arrays side by side": (
        [{"c": ["at", "kn"], "r": [["x", 5], ["y", 6]], "u": ["p", "q"], "v": [1]}],
        '[structure]\nnamed_rows = { "$.r" = "$.c[*]" }\n[tables.t]\nrows = "$"\n[tables.w]\nrows = "$.r[*]"\n'
        'columns.at = { path = "@.at", type = "text" }\ncolumns.kn = { path = "@.kn", type = "integer" }\n'
        '[tables.p]\nparallel = ["$.u[*]", "$.v[*]"]\ncolumns.u = { path = "@.u", type = "text" }\n'
        'columns.v = { path = "@.v", type = "integer" }',
        {"t": [{}], "w": [{"at": "x", "kn": 5}, {"at": "y", "kn": 6}], "p": [{"u": "p", "v": 1}, {"u": "q", "v": None}]},
    ),
    "a single value that counts as an array, and texts that are lists": (
        [{"a": "N", "s": "x|y"}, {"a": ["S", "W"], "s": "z"}],
        '[structure]\narrays = ["$.a"]\nsplit = { "$.s" = "|" }\n[tables.t]\nrows = "$"\n'
        '[tables.a]\nrows = "$.a[*]"\ncolumns.v = { path = "@", type = "text" }\n'
        '[tables.s]\nrows = "$.s[*]"\ncolumns.v = { path = "@", type = "text" }',
        {"t": [{}, {}], "a": [{"v": "N"}, {"v": "S"}, {"v": "W"}], "s": [{"v": "x"}, {"v": "y"}, {"v": "z"}]},
    ),
    "texts that hold documents": (
        [{"j": '{"i":[1,2]}', "x": '<e no="7"><i>a</i><i>b</i></e>'}],
        '[structure]\nembedded = { "$.j" = "json", "$.x" = "xml" }\n[tables.t]\nrows = "$"\n'
        "columns.no = { path = \"$.x['@no']\", type = \"integer\" }\n[tables.i]\nrows = \"$.j.i[*]\"\n"
        'columns.v = { path = "@", type = "integer" }\n[tables.k]\nrows = "$.x.i[*]"\ncolumns.v = { path = "@", type = "text" }',
        {"t": [{"no": 7}], "i": [{"v": 1}, {"v": 2}], "k": [{"v": "a"}, {"v": "b"}]},
    ),
    "dictionaries, and none": (
        [{"d": {"a": {"v": 1}, "b": {"v": 2}}, "e": {"2026": 3}}],
        '[structure]\ndictionaries = ["$.d"]\nnot_dictionaries = ["$.e"]\n[tables.t]\nrows = "$"\n'
        "columns.y = { path = \"$.e['2026']\", type = \"integer\" }\n"
        '[tables.d]\nrows = "$.d.*"\ncolumns.k = { origin = "key" }\ncolumns.v = { path = "@.v", type = "integer" }',
        {"t": [{"y": 3}], "d": [{"k": "a", "v": 1}, {"k": "b", "v": 2}]},
    ),
    "a structure that contains itself": (
        [{"z": [{"n": 1, "z": [{"n": 2}]}, {"n": 3}]}],
        '[structure]\nagain = { "$.z[*].z" = "$.z" }\n[tables.t]\nrows = "$"\n'
        '[tables.z]\nrows = "$.z[*]"\ncolumns.n = { path = "@.n", type = "integer" }\ncolumns.deep = { origin = "depth" }',
        {"t": [{}], "z": [{"n": 1, "deep": 1, "within_key": None}, {"n": 2, "deep": 2, "within_key": 1},
                          {"n": 3, "deep": 1, "within_key": None}]},
    ),
    "a tree whose nodes stand beside fields": (
        [{"p": {"n": 1, "a": {"n": 2, "b": {"n": 3}}}}],
        '[structure]\ngathered = { "$.p.in" = ["n"] }\nagain = { "$.p.in.*.in" = "$.p.in" }\n[tables.t]\nrows = "$"\n'
        'columns.n = { path = "$.p.n", type = "integer" }\n[tables.z]\nrows = "$.p.in.*"\ncolumns.k = { origin = "key" }\n'
        'columns.n = { path = "@.n", type = "integer" }',
        {"t": [{"n": 1}], "z": [{"k": "a", "n": 2, "within_key": None}, {"k": "b", "n": 3, "within_key": 1}]},
    ),
    "the same structure at several places": (
        [{"a": {"c": "N", "d": 9}, "s": [{"b": {"c": "S", "d": 7}}]}],
        '[tables.t]\nrows = "$"\n[tables.s]\nrows = "$.s[*]"\n[tables.b]\nshared = ["$.a", "$.s[*].b"]\nplace = "where"\n'
        'columns.c = { path = "@.c", type = "text" }',
        {"t": [{}], "s": [{}], "b": [{"where": "$.a", "c": "N"}, {"where": "$.s[*].b", "c": "S"}]},
    ),
    "a table to look up in": (
        [{"v": 1, "p": "Oster"}, {"v": 2, "p": "Brack"}, {"v": 1, "p": "Oster"}],
        '[tables.t]\nrows = "$"\ncolumns.v = { path = "$.v", type = "integer" }\n'
        '[tables.u]\nrows = "$"\nonce = "v"\ncolumns.v = { path = "$.v", type = "integer" }\ncolumns.p = { path = "$.p", type = "text" }',
        {"t": [{"v": 1}, {"v": 2}, {"v": 1}], "u": [{"v": 1, "p": "Oster"}, {"v": 2, "p": "Brack"}]},
    ),
    "filters, seen after cleaning": (
        [{"s": "open", "m": [{"t": 1}, {"t": 2}]}, {"s": None, "m": [{"t": 3}]}, {"s": "shut", "m": []}],
        '[tables.t]\nrows = "$"\nkeep = "s = \'OPEN\' or s is null"\ncolumns.s = { path = "$.s", type = "text", case = "upper" }\n'
        '[tables.m]\nrows = "$.m[*]"\nkeep = "t > 1"\ncolumns.t = { path = "@.t", type = "integer" }',
        {"t": [{"s": "OPEN"}, {"s": None}], "m": [{"t": 2}, {"t": 3}]},
    ),
    "calculated from what filters keep": (
        [{"d": 9, "m": [{"t": 1}, {"t": 2}]}],
        '[tables.t]\nrows = "$"\n[tables.t.columns]\nd = { path = "$.d", type = "integer", hidden = true }\n'
        "size = { value = \"if d >= 9 then 'deep' else 'shallow'\" }\nsum = { value = \"sum(m.t)\", type = \"integer\" }\n"
        '[tables.m]\nrows = "$.m[*]"\nkeep = "t > 1"\ncolumns.t = { path = "@.t", type = "integer" }',
        {"t": [{"size": "deep", "sum": 2}], "m": [{"t": 2}]},
    ),
    "the names of key columns, and a parent further up": (
        [{"id": 5, "s": [{"m": [{"k": 1}]}]}],
        '[tables.t]\nrows = "$"\nrow_key = "no"\nkey = ["id"]\ncolumns.id = { path = "$.id", type = "integer" }\n'
        '[tables.s]\nrows = "$.s[*]"\n'
        '[tables.m]\nrows = "$.s[*].m[*]"\nparent = "t"\nparent_key = "call"\nordinal = "at"\nrow_key = "m_no"\n'
        'columns.k = { path = "@.k", type = "integer" }',
        {"t": [{"no": 1, "id": 5}], "s": [{}], "m": [{"m_no": 1, "call": 1, "at": 1, "k": 1}]},
    ),
    "what is known of a row": (
        [b'{"a":[7]}'],
        '[tables.t]\nrows = "$"\ncolumns.no = { origin = "origin_record" }\n[tables.a]\nrows = "$.a[*]"\n'
        'columns.v = { path = "@", type = "integer" }',
        {"t": [{"no": 1}], "a": [{"v": 7}]},
    ),
    "the records by a path, and texts that mean null": (
        [{"page": 1, "calls": [{"s": "open", "x": "-"}, {"s": "shut", "x": "y"}]}],
        '[reading]\nformat = "json"\nrecords = "$.calls[?@.s == \'open\']"\nnulls = ["-"]\nname = "call"\nnames = "leaf"\n'
        'envelope = false\nduplicate_keys = "last"\n[tables.t]\nrows = "$"\ncolumns.x = { path = "$.x", type = "text" }',
        {"t": [{"x": None}]},
    ),
    "around the records": (
        [b'{"page":3,"calls":[{"id":1},{"id":2}]}'],
        '[reading]\nrecords = "$.calls[*]"\n[tables.d]\nrows = "$"\naround = true\ncolumns.page = { path = "$.page", type = "integer" }\n'
        '[tables.t]\nrows = "$"\ncolumns.id = { path = "$.id", type = "integer" }\ncolumns.doc = { origin = "document_key" }',
        {"d": [{"page": 3}], "t": [{"id": 1, "doc": 1}, {"id": 2, "doc": 1}]},
    ),
    "everything kept exactly": (
        [{"a": None, "b": {}}],
        'exact = true\n[tables.t]\nrows = "$"\ncolumns.a = { path = "$.a", type = "text" }\ncolumns.c = { path = "$.b.c", type = "text" }',
        {"t": [{"a": None, "c": None, "row_rest": '{"a":null,"b":{}}'}]},
    ),
}  # fmt: skip
KEYS = {"row_key", "parent_key", "ordinal", "within_key", "place"}


def rows_of(records, layout):
    source = records[0] if isinstance(records[0], bytes) else records
    tables = tessaron.shred(source, layout=tessaron.Layout(layout, "page.toml"))
    return {name: table.to_pylist() for name, table in tables.items()}, tables


class LayoutPageTest(unittest.TestCase):
    def test_columns(self):
        for value, keys, expected in COLUMNS:
            layout = f'[tables.t]\nrows = "$"\ncolumns.x = {{ path = "$.x", {keys} }}'
            with self.subTest(value=value, keys=keys):
                rows, tables = rows_of([{"x": value}], layout)
                found = [{name: each for name, each in row.items() if name not in KEYS} for row in rows["t"]]
                codes = [reject.code for reject in tables.rejects]
                if isinstance(expected, str) and codes:
                    self.assertEqual(codes, [expected])
                    self.assertIn(found, ([], [{"x": None}]))
                else:
                    self.assertEqual(
                        (found, codes), ([expected if isinstance(expected, dict) else {"x": expected}], [])
                    )

    def test_folds(self):
        for path, keys, expected in FOLDS:
            layout = f'[tables.t]\nrows = "$"\ncolumns.x = {{ path = "{path}", {keys} }}'
            with self.subTest(path=path, keys=keys):
                found = rows_of([CALLS], layout)[0]["t"][0]
                del found["row_key"]
                self.assertEqual(found, expected if isinstance(expected, dict) else {"x": expected})

    def test_tables_and_structure(self):
        for name, (records, layout, expected) in WHOLE.items():
            with self.subTest(name):
                rows, _ = rows_of(records, layout)
                self.assertEqual(list(rows), list(expected))
                for table, found in rows.items():
                    wanted = expected[table]
                    kept = [
                        {key: row[key] for key in row if key not in KEYS or key in wanted[0]} for row in found
                    ]
                    self.assertEqual(kept, wanted, table)

    def test_digests_hide_and_join(self):
        layout = (
            '[reading]\nkeys = "sequence"\nmask_key = "HARBOUR_KEY"\n[tables.t]\nrows = "$"\n[tables.t.columns]\n'
            'a = { path = "$.a", type = "text", mask = "digest" }\nb = { path = "$.b", type = "text", mask = "digest" }'
        )
        with mock.patch.dict(os.environ, HARBOUR_KEY="tide"):
            (row,) = rows_of([{"a": "x", "b": "x"}], layout)[0]["t"]
        self.assertEqual(row["a"], row["b"])
        self.assertRegex(row["a"], "^[0-9a-f]{32}$")
        with mock.patch.dict(os.environ, HARBOUR_KEY="ebb"):
            self.assertNotEqual(rows_of([{"a": "x", "b": "x"}], layout)[0]["t"][0]["a"], row["a"])

    def test_stop_ends_the_run(self):
        for keys in ('type = "integer", misfit = "stop"', 'type = "text", allowed = ["y"], failed = "stop"'):
            with self.subTest(keys), self.assertRaises(tessaron.DataError):
                rows_of([{"x": "x"}], f'[tables.t]\nrows = "$"\ncolumns.x = {{ path = "$.x", {keys} }}')

    def test_no_key_of_the_page_is_left_out(self):
        used = " ".join(
            [keys for _, keys, _ in (*COLUMNS, *FOLDS)] + [layout for _, layout, _ in WHOLE.values()]
        )
        listed = {
            key for line in PAGE.splitlines() if line.startswith("| `") for key in re.findall(r"`([a-z_]+)`", line.split(" | ")[0])
        }  # fmt: skip
        of_xml, elsewhere = {"white_space", "namespaces", "xsd", "again_around"}, {"keys", "mask_key"}
        missing = {key for key in listed if not re.search(rf"\b{key}\b", used)} - of_xml - elsewhere
        self.assertEqual(missing, set())
        self.assertGreater(len(listed), 60)


if __name__ == "__main__":
    unittest.main()
