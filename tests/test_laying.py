"""What a layout can say, on small documents: the rows that come out, and what is told of the rest."""

import json
import os
import unittest
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.kernel.xml_values import XmlTextError, parse_xml
from tests.harness import KERNELS, FolderTest

STRICT = {"strict": True}


def laid(layout, documents, **options):
    """Return the tables of a layout as lists of rows, and the Tables."""
    data = documents if isinstance(documents, bytes) else "\n".join(map(json.dumps, documents)).encode()
    tables = tessaron.shred(data, layout=tessaron.Layout(layout), **options)
    return {name: [tuple(row.values()) for row in plainly(tables[name])] for name in tables}, tables


def plainly(table):
    return [{name: shown(value) for name, value in row.items()} for row in table.to_pylist()]


def shown(value):
    return value if value is None or isinstance(value, (bool, int, float, str)) else str(value)


CALLS = [
    {"id": 1, "port": "n", "tags": ["tug", "pilot"], "stays": [
        {"berth": "B1", "moves": [{"teu": 1, "t": 2.5}, {"teu": 2, "t": 1}]}, {"berth": "B2", "moves": []}]},
    {"id": 2, "port": "s", "tags": ["crane"], "stays": {"berth": "B3", "moves": {"teu": 5}}},
    {"id": 3, "tags": [], "stays": []},
]  # fmt: skip
TOP = '[tables.calls]\nrows = "$"\n[tables.calls.columns]\nid = { path = "$.id", type = "integer" }\n'
FOLDS = [
    ('path = "$.tags[*]", fold = "joined"', ["tug, pilot", "crane", None]),
    ('path = "$.tags[*]", fold = "joined", separator = "u"', ["t\\ugupilot", "crane", None]),
    ('path = "$.tags[*]", fold = "first", type = "text"', ["tug", "crane", None]),
    ('path = "$.tags[*]", fold = "last", type = "text"', ["pilot", "crane", None]),
    ('path = "$.tags[*]", fold = "nth", position = 2, type = "text"', ["pilot", None, None]),
    ('path = "$.tags[-1]", type = "text"', ["pilot", "crane", None]),
    ('path = "$.stays[1].berth", type = "text"', ["B2", None, None]),
    ('path = "$.tags[*]", fold = "count"', [2, 1, 0]),
    ('path = "$.stays[*].moves[*]", fold = "count"', [2, 1, 0]),
    ('path = "$.stays[*].moves[*].t", fold = "count"', [2, 0, 0]),
    ('path = "$.stays[*].moves[*].teu", fold = "sum", type = "integer"', [3, 5, None]),
    ('path = "$.stays[*].moves[*].t", fold = "sum", type = "decimal(9,1)"', ["3.5", None, None]),
    ('path = "$.stays[*].moves[*].t", fold = "mean", type = "decimal(9,2)"', ["1.75", None, None]),
    ('path = "$.stays[*].moves[*].t", fold = "mean", type = "double"', [1.75, None, None]),
    ('path = "$.stays[*].moves[*].teu", fold = "least", type = "integer"', [1, 5, None]),
    ('path = "$.stays[*].berth", fold = "most", type = "text"', ["B2", "B3", None]),
    ('path = "$.tags", type = "json"', ['["tug","pilot"]', '["crane"]', "[]"]),
    ('path = "$.stays[*].berth", fold = "json"', ['["B1","B2"]', '["B3"]', None]),
    ('path = "$.stays[*].moves[*]", fold = "json"', ['[{"teu":1,"t":2.5},{"teu":2,"t":1}]', '[{"teu":5}]', None]),
    ('path = "$.tags[*]", fold = "count_distinct"', [2, 1, 0]),
]  # fmt: skip


class FoldTest(unittest.TestCase):
    def test_arrays_are_folded_into_the_row_above(self):
        for keys, wanted in FOLDS:
            for kernel in KERNELS:
                with self.subTest(keys=keys, kernel=kernel):
                    rows, _ = laid(TOP + f"x = {{ {keys} }}", CALLS, kernel=kernel)
                    self.assertEqual([row[2] for row in rows["calls"]], wanted)

    def test_flags_have_a_column_for_each_pinned_value_and_tell_of_others(self):
        rows, tables = laid(TOP + 'is = { path = "$.tags[*]", flags = ["tug", "pilot"] }', CALLS)
        self.assertEqual([row[2:] for row in rows["calls"]], [(True, True), (False, False), (False, False)])
        self.assertEqual(tables["calls"].column_names[2:], ["is_tug", "is_pilot"])
        self.assertEqual(
            [(each.code, each.outcome, each.count) for each in tables.findings], [("no_flag", "note", 1)]
        )
        self.assertIn("'crane' is not among the flags", tables.findings[0].example)

    def test_values_beyond_numbered_columns_are_noted_or_rejected(self):
        layout = TOP + 'tag = { path = "$.tags[*]", type = "text", numbered = 1 }'
        rows, tables = laid(layout, CALLS)
        self.assertEqual([row[2] for row in rows["calls"]], ["tug", "crane", None])
        self.assertEqual([(each.code, each.count) for each in tables.findings], [("beyond", 1)])
        rows, tables = laid(layout, CALLS, strict=True)
        self.assertEqual([row[2] for row in rows["calls"]], ["tug", "crane", None])
        found = [(each.record, each.code, each.rejected) for each in tables.rejects]
        self.assertEqual(found, [(1, "beyond", "value")])

    def test_a_whole_record_and_mixed_values_are_kept_as_json(self):
        rows, _ = laid(
            '[tables.r]\nrows = "$"\n[tables.r.columns]\nall = { path = "$", type = "json" }\n'
            'v = { path = "$.v", type = "json" }\nw = { path = "$.v.w", type = "integer" }',
            b'{"v": {"w": 1, "s": "\\u00e9 \\"x\\"\\n"} }\n{"v":"t"}\n{"v":null}\n{"v":1.50}',
        )
        self.assertEqual(
            [row[1:] for row in rows["r"]],
            [
                ('{"v":{"w":1,"s":"é \\"x\\"\\n"}}', '{"w":1,"s":"é \\"x\\"\\n"}', 1),
                ('{"v":"t"}', '"t"', None),
                ('{"v":null}', None, None),
                ('{"v":1.50}', "1.50", None),
            ],
        )


FLAT = TOP + """
[tables.stays]
rows = "$.stays[*]"
write = false
[tables.stays.columns]
berth = { path = "@.berth", type = "text" }
[tables.moves]
rows = "$.stays[*].moves[*]"
carry = ["calls.id", "stays.*"]
[tables.moves.columns]
teu = { path = "@.teu", type = "integer" }
"""  # fmt: skip


class RowsTest(unittest.TestCase):
    def test_a_flat_table_carries_what_is_above(self):
        rows, _ = laid(FLAT, CALLS)
        self.assertEqual([row[3:] for row in rows["moves"]], [(1, "B1", 1), (1, "B1", 2), (2, "B3", 5)])

    def test_rows_above_without_rows_stay_when_asked(self):
        rows, tables = laid(FLAT.replace("carry", "with_empty = true\ncarry"), CALLS)
        wanted = [(1, "B1", 1), (1, "B1", 2), (1, "B2", None), (2, "B3", 5), (3, None, None)]
        self.assertEqual([row[2:] for row in rows["moves"]], wanted)
        self.assertEqual(tables["moves"]["row_key"].to_pylist(), [1, 2, 3, 4, 5])
        self.assertEqual(tables["moves"]["parent_key"].to_pylist(), [1, 1, 1, 2, 3])

    def test_sibling_arrays_are_multiplied_only_when_named(self):
        documents = [{"a": [1, 2], "b": [7, 8]}, {"a": [3]}, {"b": [9]}, {}]
        tables = """
            [tables.r]
            rows = "$"
            [tables.b]
            rows = "$.b[*]"
            write = false
            [tables.b.columns]
            y = { path = "@", type = "integer" }
            [tables.a]
            rows = "$.a[*]"
            multiply = ["b"]
            carry = ["b.y"]
            %s
            [tables.a.columns]
            x = { path = "@", type = "integer" }
        """
        rows, _ = laid(tables % "", documents)
        self.assertEqual([row[2:] for row in rows["a"]], [(7, 1), (8, 1), (7, 2), (8, 2)])
        without_columns = (tables % "").replace(
            '[tables.b.columns]\n            y = { path = "@", type = "integer" }\n', ""
        )
        rows, _ = laid(without_columns.replace('carry = ["b.y"]', ""), documents)
        self.assertEqual([row[2] for row in rows["a"]], [1, 1, 2, 2])
        rows, _ = laid(tables % "with_empty = true", documents)
        self.assertEqual([row[2:] for row in rows["a"]][4:], [(None, 3), (9, None), (None, None)])

    def test_objects_and_several_places_are_rows(self):
        rows, _ = laid(
            TOP
            + """
            agent = { path = "$.agent.name", type = "text" }
            [tables.agents]
            rows = "$.agent"
            [tables.agents.columns]
            name = { path = "@.name", type = "text" }
            call = { path = "$.id", type = "integer" }
            [tables.parties]
            rows = ["$.shipper", "$.others[*]"]
            [tables.parties.columns]
            role = { origin = "key" }
            name = { path = "@.name", type = "text" }
            [tables.phones]
            parent = "parties"
            rows = "@.phones[*]"
            [tables.phones.columns]
            phone = { path = "@", type = "text" }
            """,
            [
                {"id": 1, "agent": {"name": "A"}, "shipper": {"name": "S", "phones": ["1"]}},
                {
                    "id": 2,
                    "others": [{"name": "O", "phones": ["2", "3"]}, {"name": "P"}],
                    "shipper": {"name": "T"},
                },
            ],
        )
        self.assertEqual(rows["calls"], [(1, 1, "A"), (2, 2, None)])
        self.assertEqual(rows["agents"], [(1, 1, 0, "A", 1)])
        self.assertEqual([row[1:] for row in rows["parties"]], [
            (1, 1, "shipper", "S"), (2, 1, "shipper", "T"), (2, 2, "others", "O"), (2, 3, "others", "P")])  # fmt: skip
        self.assertEqual([row[1:] for row in rows["phones"]], [(1, 1, "1"), (3, 1, "2"), (3, 2, "3")])

    def test_a_table_split_in_two_shares_its_rows(self):
        rows, tables = laid(
            TOP.replace('rows = "$"\n', 'rows = "$"\nkeep = "id != 2"\n')
            + '[tables.ports]\nrows = "$"\n[tables.ports.columns]\nport = { path = "$.port", type = "text" }',
            CALLS,
        )
        self.assertEqual(rows["calls"], [(1, 1), (2, 3)])
        self.assertEqual(rows["ports"], [(1, 1, "n"), (2, 2, None)])
        self.assertEqual(tables.parent("ports"), "calls")

    def test_filters_take_what_is_below_and_leave_what_is_above(self):
        layout = FLAT.replace("write = false", "keep = \"berth != 'B1'\"")
        rows, tables = laid(layout, CALLS)
        self.assertEqual(rows["calls"], [(1, 1), (2, 2), (3, 3)])
        self.assertEqual(rows["stays"], [(1, 1, 2, "B2"), (2, 2, 0, "B3")])
        self.assertEqual(rows["moves"], [(1, 2, 0, 2, "B3", 5)])
        self.assertEqual(tables.filtered, {"stays": 1, "moves": 2})

    def test_keys_refer_to_rows_that_are_there_whatever_the_filter(self):
        for keys in ("sequence", "digest"):
            with self.subTest(keys=keys):
                layout = f'[reading]\nkeys = "{keys}"\n' + FLAT.replace(
                    "write = false", "keep = \"berth != 'B1'\""
                ).replace("[tables.moves]", "[tables.moves]\nwith_empty = true", 1)
                _, tables = laid(layout, CALLS)
                for name in tables:
                    own = tables[name]["row_key"].to_pylist()
                    self.assertEqual(len(set(own)), len(own))
                    if tables.parent(name):
                        above = set(tables[tables.parent(name)]["row_key"].to_pylist())
                        self.assertLessEqual(set(tables[name]["parent_key"].to_pylist()), above | {None})


STRUCTURES = [
    (
        "pieces of one row",
        'merged = ["$.who"]',
        'name = { path = "$.who.name", type = "text" }\nhired = { path = "$.who.hired", type = "date" }',
        [{"who": [{"name": "N"}, {"hired": "2026-01-01"}]}, {"who": [{"name": "A"}, {"name": "B"}, 5]}, {}],
        [("N", "2026-01-01"), ("A", None), (None, None)],
        ["piece_not_object", "piece_repeated"],
    ),
    (
        "an object folded away",
        'unwrapped = ["$.data", "$.data.more"]',
        'a = { path = "$.a", type = "integer" }\nb = { path = "$.b", type = "integer" }',
        [{"data": {"a": 1, "more": {"b": 2}}}, {"a": 3, "data": {"a": 4}}],
        [(1, 2), (3, None)],
        ["name_taken"],
    ),
    (
        "text that is a list",
        'split = { "$.t" = "|" }',
        't = { path = "$.t[*]", fold = "json" }\nn = { path = "$.t[*]", fold = "count" }',
        [{"t": "a|b|"}, {"t": ""}, {"t": ["x"]}, {"t": None}],
        [('["a","b",""]', 3), (None, 0), ('["x"]', 1), (None, 0)],
        [],
    ),
    (
        "a single value that is an array of one",
        'arrays = ["$.p"]',
        'p = { path = "$.p[*]", fold = "joined" }\nn = { path = "$.p[*]", fold = "count" }',
        [{"p": "1"}, {"p": ["2", "3"]}, {"p": None}],
        [("1", 1), ("2, 3", 2), (None, 0)],
        [],
    ),
    (
        "text that holds JSON",
        'embedded = { "$.e" = "json" }',
        'x = { path = "$.e.x", type = "integer" }\nn = { path = "$.e.l[*]", fold = "count" }',
        [
            {"e": '{"x": 1,\n"l": [1, 2]}'},
            {"e": '{"x":'},
            {"e": {"x": 5}},
            {"e": " "},
            {"e": '{"x":1} {"x":2}'},
        ],
        [(1, 2), (None, 0), (5, 0), (None, 0), (None, 0)],
        ["embedded"],
    ),
    (
        "text that holds XML",
        'embedded = { "$.e" = "xml" }',
        """id = { path = "$.e['@id']", type = "integer" }
t = { path = "$.e['text()']", type = "text", trim = true }
n = { path = "$.e.item[*]", fold = "count" }
w = { path = "$.e.item[*].w", fold = "joined" }
c = { path = "$.e.note", type = "text" }""",
        [
            {
                "e": '<?xml version="1.0" encoding="ISO-8859-1"?><m xmlns="u:m" id="7"> Å <item><w>1</w></item><item><w>2</w><!-- no --></item></m>'
            },
            {"e": '<m id="8"><item><w>3</w></item><note><![CDATA[a < b]]></note></m>'},
            {"e": '<m><note xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/></m>'},
            {"e": "<m><item></m>"},
            {"e": '<!DOCTYPE m [<!ENTITY x SYSTEM "file:///etc/hostname">]><m id="9"><note>&x;</note></m>'},
            {"e": ""},
        ],
        [(7, "Å", 2, "1, 2", None), (8, None, 1, "3", "a < b"), (None, None, 0, None, None)]
        + [(None, None, 0, None, None)] * 3,
        ["embedded"],
    ),
    (
        "a dictionary",
        'dictionaries = ["$.d"]',
        'k = { path = "$.d.*", fold = "joined" }\nn = { path = "$.d.*", fold = "count" }',
        [{"d": {"a": 1, "b": 2}}, {}],
        [("1, 2", 2), (None, 0)],
        [],
    ),
]


class StructureTest(unittest.TestCase):
    def test_structures_are_set_by_hand(self):
        for name, structure, columns, documents, wanted, codes in STRUCTURES:
            with self.subTest(name=name):
                layout = f'[structure]\n{structure}\n[tables.r]\nrows = "$"\n[tables.r.columns]\n{columns}'
                rows, tables = laid(layout, documents)
                self.assertEqual([row[1:] for row in rows["r"]], wanted)
                self.assertEqual(sorted(each.code for each in tables.findings), codes)

    def test_hostile_xml_is_refused(self):
        laughs = "".join(f'<!ENTITY a{n} "{(f"&a{n - 1};" if n else "ha") * 10}">' for n in range(9))
        cases = [
            f"<!DOCTYPE m [{laughs}]><m>&a8;</m>",
            f'<!DOCTYPE m [{laughs}]><m x="&a8;"/>',
            '<!DOCTYPE m [<!ENTITY x SYSTEM "file:///etc/hostname">]><m>&x;</m>',
            '<!DOCTYPE m [<!ENTITY % x SYSTEM "http://127.0.0.1:9/x">%x;]><m>1</m>',
            "<m>" + "<a>" * 5000 + "</a>" * 5000 + "</m>",
            '<m a="' + "x" * 20_000_000 + '"/>',
            "<m>\0</m>",
            '<m a="1" a="2"/>',
            "no XML",
        ]
        for text in cases:
            with self.subTest(text=text[:60]), self.assertRaisesRegex(XmlTextError, "expected XML"):
                parse_xml(text)

    def test_names_of_two_namespaces_are_kept_apart(self):
        text = '<p:m xmlns:p="u" p:k="0"><p:a>1</p:a><a xmlns="v">2</a><b/> t </p:m>'
        self.assertEqual(parse_xml(text), {"@k": "0", "p:a": "1", "a": "2", "b": "", "text()": " t "})

    def test_bare_rows_get_the_names_of_their_own_record(self):
        layout = """
            [structure]
            named_rows = { "$.rows" = "$.columns[*].name" }
            [tables.levels]
            rows = "$.rows[*]"
            [tables.levels.columns]
            t = { path = "@.t", type = "time" }
            level = { path = "@.level", type = "decimal(3,1)" }
        """
        first = {
            "columns": [{"name": "t"}, {"name": "level"}],
            "rows": [["10:00", 1.5], ["11:00"], ["12:00", 2, 3]],
        }
        other = {"columns": [{"name": "level"}, {"name": "t"}], "rows": [[9, "13:00"]]}
        rows, tables = laid(layout, [first, other, {"columns": [], "rows": []}])
        wanted = [("10:00:00", "1.5"), ("11:00:00", None), ("12:00:00", "2.0"), ("13:00:00", "9.0")]
        self.assertEqual([row[1:] for row in rows["levels"]], wanted)
        self.assertEqual(
            {(each.code, each.outcome, each.count) for each in tables.findings},
            {("row_too_long", "value", 1), ("row_too_short", "note", 1)},
        )

    def test_names_of_bare_rows_may_stand_in_each_element(self):
        layout = """
            [structure]
            named_rows = { "$.gauges[*].rows" = "$.gauges[*].names[*]" }
            [tables.levels]
            rows = "$.gauges[*].rows[*]"
            [tables.levels.columns]
            gauge = { path = "$.gauges[*].gauge", type = "text" }
            a = { path = "@.a", type = "integer" }
            b = { path = "@.b", type = "integer" }
        """
        gauges = [
            {"gauge": "x", "names": ["a", "b"], "rows": [[1, 2]]},
            {"gauge": "y", "names": ["b", "a"], "rows": [[3, 4], [5]]},
        ]
        rows, tables = laid(layout, [{"gauges": gauges}, {"gauges": gauges[1]}])
        self.assertEqual(
            [row[1:] for row in rows["levels"]],
            [("x", 1, 2), ("y", 4, 3), ("y", None, 5), ("y", 4, 3), ("y", None, 5)],
        )
        self.assertEqual([(each.code, each.count) for each in tables.findings], [("row_too_short", 2)])

    def test_parallel_arrays_are_columns_of_one_table(self):
        layout = """
            [tables.tides]
            parallel = ["$.tide.time[*]", "$.tide.level[*]"]
            [tables.tides.columns]
            gauge = { path = "$.gauge", type = "text" }
            time = { path = "@.time", type = "time" }
            level = { path = "@.level", type = "decimal(3,1)" }
        """
        documents = [
            {"gauge": "g", "tide": {"time": ["10:00", "11:00"], "level": [1.5, 2]}},
            {"gauge": "h", "tide": {"time": ["12:00"], "level": [3, 4]}},
        ]
        rows, tables = laid(layout, documents)
        wanted = [
            ("g", "10:00:00", "1.5"),
            ("g", "11:00:00", "2.0"),
            ("h", "12:00:00", "3.0"),
            ("h", None, "4.0"),
        ]
        self.assertEqual([row[1:] for row in rows["tides"]], wanted)
        self.assertEqual([(each.code, each.count) for each in tables.findings], [("unequal_lengths", 1)])

    def test_rows_that_stand_in_each_other_go_together(self):
        layout = (
            TOP
            + """
            n = { value = "count(holds)" }
            [structure]
            again = { "$.holds[*].holds" = "$.holds" }
            [tables.holds]
            rows = "$.holds[*]"
            keep = "n != 2"
            [tables.holds.columns]
            n = { path = "@.n", type = "integer" }
            depth = { origin = "depth" }
        """
        )
        documents = [
            {"id": 1, "holds": [{"n": 1, "holds": [{"n": 2, "holds": [{"n": 3}]}, {"n": 4}]}]},
            {"holds": {"n": 5}},
        ]
        rows, tables = laid(layout, documents)
        self.assertEqual([row[2] for row in rows["calls"]], [2, 1])
        self.assertEqual(rows["holds"], [(1, 1, None, 1, 1, 1), (2, 1, 1, 2, 4, 2), (3, 2, None, 0, 5, 1)])
        self.assertEqual(tables.filtered, {"holds": 2})


TYPES = [
    ("integer", "", ["7", 7, 7.0, "007", "x", 7.5, 2**63, True], [7, 7, 7, 7, None, None, None, None]),
    ("decimal(5,2)", "", ["1.10", 1.1, "1e2", "1.005", 1000, "", -1], ["1.10", "1.10", "100.00", None, None, None, "-1.00"]),
    ("decimal(9,2)", 'decimal = ",", grouping = "."', ["1.234,50", "1,5", "12", "1.5"], ["1234.50", "1.50", "12.00", None]),
    ("double", "", ["1.5", 1, "1e400", "nan", 2**60], [1.5, 1.0, None, None, None]),
    ("boolean", "", ["true", True, "no", 1], [True, True, None, None]),
    ("boolean", 'words = ["J", "N"]', ["J", "N", True, "j"], [True, False, True, None]),
    ("boolean", 'words = ["1", "0"]', [1, 0, "1", 2], [True, False, True, None]),
    ("date", "", ["2026-02-28", "2026-02-29", "28/02/2026"], ["2026-02-28", None, None]),
    ("date", 'format = "%d/%m/%Y"', ["28/02/2026", "29/02/2026", "1/2/2026", "28/02/26"], ["2026-02-28", None, "2026-02-01", None]),
    ("date", 'format = "%d %b %y"', ["28 Feb 26", "28 Fev 26"], ["2026-02-28", None]),
    ("time", 'format = "%H%M"', ["0930", "2460"], ["09:30:00", None]),
    ("time", "", ["09:30", "09:30:15", "09:30:15.5"], ["09:30:00", "09:30:15", None]),
    ("timestamp", "", ["2026-01-01T09:30:00", "2026-01-01 09:30", "2026-01-01T09:30:00Z"], ["2026-01-01 09:30:00", "2026-01-01 09:30:00", None]),
    ("timestamp(3)", "", ["2026-01-01T09:30:00.125", "2026-01-01T09:30:00.1250"], ["2026-01-01 09:30:00.125000"] * 2),
    ("timestamp_tz", "", ["2026-01-01T09:30:00+01:00", "2026-01-01T09:30:00"], ["2026-01-01 08:30:00+00:00", None]),
    ("timestamp_tz", 'zone = "+02:00"', ["2026-01-01T09:30:00", "2026-01-01T09:30:00Z"], ["2026-01-01 07:30:00+00:00", "2026-01-01 09:30:00+00:00"]),
    ("timestamp_tz", 'format = "%d/%m/%Y %H:%M", zone = "Etc/GMT-1"', ["01/02/2026 00:30"], ["2026-01-31 23:30:00+00:00"]),
    ("timestamp", 'unit = "s"', [1767225600, "1767225600", 1767225600.5, "x"], ["2026-01-01 00:00:00"] * 2 + [None, None]),
    ("timestamp(1)", 'unit = "s"', [1767225600.5, 1767225600.25], ["2026-01-01 00:00:00.500000", None]),
    ("timestamp_tz", 'unit = "ms"', [1767225600000, 2**62], ["2026-01-01 00:00:00+00:00", None]),
    ("date", 'unit = "s"', [1767225600, -1], ["2026-01-01", "1969-12-31"]),
    ("uuid", "", ["0190163d-8694-739b-aea5-966c26f8ad91", "0190163d"], ["0190163d-8694-739b-aea5-966c26f8ad91", None]),
    ("text", "", ["x", 1, 1.50, True, None], ["x", "1", "1.5", "true", None]),
]  # fmt: skip
CLEANING = [
    ("trim = true", [" a ", "b"], ["a", "b"]),
    ('case = "upper"', ["aé", None], ["AÉ", None]),
    ('trim = true, case = "lower", nulls = ["-", "n/a"]', ["N/A", " - ", "X "], ["n/a", None, "x"]),
    ('replace = { "007" = "N7" }, default = "?"', ["007", "7", None], ["N7", "7", "?"]),
    ('mask = "constant"', ["a", None], ["***", None]),
    ('mask = "constant", mask_text = "hidden"', ["a"], ["hidden"]),
    ('replace = { "1" = "one" }', [1, "1", 2], ["one", "one", "2"]),
]
CONDITIONS = [
    ('type = "text", required = true', ["a", None], "required"),
    ('type = "text", required = true, nulls = [""]', ["a", ""], "required"),
    ('type = "text", allowed = ["a", "b"]', ["a", "c"], "allowed"),
    ('type = "integer", allowed = [1, 2]', [1, 3], "allowed"),
    ('type = "decimal(4,1)", least = 0, most = 12.5', [12.5, 12.6], "range"),
    ('type = "decimal(4,1)", least = 0', [0, -0.1], "range"),
    ('type = "date", most = "2026-12-31"', ["2026-12-31", "2027-01-01"], "range"),
    ('type = "date", least = 2026-01-01', ["2026-01-01", "2025-12-31"], "range"),
    ('type = "text", pattern = "[A-Z]{3}[0-9]+"', ["BRW1", "xBRW1"], "pattern"),
    ('type = "text", pattern = "a.c^"', ["abc^", "abc"], "pattern"),
    ('type = "text", unique = true', ["a", "a"], "unique"),
]


def one_column(keys):
    return f'[tables.r]\nrows = "$"\n[tables.r.columns]\nv = {{ path = "$.v", {keys} }}'


class ColumnTest(unittest.TestCase):
    def test_types_are_set_by_hand_and_what_does_not_fit_is_rejected(self):
        for kind, keys, values, wanted in TYPES:
            with self.subTest(type=kind, keys=keys):
                layout = one_column(f'type = "{kind}"' + (f", {keys}" if keys else ""))
                rows, tables = laid(layout, [{"v": value} for value in values])
                self.assertEqual([row[1] for row in rows["r"]], wanted)
                misfits = sum(w is None and v is not None for v, w in zip(values, wanted, strict=True))
                self.assertEqual(sum(each.count for each in tables.findings), misfits)
                self.assertEqual(len(tables.rejects), misfits)

    def test_a_misfit_does_what_the_layout_says(self):
        documents = [{"v": 1, "w": [1]}, {"v": "x", "w": [2]}, {"v": 3, "w": [3]}]
        below = '\n[tables.w]\nrows = "$.w[*]"\n[tables.w.columns]\nw = { path = "@", type = "integer" }'
        cases = [
            ("value", [1, None, 3], [1, 2, 3]),
            ("note", [1, None, 3], [1, 2, 3]),
            ("record", [1, 3], [1, 3]),
        ]
        for misfit, wanted, wanted_below in cases:
            with self.subTest(misfit=misfit):
                rows, tables = laid(one_column(f'type = "integer", misfit = "{misfit}"') + below, documents)
                self.assertEqual([row[1] for row in rows["r"]], wanted)
                self.assertEqual([row[3] for row in rows["w"]], wanted_below)
                self.assertEqual([each.outcome for each in tables.findings], [misfit])
                self.assertEqual([each.line for each in tables.rejects], [] if misfit == "note" else [2])
        with self.assertRaisesRegex(
            tessaron.DataError, "line 2.*expected integer, got 'x'; the layout says to stop"
        ):
            laid(one_column('type = "integer", misfit = "stop"'), documents)

    def test_columns_of_one_path_have_policies_of_their_own(self):
        layout = (
            one_column('type = "integer", misfit = "note"')
            + '\nw = { path = "$.v", type = "integer", misfit = "record" }'
        )
        rows, tables = laid(layout, [{"v": 1}, {"v": "x"}])
        self.assertEqual(rows["r"], [(1, 1, 1)])
        self.assertEqual(
            {each.name: each.outcome for each in tables.findings}, {"r.v": "note", "r.w": "record"}
        )

    def test_values_that_a_position_does_not_name_are_no_misfits(self):
        layout = '[tables.r]\nrows = "$"\n[tables.r.columns]\nv = { path = "$.v[0]", type = "integer" }'
        rows, tables = laid(layout, [{"v": [1, "x"]}, {"v": ["y", 2]}])
        self.assertEqual([row[1] for row in rows["r"]], [1, None])
        self.assertEqual([(each.code, each.count) for each in tables.findings], [("misfit", 1)])

    def test_texts_are_cleaned_before_they_are_read(self):
        for keys, values, wanted in CLEANING:
            with self.subTest(keys=keys):
                rows, _ = laid(one_column(f'type = "text", {keys}'), [{"v": value} for value in values])
                self.assertEqual([row[1] for row in rows["r"]], wanted)

    def test_conditions_reject_note_or_stop(self):
        for keys, (good, bad), code in CONDITIONS:
            documents = [{"v": good}, {"v": bad}]
            with self.subTest(keys=keys):
                rows, tables = laid(one_column(keys), documents)
                self.assertEqual(len(rows["r"]), 1)
                self.assertEqual([(each.code, each.outcome) for each in tables.findings], [(code, "record")])
                rows, tables = laid(one_column(keys + ', failed = "note"'), documents)
                self.assertEqual(len(rows["r"]), 2)
                self.assertEqual([(each.code, each.outcome) for each in tables.findings], [(code, "note")])
                with self.assertRaisesRegex(tessaron.DataError, "the layout says to stop"):
                    laid(one_column(keys + ', failed = "stop"'), documents)

    def test_what_a_filter_takes_away_breaks_no_condition(self):
        layout = one_column('type = "integer", required = true').replace(
            "[tables.r.columns]", 'keep = "k"\n[tables.r.columns]\nk = { path = "$.k", type = "boolean" }'
        )
        rows, tables = laid(layout, [{"k": True, "v": 1}, {"k": False}, {"k": False, "v": "x"}])
        self.assertEqual(
            ([row[2] for row in rows["r"]], tables.findings, tables.filtered), ([1], (), {"r": 2})
        )

    def test_masks_hide_values_and_keep_joins(self):
        layout = (
            one_column('type = "text", mask = "digest"')
            + '\nw = { path = "$.w", type = "text", mask = "digest" }\nx = { path = "$.w", type = "text", mask = "drop" }'
        )
        documents = [{"v": "ann", "w": "bob"}, {"v": "bob", "w": "x" * 300}, {"v": None}]
        with mock.patch.dict(os.environ, {"TESSARON_MASK_KEY": "one"}):
            rows, tables = laid(layout, documents)
        with mock.patch.dict(os.environ, {"TESSARON_MASK_KEY": "two"}):
            other, _ = laid(layout, documents)
        self.assertEqual(tables["r"].column_names, ["row_key", "v", "w"])
        self.assertEqual(rows["r"][0][2], rows["r"][1][1])
        self.assertRegex(rows["r"][0][1], "^[0-9a-f]{32}$")
        self.assertNotEqual(rows["r"][0][1], other["r"][0][1])
        self.assertIsNone(rows["r"][2][1])
        with (
            mock.patch.dict(os.environ, clear=True),
            self.assertRaisesRegex(tessaron.UsageError, "set TESSARON_MASK_KEY"),
        ):
            laid(layout, documents)

    def test_masked_values_are_not_told_in_rejects(self):
        _, tables = laid(one_column('type = "text", mask = "constant", allowed = ["a"]'), [{"v": "secret"}])
        self.assertNotIn("secret", tables.rejects[0].message)


class RunTest(FolderTest):
    def documents(self):
        return [
            {"id": n, "d": f"{n % 7}.5", "s": [{"m": [{"t": n % 5, "k": "x" if n % 3 else "y"}] * (n % 4)}] * (n % 3), "skip": {"a": [n] * 3}}
            for n in range(3000)
        ]  # fmt: skip

    LAYOUT = """
        [tables.r]
        rows = "$"
        keep = "id % 10 != 3"
        [tables.r.columns]
        id = { path = "$.id", type = "integer", unique = true }
        d = { path = "$.d", type = "decimal(3,1)" }
        t = { value = "sum(m.t)" }
        all = { path = "$.s", type = "json" }
        [tables.m]
        rows = "$.s[*].m[*]"
        keep = "k == 'x'"
        [tables.m.columns]
        t = { path = "@.t", type = "integer", most = 3, failed = "note" }
        k = { path = "@.k", type = "text" }
    """

    def test_neither_kernel_nor_chunks_nor_workers_change_anything(self):
        source = self.write("r.ndjson", "\n".join(map(json.dumps, self.documents())))
        layout = tessaron.Layout(self.LAYOUT)
        whole = tessaron.shred(source, layout=layout, workers=1)
        ways = [{"kernel": "python", "workers": 1}, {"chunk_bytes": 2000, "workers": 1}, {"workers": 2}]
        with mock.patch("tessaron.engine.pool.PARALLEL_BYTES", 1000):
            for options in ways:
                with self.subTest(**options):
                    other = tessaron.shred(source, layout=layout, **options)
                    self.assertEqual([other[name].equals(whole[name]) for name in whole], [True, True])
                    self.assertEqual(other.filtered, whole.filtered)
                    self.assertEqual(
                        [each.count for each in other.findings], [each.count for each in whole.findings]
                    )

    def test_the_receipt_adds_up_and_lists_what_is_left_out(self):
        source = self.write("r.ndjson", "\n".join(map(json.dumps, self.documents())))
        layout = tessaron.Layout(self.LAYOUT).set_column("r", "nowhere", path="$.nowhere", type="text")
        receipt = tessaron.export(source, self.folder / "out", layout=layout)
        documents = self.documents()
        kept = [each for each in documents if each["id"] % 10 != 3]
        moves = [move for each in documents for stay in each["s"] for move in stay["m"]]
        self.assertEqual(receipt.records, 3000)
        self.assertEqual(receipt.tables[0].rows + receipt.filtered["r"], 3000)
        self.assertEqual(receipt.tables[0].rows, len(kept))
        self.assertEqual(receipt.tables[1].rows + receipt.filtered["m"], len(moves))
        self.assertEqual({each.path: each.values for each in receipt.left_out}, {"$.skip": 3000})
        self.assertEqual(receipt.unmet, ("r.nowhere: $.nowhere",))
        self.assertTrue(receipt.passed)
        self.assertEqual((self.folder / "out" / "layout.toml").read_text(), layout.text)

    def test_repeats_of_a_unique_value_are_rejected_over_chunks_with_their_rows_below(self):
        records = [{"id": n % 5, "m": [n, n]} for n in range(12)]
        source = self.write("r.ndjson", "\n".join(map(json.dumps, records)))
        layout = tessaron.Layout("""
            [tables.r]
            rows = "$"
            [tables.r.columns]
            id = { path = "$.id", type = "integer", unique = true }
            [tables.m]
            rows = "$.m[*]"
            [tables.m.columns]
            n = { path = "@", type = "integer" }
        """)
        tables = tessaron.shred(source, layout=layout, chunk_bytes=50, workers=1)
        self.assertEqual(tables["r"]["id"].to_pylist(), [0, 1, 2, 3, 4])
        self.assertEqual([reject.record for reject in tables.rejects], list(range(6, 13)))
        self.assertEqual(tables["m"]["n"].to_pylist(), [n for n in range(5) for _ in range(2)])
        self.assertEqual(tables["m"]["parent_key"].to_pylist(), [n for n in range(1, 6) for _ in range(2)])
        self.assertEqual(tables["r"]["row_key"].to_pylist(), [1, 2, 3, 4, 5])

    def test_records_come_from_any_path_and_envelopes_keep_their_fields(self):
        document = {"port": "BRW", "calls": [{"id": 1, "ok": True}, {"id": 2}, {"id": 3, "ok": True}]}
        source = self.write("d.json", json.dumps(document))
        cases = [
            ("$.calls[*]", [1, 2, 3]),
            ("$.calls[?@.ok == true]", [1, 3]),
            ("$.calls[0:2]", [1, 2]),
            ("$..[?@.id > 1]", [2, 3]),
        ]
        for path, wanted in cases:
            with self.subTest(path=path):
                layout = tessaron.Layout(f'[reading]\nrecords = "{path}"\n' + TOP)
                self.assertEqual(tessaron.shred(source, layout=layout)["calls"]["id"].to_pylist(), wanted)
        layout = tessaron.Layout(
            '[reading]\nrecords = "$.calls[*]"\n' + TOP + 'document_key = { origin = "document_key" }\n'
            'line = { origin = "origin_line" }\n'
            '[tables.docs]\naround = true\nrows = "$"\n[tables.docs.columns]\nport = { path = "$.port", type = "text" }'
        )
        tables = tessaron.shred(source, layout=layout)
        self.assertEqual(tables["docs"].to_pylist(), [{"row_key": 1, "port": "BRW"}])
        self.assertEqual(tables["calls"]["document_key"].to_pylist(), [1, 1, 1])
        self.assertEqual(tables["calls"]["line"].to_pylist(), [1, 1, 1])

    def test_python_objects_go_through_a_layout_too(self):
        rows = tessaron.shred(({"id": n, "x": n} for n in range(3)), layout=tessaron.Layout(TOP))
        self.assertEqual(rows["calls"]["id"].to_pylist(), [0, 1, 2])


NAMES = st.sampled_from(["a", "b", "c"])
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.sampled_from(["t", "2026-01-01", "7", 1.5]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(NAMES, inner, min_size=1, max_size=3),
    max_leaves=10,
)
EDITS = [
    {"type": "integer"}, {"type": "integer", "misfit": "record"}, {"type": "date", "misfit": "note"},
    {"type": "text", "required": True, "failed": "note"}, {"type": "text", "required": True},
    {"type": "text", "default": "?"}, {"type": "json"}, {"type": "boolean"}, {"type": "text", "unique": True},
]  # fmt: skip


class AnyLayoutTest(unittest.TestCase):
    @settings(max_examples=36, deadline=None)
    @given(st.lists(st.dictionaries(NAMES, VALUES, min_size=1), min_size=1, max_size=5), st.data())
    def test_what_is_written_filtered_and_rejected_is_all_there_is(self, documents, data):
        layout = tessaron.draft(documents, workers=1)
        plain = tessaron.shred(documents, layout=layout)
        places = [(table, column) for table in layout.tables for column in layout.columns(table)]
        chosen = data.draw(st.lists(st.sampled_from(places), max_size=3, unique=True)) if places else []
        for table, column in chosen:
            if "path" in layout.columns(table)[column]:
                layout = layout.set_column(table, column, **data.draw(st.sampled_from(EDITS)))
        for table, column in data.draw(st.lists(st.sampled_from(places), max_size=2)) if places else []:
            layout = layout.set_table(table, keep=f'"{column}" is not null')
        tables = tessaron.shred(documents, layout=layout)
        records = {reject.record for reject in tables.rejects if reject.rejected == "record"}
        self.assertEqual(tables.record_count + len(records), len(documents))
        for name in tables:
            there = tables[name].num_rows + tables.filtered.get(name, 0)
            self.assertLessEqual(
                there if records else -there, plain[name].num_rows if records else -plain[name].num_rows
            )
            own = tables[name]["row_key"].to_pylist()
            self.assertEqual(own, list(range(1, len(own) + 1)))
            parent = tables.parent(name)
            if parent is not None:
                self.assertLessEqual(
                    set(tables[name]["parent_key"].to_pylist()), set(tables[parent]["row_key"].to_pylist())
                )


if __name__ == "__main__":
    unittest.main()
