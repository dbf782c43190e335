"""Expressions: against the answers of a SQL engine, on null logic, folds, and mistakes."""

import datetime
import json
import sqlite3
import unittest
from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron

CALLS = [
    {"a": 1, "b": 2, "d": 1.5, "t": "open", "flag": True, "day": "2026-01-31", "at": "2026-01-31T10:30:00"},
    {"a": None, "b": 3, "d": None, "t": None, "flag": False, "day": None, "at": None},
    {
        "a": -7,
        "b": 2,
        "d": -2.25,
        "t": " Closed ",
        "flag": None,
        "day": "2026-03-01",
        "at": "2026-03-01T00:00:00",
    },
    {"a": 10, "b": 0, "d": 9999.99, "t": "x", "flag": True, "day": "2024-02-29", "at": "2024-02-29T23:59:59"},
]
MOVES = [
    [
        {"teu": 1, "w": 1.5, "kind": "load"},
        {"teu": 2, "w": 2.5, "kind": "discharge"},
        {"w": None, "kind": "load"},
    ],
    [],
    [{"teu": 4, "w": 3.0, "kind": None}],
    [{"teu": 5, "w": 4.5, "kind": "load"}],
]
LAYOUT = """
[tables.calls]
rows = "$"
[tables.calls.columns]
a = { path = "$.a", type = "integer" }
b = { path = "$.b", type = "integer" }
d = { path = "$.d", type = "decimal(6,2)" }
t = { path = "$.t", type = "text" }
flag = { path = "$.flag", type = "boolean" }
day = { path = "$.day", type = "date" }
at = { path = "$.at", type = "timestamp" }
[tables.moves]
rows = "$.moves[*]"
[tables.moves.columns]
teu = { path = "@.teu", type = "integer" }
w = { path = "@.w", type = "decimal(4,1)" }
kind = { path = "@.kind", type = "text" }
"""


def worked_out(*expressions):
    """Return for each expression its values on CALLS, as plain Python."""
    layout = tessaron.Layout(LAYOUT)
    for number, text in enumerate(expressions):
        layout = layout.set_column("calls", f"x{number}", value=text)
    records = [{**call, "moves": moves} for call, moves in zip(CALLS, MOVES, strict=True)]
    tables = tessaron.shred("\n".join(map(json.dumps, records)).encode(), layout=layout)
    return [tables["calls"][f"x{number}"].to_pylist() for number in range(len(expressions))], tables


def sql_engine():
    engine = sqlite3.connect(":memory:")
    engine.execute("create table calls (id, a, b, d, t, flag)")
    engine.execute("create table moves (id, teu, w, kind)")
    for number, call in enumerate(CALLS):
        engine.execute(
            "insert into calls values (?,?,?,?,?,?)",
            [number, *(call[k] for k in ("a", "b", "d", "t", "flag"))],
        )
        for move in MOVES[number]:
            engine.execute(
                "insert into moves values (?,?,?,?)", [number, *(move.get(k) for k in ("teu", "w", "kind"))]
            )
    return engine


SAME_IN_SQL = """
a + b
a - b * 2
a / b
a % b
-a
a * a + b
(a + b) * 2
a == 1 or b > 2
a <> 1 and not b < 3
flag and a > 0
flag or a > 0
not flag
a in (1, 10)
a in (1, null)
a not in (1, 10)
a not in (1, null)
a is null
t is not null and a is not null
a between 1 and 10
a not between 1 and 10
t || '!'
upper(t)
trim(t) == 'open'
length(t)
replace(t, 'o', '00')
coalesce(a, b, 0)
coalesce(t, 'none') || '.'
abs(a)
a = null
'it''s' || t
""".strip().splitlines()
PAIRS = [
    ("if a > 0 then 'more' else 'less'", "case when a > 0 then 'more' else 'less' end"),
    ("if a > 0 then 1 else if a < 0 then -1", "case when a > 0 then 1 when a < 0 then -1 end"),
    ("null_if(a, 10)", "nullif(a, 10)"),
    ("part(t, 2, 3)", "substr(t, 2, 3)"),
    ("part(t, 2)", "substr(t, 2)"),
    ("cast(d as integer)", "cast(round(d) as integer)"),
    ("contains(t, 'o')", "instr(t, 'o') > 0"),
    ("starts(t, 'o')", "substr(t, 1, 1) = 'o'"),
    ("least(a, b, 3)", "case when a is null then min(b, 3) else min(a, b, 3) end"),
    ("sum(moves.teu)", "(select sum(teu) from moves where moves.id = calls.id)"),
    ("count(moves)", "(select count(*) from moves where moves.id = calls.id)"),
    ("count(moves.teu)", "(select count(teu) from moves where moves.id = calls.id)"),
    ("count_distinct(moves.kind)", "(select count(distinct kind) from moves where moves.id = calls.id)"),
    ("least(moves.teu)", "(select min(teu) from moves where moves.id = calls.id)"),
    ("most(moves.kind)", "(select max(kind) from moves where moves.id = calls.id)"),
    ("sum(moves.teu * b)", "(select sum(teu * calls.b) from moves where moves.id = calls.id)"),
    ("sum(moves.teu where moves.kind == 'load')", "(select sum(teu) from moves where moves.id = calls.id and kind = 'load')"),
    ("any(moves.teu > 3)", "(case when exists (select 1 from moves where moves.id = calls.id and teu > 3) then 1 else 0 end)"),
    ("sum(moves.teu) + a", "(select sum(teu) from moves where moves.id = calls.id) + a"),
]  # fmt: skip
FOUND_BY_HAND = [
    ("d * 2", [Decimal("3.00"), None, Decimal("-4.50"), Decimal("19999.98")]),
    ("d / 3", [Decimal("0.500000"), None, Decimal("-0.750000"), Decimal("3333.330000")]),
    ("d % 2", [Decimal("1.50"), None, Decimal("-0.25"), Decimal("1.99")]),
    ("1 / 3.0", [Decimal("0.333333")] * 4),
    ("round(d, 1)", [Decimal("1.5"), None, Decimal("-2.3"), Decimal("10000.0")]),
    ("round(d)", [2, None, -2, 10000]),
    ("floor(d)", [1, None, -3, 9999]),
    ("ceil(d)", [2, None, -2, 10000]),
    ("mean(moves.teu)", [Decimal("1.500000"), None, Decimal("4.000000"), Decimal("5.000000")]),
    ("sum(moves.w)", [Decimal("4.0"), None, Decimal("3.0"), Decimal("4.5")]),
    ("first(moves.kind)", ["load", None, None, "load"]),
    ("last(moves.teu)", [None, None, 4, 5]),
    ("nth(moves.teu, 2)", [2, None, None, None]),
    ("nth(moves.teu, -1)", [None, None, 4, 5]),
    ("all(moves.teu > 0)", [True, True, True, True]),
    ("joined(moves.kind, '/')", ["load/discharge/load", None, None, "load"]),
    ("year(day)", [2026, None, 2026, 2024]),
    ("month_name(day)", ["January", None, "March", "February"]),
    ("quarter(day) * 100 + week(day)", [105, None, 109, 109]),
    ("weekday(day)", [6, None, 7, 4]),
    ("weekday_name(at)", ["Saturday", None, "Sunday", "Thursday"]),
    ("hour(at) * 10000 + minute(at) * 100 + second(at)", [103000, None, 0, 235959]),
    ("day - date '2026-01-01'", [30, None, 59, -672]),
    ("day + 1", [datetime.date(2026, 2, 1), None, datetime.date(2026, 3, 2), datetime.date(2024, 3, 1)]),
    ("day >= '2026-02-01'", [False, None, True, False]),
    ("at < day", [False, None, False, False]),
    ("hours_from(at, timestamp '2026-02-01 00:00:00')", [Decimal("13.5"), None, -672, Decimal("16848.000278")]),
    ("days_from(day, date '2026-03-01')", [29, None, 0, 731]),
    ("minutes_from(day, day + 1)", [1440, None, 1440, 1440]),
    ("cast('31/01/2026' as date format '%d/%m/%Y')", [datetime.date(2026, 1, 31)] * 4),
    ("cast(at as date) == day", [True, None, True, True]),
    ("cast(a as text) || '-' || cast(d as text)", ["1-1.50", None, "-7--2.25", "10-9999.99"]),
    ("cast(flag as integer)", [1, 0, None, 1]),
    ("join('-', t, 'x')", ["open-x", "x", " Closed -x", "x-x"]),
    ("matches(t, 'o[a-z]{3}')", [True, None, False, False]),
    ("matches(t, '.')", [False, None, False, True]),
    ("ends(t, 'n')", [True, None, False, False]),
    ("if b != 0 then a / b else 0", [0, None, -3, 0]),
    ("abs(null)", [None] * 4),
    ("null and a > 0", [None, None, False, None]),
    ("not null_if(null, 1)", [None] * 4),
    ("ceil(null) + 1", [None] * 4),
    ("b != 0 and a / b > 1", [False, None, False, False]),
    ("most(a, b, 5)", [5, 5, 5, 10]),
    ("lower(trim(t))", ["open", None, "closed", "x"]),
]  # fmt: skip
MISTAKES = [
    ("day > '2026-13-01'", "expected a date such as 2026-01-31, got '2026-13-01' (character 5"),
    ("day in ('2026-02-30')", "got '2026-02-30'"),
    ("date '2026-02-30' > day", "expected a date such as"),
    ("at between '2026-02-01' and 'soon'", "expected a timestamp such as 2026-01-31 10:30:00, got 'soon'"),
    ("time '25:00' is null", "expected a time such as 10:30:00"),
    ("1 - day", "expected number, got date"),
    ("t == 1", "text cannot be compared with integer (character 3"),
    ("sm(moves.teu)", "no function 'sm'; did you mean sum? (character 1"),
    ("sum(teu)", "did you mean sum(moves.teu)? (character 5"),
    ("sum(move.teu)", "no table 'move'; did you mean moves? (character 5"),
    ("moves.teu", "moves has many rows for one of calls"),
    ("dya", "no column 'dya' in calls; did you mean day?"),
    ("a +", "got the end (character 4"),
    ("a b", "expected an operator or the end, got 'b' (character 3"),
    ("'abc", "a text is not closed"),
    ("year(a)", "expected date or timestamp or timestamp_tz, got integer (character 6"),
    ("round(d, b)", "written out (character 10"),
    ("if a then 1 else 2", "expected boolean, got integer (character 4"),
    ("if flag then 1 else 'x'", "expected one type for all"),
    ("sum(moves.kind)", "sum cannot be made of text"),
    ("count(calls)", "calls is not below calls"),
    ("cast(a as foo)", "expected a type, got 'foo'"),
    ("cast(day as integer)", "date cannot become integer"),
    ("(a", "to close the bracket"),
    ("at - at", "say in which unit"),
    ("nth(moves.teu, 0)", "nth takes a position"),
    ("a where b", "expected an operator"),
    ("upper(t where a > 1)", "'where' is for folds"),
    ("length(t, t)", "length takes 1 argument, got 2"),
    ("a ? b", "'?' has no meaning here (character 3"),
    ("matches(t, '(')", "is no regular expression"),
    ("x0", "worked out from itself"),
    ("and", "expected a column, value or function"),
    ("(" * 300 + "1" + ")" * 300, "nested deeper"),
]


class SqlTest(unittest.TestCase):
    def test_answers_are_those_of_a_sql_engine(self):
        pairs = [(text, text.replace("==", "=")) for text in SAME_IN_SQL] + PAIRS
        found, _ = worked_out(*(ours for ours, _ in pairs))
        engine = sql_engine()
        for (ours, sql), values in zip(pairs, found, strict=True):
            with self.subTest(expression=ours):
                wanted = [row[0] for row in engine.execute(f"select {sql} from calls order by id")]
                self.assertEqual(values, wanted)

    @settings(max_examples=15, deadline=None)
    @given(st.data())
    def test_any_tree_of_operators_agrees(self, data):
        texts = [data.draw(conditions(3)) for _ in range(6)]
        found, _ = worked_out(*texts)
        engine = sql_engine()
        for text, values in zip(texts, found, strict=True):
            wanted = [
                row[0] for row in engine.execute(f"select {text.replace('==', '=')} from calls order by id")
            ]
            self.assertEqual(values, [None if value is None else bool(value) for value in wanted], text)


def numbers(depth):
    leaf = st.sampled_from(["a", "b", "3", "0", "-2", "null"])
    if not depth:
        return leaf
    inner = numbers(depth - 1)
    return leaf | st.builds("({} {} {})".format, inner, st.sampled_from("+-*/%"), inner)


def conditions(depth):
    number = numbers(depth - 1)
    leaf = st.builds("({} {} {})".format, number, st.sampled_from(["==", "!=", "<", "<=", ">", ">="]), number)
    leaf |= st.builds("({} is {}null)".format, number, st.sampled_from(["", "not "]))
    leaf |= st.builds("({} {}in ({}, {}))".format, number, st.sampled_from(["", "not "]), number, number)
    if depth <= 1:
        return leaf
    inner = conditions(depth - 1)
    return (
        leaf
        | st.builds("({} {} {})".format, inner, st.sampled_from(["and", "or"]), inner)
        | st.builds("(not {})".format, inner)
    )


MOST, LEAST = 2**63 - 1, -(2**63)
DIGITS_38 = Decimal(10**38 - 1)
ON_OTHER_VALUES = [
    # expression, type of a, its values, results, rejects by code
    ("join(',', a, null)", "text", [None, "x"], [None, "x"], {}),
    ("join('', a, a)", "text", ["é", None], ["éé", None], {}),
    ("round(a, -19)", "integer", [MOST, 5, LEAST, None], [None, 0, None, None], {"overflow": 2}),
    ("round(a, -18)", "integer", [MOST, 5], [9 * 10**18, 0], {}),
    ("round(a, -30)", "integer", [MOST], [0], {}),
    ("round(a, 3)", "integer", [MOST], [MOST], {}),
    ("round(a, 400)", "double", [1.5, 1e308], [1.5, 1e308], {}),
    ("round(a, -400)", "double", [1.5, 1e308], [0.0, 0.0], {}),
    ("round(a, 20)", "double", [1e300, 0.125], [1e300, 0.125], {}),
    ("round(a, -1)", "decimal(38,0)", [DIGITS_38, 12], [None, Decimal(10)], {"overflow": 1}),
    ("round(99999999999999999999999999999999999999, -1)", "integer", [1], [None], {"overflow": 1}),
    ("abs(a)", "integer", [LEAST, -3], [None, 3], {"overflow": 1}),
    ("-a", "integer", [LEAST, -3], [None, 3], {"overflow": 1}),
    ("a * a", "double", [1e300, 2.0], [None, 4.0], {"overflow": 1}),
    ("a * a - a * a", "double", [1e300, 2.0], [None, 0.0], {"overflow": 1}),
    ("a / (a - a)", "double", [2.0], [None], {"division_by_zero": 1}),
    ("cast(1e37 as decimal(38,0))", "integer", [1], [Decimal(10**37)], {}),
    ("cast(a as decimal(38,0))", "double", [1e37, 1e38, 0.5, -0.5, 1e-30], [10**37, None, 1, -1, 0], {"not_convertible": 1}),
    ("cast(a as decimal(38,30))", "double", [1e-20], [Decimal("1E-20")], {}),
    ("cast(a as integer)", "double", [1e18, 1e19, 2.5], [10**18, None, 3], {"not_convertible": 1}),
    ("1 + a", "date", ["2026-01-31"], [datetime.date(2026, 2, 1)], {}),
    ("a >= '2026-01-01'", "timestamp_tz", ["2026-01-01T00:00:00Z", "2026-01-01T00:00:00+01:00"], [True, False], {}),
    ("a <= '2026-01-01T00:00:00.5'", "timestamp", ["2026-01-01T00:00:00"], [True], {}),
]  # fmt: skip


class OwnRulesTest(unittest.TestCase):
    def test_at_the_ends_of_types(self):
        for text, kind, given_values, wanted, rejects in ON_OTHER_VALUES:
            layout = tessaron.Layout(
                '[tables.t]\nrows = "$"\n[tables.t.columns]\n'
                f'a = {{ path = "$.a", type = "{kind}" }}\nr = {{ value = "{text}" }}\n'
            )
            with self.subTest(expression=text, type=kind):
                tables = tessaron.shred([{"a": each} for each in given_values], layout=layout)
                self.assertEqual(tables["t"]["r"].to_pylist(), wanted)
                self.assertEqual({each.code: each.count for each in tables.findings}, rejects)

    def test_folds_leave_nulls_out_and_end_where_doubles_do(self):
        layout = '[tables.c]\nrows = "$"\n[tables.c.columns]\nr = {{ value = "{}" }}\n' + (
            '[tables.m]\nrows = "$.m[*]"\n[tables.m.columns]\n'
            'b = { path = "@.b", type = "boolean" }\nx = { path = "@.x", type = "double" }\n'
        ).replace("{", "{{").replace("}", "}}")
        records = [
            {"m": [{"b": None}, {"b": True}]}, {"m": [{"b": None}, {"b": False}]}, {"m": [{"b": None}]}, {"m": []},
            {"m": [{"x": 1e308}, {"x": 1e308}]},
        ]  # fmt: skip
        for text, wanted in (
            ("any(m.b)", [True, False, False, False, False]),
            ("all(m.b)", [True, False, True, True, True]),
            ("sum(m.x)", [None] * 5),
            ("mean(m.x)", [None, None, None, None, 1e308]),
        ):
            with self.subTest(text):
                tables = tessaron.shred(records, layout=tessaron.Layout(layout.format(text)))
                self.assertEqual(tables["c"]["r"].to_pylist(), wanted)

    def test_values_are_those_found_by_hand(self):
        found, _ = worked_out(*(text for text, _ in FOUND_BY_HAND))
        for (text, wanted), values in zip(FOUND_BY_HAND, found, strict=True):
            with self.subTest(expression=text):
                self.assertEqual(values, wanted)

    def test_what_has_no_result_is_null_and_counted(self):
        cases = [
            ("a / b", "division_by_zero", [0, None, -3, None], 1),
            ("a % b", "division_by_zero", [1, None, -1, None], 1),
            ("a * 9223372036854775807", "overflow", [2**63 - 1, None, None, None], 2),
            ("sum(moves.teu * 9223372036854775807)", "overflow", [2**63 - 1, None, None, None], 3),
            ("day + 9223372036854775807", "overflow", [None] * 4, 3),
            ("cast(t as integer)", "not_convertible", [None] * 4, 3),
            ("cast(d as decimal(3,1))", "not_convertible", [Decimal("1.5"), None, Decimal("-2.3"), None], 1),
        ]
        for text, code, wanted, count in cases:
            with self.subTest(expression=text):
                (values,), tables = worked_out(text)
                self.assertEqual(values, wanted)
                self.assertEqual([(each.code, each.count) for each in tables.findings], [(code, count)])

    def test_mistakes_name_the_character_and_what_would_be_right(self):
        for text, message in MISTAKES:
            with self.subTest(expression=text[:20]):
                with self.assertRaises(tessaron.LayoutError) as caught:
                    tessaron.Layout(LAYOUT).set_column("calls", "x0", value=text)
                self.assertIn(message, str(caught.exception))
                self.assertIn("tables.calls.columns.x0.value", str(caught.exception))

    def test_folds_see_the_rows_that_filters_keep(self):
        layout = tessaron.Layout(LAYOUT).set_column("calls", "n", value="count(moves)")
        layout = layout.set_table("moves", keep="kind == 'load'").set_table(
            "calls", keep="n > 0 and a is not null"
        )
        records = [{**call, "moves": moves} for call, moves in zip(CALLS, MOVES, strict=True)]
        tables = tessaron.shred(records, layout=layout)
        self.assertEqual(tables["calls"]["n"].to_pylist(), [2, 1])
        self.assertEqual(tables["moves"]["parent_key"].to_pylist(), [1, 1, 2])
        self.assertEqual(tables.filtered, {"calls": 2, "moves": 2})

    def test_filters_that_need_each_other_are_a_mistake(self):
        layout = tessaron.Layout(LAYOUT).set_column("calls", "n", value="count(moves)")
        with self.assertRaisesRegex(tessaron.LayoutError, "need each other|worked out from itself"):
            layout.set_table("moves", keep="calls.n > 0")


if __name__ == "__main__":
    unittest.main()
