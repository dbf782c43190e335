"""Every line of `docs/expressions.md`, with what it says worked out by hand."""

import re
import unittest
from datetime import UTC, date, datetime, time
from decimal import Decimal
from pathlib import Path

import tessaron

D = Decimal
PAGE = (Path(__file__).parent.parent / "docs" / "expressions.md").read_text("utf-8")
CALL = {
    "n": 7, "m": -7, "zero": 0, "none": None, "dec": "12.345", "neg": "-0.5", "half": 2.5,
    "t": "North Quay", "spaced": "  N1 ", "empty": "", "open": True, "shut": False, "from": "N1", "order": {"no": 3},
    "day": "2026-03-05", "next": "2026-03-12", "at": "2026-03-05T22:15:30", "later": "2026-03-06T00:00:30",
    "clock": "10:30:15", "utc": "2026-03-05T22:15:30+02:00",
    "moves": [
        {"teu": 2, "kind": "load", "w": "1.50", "done": True, "on": "2026-03-05"},
        {"teu": 1, "kind": "discharge", "w": "2.25", "done": True, "on": "2026-03-07"},
        {"teu": None, "kind": None, "w": None, "done": None, "on": None},
        {"teu": 4, "kind": "load", "w": "0.75", "done": False, "on": "2026-03-06"},
    ],
    "idle": [],
}  # fmt: skip
LAYOUT = """
[tables.calls]
rows = "$"
[tables.calls.columns]
n = { path = "$.n", type = "integer" }
m = { path = "$.m", type = "integer" }
zero = { path = "$.zero", type = "integer" }
none = { path = "$.none", type = "integer" }
dec = { path = "$.dec", type = "decimal(6,3)" }
neg = { path = "$.neg", type = "decimal(3,1)" }
half = { path = "$.half", type = "double" }
t = { path = "$.t", type = "text" }
spaced = { path = "$.spaced", type = "text" }
empty = { path = "$.empty", type = "text" }
open = { path = "$.open", type = "boolean" }
shut = { path = "$.shut", type = "boolean" }
from = { path = "$.from", type = "text" }
"order.no" = { path = "$.order.no", type = "integer" }
day = { path = "$.day", type = "date" }
next = { path = "$.next", type = "date" }
at = { path = "$.at", type = "timestamp" }
later = { path = "$.later", type = "timestamp" }
clock = { path = "$.clock", type = "time" }
utc = { path = "$.utc", type = "timestamp_tz" }
secret = { path = "$.n", type = "integer", hidden = true }
cleaned = { path = "$.spaced", type = "text", trim = true, case = "lower" }
masked = { path = "$.t", type = "text", mask = "constant" }
RESULT
[tables.moves]
rows = "$.moves[*]"
[tables.moves.columns]
teu = { path = "@.teu", type = "integer" }
kind = { path = "@.kind", type = "text" }
w = { path = "@.w", type = "decimal(4,2)" }
done = { path = "@.done", type = "boolean" }
on = { path = "@.on", type = "date" }
[tables.idle]
rows = "$.idle[*]"
[tables.idle.columns]
x = { path = "@.x", type = "integer" }
b = { path = "@.b", type = "boolean" }
"""
CASES = (
    # names
    ("n", 7), ("secret + 1", 8), ('"order.no"', 3), ('"from"', "N1"), ("cleaned", "n1"), ("masked", "***"),
    # values
    ("12", 12), ("1.50", D("1.50")), ("1e3", 1000.0), ("'it''s'", "it's"), ("true", True), ("false", False),
    ("date '2026-01-31'", date(2026, 1, 31)), ("time '10:30:00'", time(10, 30)),
    ("timestamp '2026-01-31 10:30:00'", datetime(2026, 1, 31, 10, 30)),
    ("timestamp_tz '2026-01-31T10:30:00Z'", datetime(2026, 1, 31, 10, 30, tzinfo=UTC)),
    ("day = '2026-03-05'", True), ("at > '2026-03-05'", True), ("at < '2026-03-06'", True), ("clock = '10:30:15'", True),
    # logic of nulls
    ("none > 1 and false", False), ("none > 1 and true", None), ("none > 1 or true", True), ("none > 1 or false", None),
    ("not (none > 1)", None), ("not open", False), ("n = 7", True), ("n == 8", False), ("n != 7", False), ("n <> 8", True),
    ("n < 8", True), ("n <= 7", True), ("n > 7", False), ("n >= 7", True), ("none = none", None),
    ("n in (1, 7)", True), ("n in (1, none)", None), ("n not in (1, 2)", True), ("n not in (7, none)", False),
    ("none in (1)", None), ("n between 7 and 9", True), ("n between 8 and 9", False), ("n not between 8 and 9", True),
    ("none between 1 and 2", None), ("none is null", True), ("n is null", False), ("n is not null", True),
    ("false or true and false", False), ("(false or true) and true", True), ("not false and false", False),
    # arithmetic
    ("n + 1", 8), ("n - 8", -1), ("n * m", -49), ("7 / 2", 3), ("-7 / 2", -3), ("m / 2", -3), ("m % 2", -1), ("n % -4", 3),
    ("7 / 2.0", D("3.500000")), ("1.0 / 3", D("0.333333")), ("dec + 1", D("13.345")), ("dec * 2", D("24.690")),
    ("half * 2", 5.0), ("n + half", 9.5), ("-n", -7), ("- (n - 9)", 2), ("2 + 3 * 4", 14), ("(2 + 3) * 4", 20),
    ("none + 1", None), ("t || '!'", "North Quay!"), ("t || null", None), ("day + 7", date(2026, 3, 12)),
    ("7 + day", date(2026, 3, 12)), ("day - 5", date(2026, 2, 28)), ("next - day", 7), ("day - next", -7),
    # conditions
    ("if n > 5 then 'deep' else 'shallow'", "deep"), ("if n > 9 then 1", None),
    ("if n > 9 then 1 else if n > 6 then 2 else 3", 2), ("if none > 1 then 1 else 2", 2), ("if zero = 0 then 0 else n / zero", 0),
    # cast
    ("cast('12' as integer)", 12), ("cast(12.5 as integer)", 13), ("cast(-12.5 as integer)", -13),
    ("cast(dec as decimal(4,1))", D("12.3")), ("cast(n as text)", "7"), ("cast('31/01/2026' as date format '%d/%m/%Y')", date(2026, 1, 31)),
    ("cast('2026-01-31' as date)", date(2026, 1, 31)), ("cast(n as double)", 7.0), ("cast(none as text)", None),
    # functions of one row
    ("coalesce(none, zero, n)", 0), ("coalesce(none, none)", None), ("null_if(n, 7)", None), ("null_if(n, 8)", 7),
    ("least(n, m, none)", -7), ("most(n, m, none)", 7), ("most(none, none)", None), ("least('b', 'a')", "a"),
    ("abs(m)", 7), ("abs(neg)", D("0.5")), ("floor(neg)", -1), ("ceil(neg)", 0), ("floor(12.9)", 12), ("ceil(12.1)", 13),
    ("round(2.5)", 3), ("round(-2.5)", -3), ("round(dec, 2)", D("12.35")), ("round(1234, -2)", 1200), ("round(1250, -2)", 1300),
    ("length(t)", 10), ("length(empty)", 0), ("part(t, 7)", "Quay"), ("part(t, 1, 5)", "North"), ("part(t, 20)", ""),
    ("upper(t)", "NORTH QUAY"), ("lower(t)", "north quay"), ("trim(spaced)", "N1"), ("replace(t, 'North', 'South')", "South Quay"),
     ("join('-', 'a', null, t)", "a-North Quay"),
    ("contains(t, 'th Q')", True), ("contains(t, 'x')", False), ("starts(t, 'North')", True), ("ends(t, 'Quay')", True),
    ("ends(t, 'North')", False), ("matches(t, '[A-Z][a-z]+ Quay')", True), ("matches(t, 'Quay')", False),
    ("year(day)", 2026), ("quarter(day)", 1), ("month(day)", 3), ("week(day)", 10), ("day(day)", 5), ("weekday(day)", 4),
    ("week(date '2027-01-01')", 53), ("weekday(date '2026-03-08')", 7),
    ("month_name(day)", "March"), ("weekday_name(day)", "Thursday"), ("hour(at)", 22), ("minute(at)", 15), ("second(at)", 30),
    ("hour(clock)", 10), ("hour(utc)", 20), ("days_from(day, next)", 7), ("days_from(next, day)", -7),
    ("hours_from(at, later)", D("1.750000")), ("minutes_from(at, later)", D("105.000000")), ("seconds_from(at, later)", D("6300.000000")),
    ("days_from(at, later)", D("0.072917")),
    # folds
    ("count(moves)", 4), ("count(moves.teu)", 3), ("count_distinct(moves.kind)", 2), ("sum(moves.teu)", 7),
    ("sum(moves.w)", D("4.50")), ("mean(moves.teu)", D("2.333333")), ("mean(moves.w)", D("1.50000000")),
    ("least(moves.teu)", 1), ("most(moves.teu)", 4), ("least(moves.kind)", "discharge"), ("most(moves.on)", date(2026, 3, 7)),
    ("first(moves.teu)", 2), ("last(moves.teu)", 4), ("nth(moves.teu, 2)", 1), ("nth(moves.teu, 3)", None), ("nth(moves.teu, -1)", 4),
    ("nth(moves.teu, 9)", None), ("any(moves.done)", True), ("all(moves.done)", False), ("any(idle.b)", False), ("all(idle.b)", True),
    ("joined(moves.kind)", "load, discharge, load"), ("joined(moves.kind, '/')", "load/discharge/load"),
    ("count(moves where moves.kind = 'load')", 2), ("sum(moves.teu where moves.kind = 'load')", 6), ("sum(moves.teu * 2)", 14),
    ("sum(moves.teu + n)", 28), ("any(moves.teu > 3)", True), ("all(moves.teu > 0)", True), ("count(idle)", 0), ("sum(idle.x)", None),
    ("most(idle.x)", None), ("joined(moves.kind where moves.teu > 9)", None), ("count(moves where moves.teu > secret)", 0),
)  # fmt: skip
REJECTED = (
    "n / zero", "n % zero", "cast(t as integer)", "9223372036854775807 + n", "cast(n * 1000000 as decimal(3,0))", "round(dec, 3) / zero",
)  # fmt: skip
MISTAKES = (
    ("m + ", "expected a column, value or function, got the end (character 5"), ("n +* 2", "got '*' (character 4"),
    ("tt", "did you mean t"), ("cals.x", "no table"), ("upper(n)", "expected text"), ("n + t", "expected"),
    ("n and open", "expected boolean, got integer (character 1"), ("day > '2026-13-01'", "expected a date such as 2026-01-31"),
    ("moves.teu", "fold"), ("count(moves", "expected"), ("uper(t)", "did you mean upper"), ("round(1, 2, 3)", "takes 1 to 2 arguments, got 3"),
    ("part(t)", "takes 2 to 3 arguments, got 1"), ("'open", "a text is not closed"), ("if n then 1", "expected boolean, got integer (character 4"),
    ("cast(n as number)", "expected a type, got 'number'"), ("sum(moves.kind)", "sum cannot be made of text"),
    ("joined(moves.teu, 5)", "takes a text in quotes"), ("matches(t, '[')", "no regular expression of RFC 9485"), ("n in ()", "expected"),
)  # fmt: skip


def worked_out(*expressions):
    columns = "".join(f"c{number} = {{ value = '''{text}''' }}\n" for number, text in enumerate(expressions))
    return tessaron.shred([CALL], layout=tessaron.Layout(LAYOUT.replace("RESULT\n", columns), "page.toml"))


class ExpressionsTest(unittest.TestCase):
    def test_what_each_line_gives(self):
        row = worked_out(*(text for text, _ in CASES))["calls"].to_pylist()[0]
        for number, (text, expected) in enumerate(CASES):
            with self.subTest(text):
                self.assertEqual(row[f"c{number}"], expected)
                self.assertIs(type(row[f"c{number}"]), type(expected))

    def test_what_has_no_result_is_null_and_rejected(self):
        for text in REJECTED:
            with self.subTest(text):
                tables = worked_out(text)
                self.assertIsNone(tables["calls"].to_pylist()[0]["c0"])
                self.assertEqual([reject.record for reject in tables.rejects], [1])

    def test_mistakes_are_told_before_the_run(self):
        for text, expected in MISTAKES:
            with self.subTest(text), self.assertRaises(tessaron.LayoutError) as caught:
                worked_out(text)
            self.assertIn(expected, str(caught.exception), text)

    def test_no_function_of_the_page_is_left_out(self):
        names = set(re.findall(r"`(?:[^`]*?\W)?([a-z_]+)\(", PAGE)) - {"in", "from", "moves"}
        used = {name for text, _ in CASES for name in re.findall(r"([a-z_]+)\(", text)}
        self.assertEqual(names - used, set())


if __name__ == "__main__":
    unittest.main()
