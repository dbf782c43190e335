"""Whole columns against plain Python: folds, values brought into types, formats of dates, patterns, selections."""

import json
import re
import unittest
from datetime import UTC, date, datetime, time, timedelta
from decimal import ROUND_HALF_UP, Decimal

import numpy as np
import pyarrow as pa
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tessaron.core.base.paths import ELEMENT, ENTRY, Origin, format_path
from tessaron.core.cutting.selecting import PathSelection, PatternSelection
from tessaron.core.expressions.folding import FoldOverflowError, fold
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.plan.plan import Cleaning
from tessaron.core.query.iregexp import parse_iregexp
from tessaron.core.query.iregexp_columns import match_pattern
from tessaron.core.tables.column_values import clean_texts
from tessaron.core.types.column_types import TypeSpellingError, parse_type
from tessaron.core.types.date_formats import DateFormatError, parts_of_format, read_formatted
from tessaron.core.types.fitting import Spelling, fit_integers, fit_texts
from tests.harness import KERNELS, columns_of, needs_compiled, walk

TYPES = {
    "integer": (st.integers(-(2**40), 2**40), pa.int64()),
    "decimal": (st.decimals(-9999, 9999, places=2), pa.decimal128(12, 2)),
    "double": (st.floats(-1e6, 1e6, allow_nan=False), pa.float64()),
    "text": (st.text("abé\\,", max_size=4), pa.large_string()),
    "date": (st.dates(date(1900, 1, 1), date(2100, 1, 1)), pa.date32()),
    "boolean": (st.booleans(), pa.bool_()),
}


def mean(values):
    exact = sum(map(Decimal, values)) / len(values)
    return exact.quantize(Decimal(1).scaleb(-8 if isinstance(values[0], Decimal) else -6), ROUND_HALF_UP)


def joined(values):
    return "|".join(value.replace("\\", "\\\\").replace("|", "\\|") for value in values)


PLAIN = {
    "first": lambda rows, some: rows[0] if rows else None,
    "last": lambda rows, some: rows[-1] if rows else None,
    "count": lambda rows, some: len(some),
    "count_distinct": lambda rows, some: len(set(some)),
    "least": lambda rows, some: min(some, default=None),
    "most": lambda rows, some: max(some, default=None),
    "sum": lambda rows, some: sum(some) if some else None,
    "mean": lambda rows, some: mean(some) if some else None,
    "joined": lambda rows, some: joined(some) if some else None,
    "any": lambda rows, some: True in some,
    "all": lambda rows, some: False not in some,
}
FITTING = {
    "integer": ("count", "count_distinct", "first", "last", "least", "most", "sum", "mean"),
    "decimal": ("count", "count_distinct", "first", "last", "least", "most", "sum", "mean"),
    "double": ("count", "first", "last", "least", "most"),
    "text": ("count", "count_distinct", "first", "last", "least", "most", "joined"),
    "date": ("count", "count_distinct", "first", "last", "least", "most"),
    "boolean": ("count", "first", "last", "any", "all"),
}


class FoldTest(unittest.TestCase):
    @settings(max_examples=24, deadline=None)
    @given(st.data())
    def test_folds_are_those_of_plain_python(self, data):
        kind = data.draw(st.sampled_from(sorted(TYPES)))
        values, arrow = TYPES[kind]
        groups = data.draw(st.lists(st.lists(st.none() | values, max_size=4), max_size=6))
        array = pa.array([value for group in groups for value in group], arrow)
        above = np.repeat(np.arange(len(groups)), [len(group) for group in groups])
        for name in FITTING[kind]:
            details = {"separator": "|"} if name == "joined" else {}
            found = fold(name, array, above, len(groups), **details).to_pylist()
            wanted = [PLAIN[name](group, [v for v in group if v is not None]) for group in groups]
            self.assertEqual(found, wanted, name)

    @settings(max_examples=18, deadline=None)
    @given(st.lists(st.lists(st.integers(0, 9), max_size=4), max_size=5), st.integers(-4, 4).filter(bool))
    def test_a_position_counts_from_either_end(self, groups, position):
        above = np.repeat(np.arange(len(groups)), [len(group) for group in groups])
        array = pa.array([value for group in groups for value in group], pa.int64())
        found = fold("nth", array, above, len(groups), position=position).to_pylist()
        index = position - 1 if position > 0 else position
        self.assertEqual(found, [g[index] if -len(g) <= index < len(g) else None for g in groups])

    def test_large_sums_are_exact_or_say_which_rows_are_too_large(self):
        values = pa.array([2**62, 2**62 - 1, -(2**62), 2**62, 2**62], pa.int64())
        self.assertEqual(fold("sum", values[:3], np.array([0, 0, 0]), 1).to_pylist(), [2**62 - 1])
        with self.assertRaises(FoldOverflowError) as caught:
            fold("sum", values, np.array([0, 0, 1, 2, 2]), 3)
        self.assertEqual(caught.exception.rows.tolist(), [2])
        self.assertEqual(fold("sum", values, np.array([0, 1, 2, 3, 4]), 5).to_pylist(), values.to_pylist())

    def test_json_arrays_are_put_together(self):
        values = pa.array(['{"a":1}', None, '"x"'], pa.large_string())
        self.assertEqual(
            fold("json", values, np.array([0, 0, 2]), 3).to_pylist(), ['[{"a":1},null]', None, '["x"]']
        )


def as_decimal(text, precision, scale):
    try:
        value = Decimal(text)
    except ArithmeticError:
        return None
    if not re.fullmatch(r"[+-]?([0-9]+(\.[0-9]+)?|\.[0-9]+)([eE][+-]?[0-9]{1,3})?", text):
        return None
    fits = value == round(value, scale) and abs(value) < 10 ** (precision - scale)
    return value.quantize(Decimal(1).scaleb(-scale)) if fits else None


# types, and texts with what they become in them; None for what does not fit
EDGES = (
    ("decimal(1,0)", {}, {"9": Decimal("9"), "10": None, "1.5": None}), ("decimal(1,1)", {}, {"0.9": Decimal("0.9"), "1": None}), ("decimal(38,0)", {}, {"9" * 38: Decimal("9" * 38), "9" * 39: None}),
    ("time", {}, {"23:59:59": time(23, 59, 59), "23:59:60": None, "24:00:00": None, "10:60:00": None}), ("time", {"format": "%H.%M"}, {"10.59": time(10, 59), "10.60": None}),
    ("time(9)", {"format": "%H:%M:%S"}, {"10:20:30": time(10, 20, 30)}), ("time(6)", {"format": "%H:%M:%S"}, {"10:20:30": time(10, 20, 30)}),
    ("timestamp", {}, {"2026-01-01T23:59:59": datetime(2026, 1, 1, 23, 59, 59), "2026-01-01T23:59:60": None}),
    ("timestamp(9)", {}, {"1678-01-01T00:00:00.000000000": datetime(1678, 1, 1), "1677-01-01T00:00:00.000000000": None, "2261-12-31T00:00:00.000000000": datetime(2261, 12, 31), "2263-01-01T00:00:00.000000000": None}),
    ("timestamp(9)", {"unit": "ms"}, {"1500": datetime(1970, 1, 1, 0, 0, 1, 500_000), "1e3": datetime(1970, 1, 1, 0, 0, 1), "x": None}), ("timestamp(3)", {"unit": "ms"}, {"1500": datetime(1970, 1, 1, 0, 0, 1, 500_000), "0.5": None}),
    ("timestamp_tz", {}, {"2026-01-01T12:00:00+05:30": datetime(2026, 1, 1, 6, 30, tzinfo=UTC), "2026-01-01T12:00:00-00:45": datetime(2026, 1, 1, 12, 45, tzinfo=UTC), "2026-01-01T12:00:00+05:60": None}),
)  # fmt: skip


class FitTest(unittest.TestCase):
    def test_edges(self):
        for kind, spelling, cases in EDGES:
            for text, expected in cases.items():
                with self.subTest(kind=kind, text=text, **spelling):
                    found = self.fit([text], kind, **spelling)[0]
                    plain = found.to_pydatetime(warn=False) if hasattr(found, "to_pydatetime") else found
                    self.assertEqual(plain, expected)

    def test_every_day_of_the_calendar(self):
        for year in (1900, 2000, 2023, 2024, 2100, 2400):
            texts = [f"{day:02}.{month:02}.{year}" for month in range(1, 13) for day in range(28, 33)]
            wanted = [by_library(text, "%d.%m.%Y") for text in texts]
            self.assertEqual(
                self.fit(texts, "date", format="%d.%m.%Y"), [each and each.date() for each in wanted]
            )

    def test_which_decimals_there_are(self):
        for spelling, is_one in (
            ("decimal(1,0)", True),
            ("decimal(38,38)", True),
            ("decimal(5)", True),
            ("decimal(0,0)", False),
            ("decimal(39,0)", False),
            ("decimal(2,3)", False),
        ):
            with self.subTest(spelling):
                if is_one:
                    self.assertTrue(str(parse_type(spelling)).startswith("decimal("))
                else:
                    self.assertRaises(TypeSpellingError, parse_type, spelling)

    def fit(self, texts, kind, **spelling):
        values, bad = fit_texts(pa.array(texts, pa.large_string()), parse_type(kind), Spelling(**spelling))
        for value, is_bad in zip(values.to_pylist(), bad, strict=True):
            self.assertEqual(value is None, bool(is_bad))
        return values.to_pylist()

    @settings(max_examples=30, deadline=None)
    @given(
        st.lists(
            st.from_regex(r"[+-]?[0-9]{0,6}(\.[0-9]{0,5})?(e[+-]?[0-9])?", fullmatch=True),
            min_size=1,
            max_size=6,
        )
    )
    @example(["", "-", ".", "+", "-.5", "5.", "00012.50", "-0", "1e5", "1e-2", "99999.99", "100000"])
    def test_decimals(self, texts):
        self.assertEqual(self.fit(texts, "decimal(7,2)"), [as_decimal(text, 7, 2) for text in texts])

    @settings(max_examples=24, deadline=None)
    @given(st.lists(st.integers(-(2**65), 2**65) | st.integers(-9, 9), min_size=1, max_size=6))
    def test_integers(self, numbers):
        wanted = [number if -(2**63) <= number < 2**63 else None for number in numbers]
        self.assertEqual(self.fit([str(number) for number in numbers], "integer"), wanted)
        self.assertEqual(self.fit([f"{number:+d}.00" for number in numbers], "integer"), wanted)
        grouped = [f"{number:,}".replace(",", "'") for number in numbers]
        self.assertEqual(self.fit(grouped, "integer", grouping="'"), wanted)

    @settings(max_examples=24, deadline=None)
    @given(st.lists(st.datetimes(datetime(1, 1, 1), datetime(9999, 12, 31)), min_size=1, max_size=5))
    def test_moments_in_every_spelling(self, moments):
        whole = [moment.replace(microsecond=0) for moment in moments]
        for spell in ("%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M:%S"):
            self.assertEqual(self.fit([spelled(m, spell) for m in whole], "timestamp"), whole)
        self.assertEqual(
            self.fit([m.isoformat(timespec="microseconds") for m in moments], "timestamp(6)"), moments
        )
        self.assertEqual(
            self.fit([m.date().isoformat() for m in moments], "date"), [m.date() for m in moments]
        )
        self.assertEqual(
            self.fit([m.time().isoformat("seconds") for m in whole], "time"), [m.time() for m in whole]
        )
        inner = [m for m in whole if 1 < m.year < 9999]
        zones = {"Z": timedelta(), "+01:30": timedelta(hours=1.5), "-02:00": timedelta(hours=-2)}
        for zone, offset in zones.items():
            texts = [spelled(m, "%Y-%m-%dT%H:%M:%S") + zone for m in inner]
            self.assertEqual(self.fit(texts, "timestamp_tz"), [m.replace(tzinfo=UTC) - offset for m in inner])

    @settings(max_examples=24, deadline=None)
    @given(st.data())
    def test_formats_read_what_the_library_reads(self, data):
        codes = data.draw(
            st.sampled_from(
                [
                    "%d/%m/%Y",
                    "%d.%m.%y",
                    "%Y%m%d",
                    "%m-%d-%Y %H:%M:%S",
                    "%d %b %Y",
                    "%H:%M",
                    "%d/%m/%Y %I:%M %p",
                    "%Y-%j",
                ]
            )
        )
        moments = data.draw(
            st.lists(st.datetimes(datetime(1970, 1, 1), datetime(2068, 12, 31)), min_size=1, max_size=4)
        )
        texts = [spelled(moment, codes) for moment in moments] + data.draw(
            st.lists(st.text("0123456789/ .:-", max_size=10), max_size=4)
        )
        values, fits = read_formatted(pa.array(texts, pa.large_string()), codes)
        for text, value, fit in zip(texts, values, fits, strict=True):
            wanted = by_library(text, codes)
            self.assertEqual(bool(fit), wanted is not None, text)
            if wanted is not None:
                self.assertEqual(datetime(1970, 1, 1) + timedelta(microseconds=int(value)), wanted)

    def test_formats_that_cannot_be(self):
        for codes in ("%Q", "day", "%", "%-d"):
            with self.subTest(codes=codes), self.assertRaises(DateFormatError):
                parts_of_format(codes)

    @settings(max_examples=24, deadline=None)
    @given(st.lists(st.integers(-(10**11), 10**11), min_size=1, max_size=5))
    def test_seconds_since_1970(self, numbers):
        kept = [n for n in numbers if -62_000_000_000 < n < 250_000_000_000]
        values, _ = fit_integers(np.array(kept, np.int64), parse_type("timestamp"), Spelling(unit="s"))
        self.assertEqual(values.to_pylist(), [datetime(1970, 1, 1) + timedelta(seconds=n) for n in kept])
        self.assertEqual(
            self.fit([str(n) for n in kept] or ["0"], "date", unit="s"),
            [(datetime(1970, 1, 1) + timedelta(seconds=n)).date() for n in kept or [0]],
        )

    def test_local_times_that_a_zone_has_not_or_twice(self):
        texts = ["2026-03-29T02:30:00", "2026-10-25T02:30:00", "2026-07-01T12:00:00", "2026-07-01T12:00:00Z"]
        found = self.fit(texts, "timestamp_tz", zone="CET")
        self.assertEqual([None if m is None else m.hour for m in found], [None, None, 10, 12])

    def test_spellings_of_types(self):
        for text in ("integer", "decimal(5,2)", "timestamp(3)", "time(9)", "json"):
            self.assertEqual(parse_type(f" {text.upper()} ").spelled(), text)
        for text in (
            "int",
            "decimal",
            "decimal(39,0)",
            "decimal(2,3)",
            "text(5)",
            "timestamp(10)",
            "decimal(5;2)",
            "",
        ):
            with self.subTest(text=text), self.assertRaises(TypeSpellingError):
                parse_type(text)


def spelled(moment, codes):
    return moment.strftime(codes.replace("%Y", f"{moment.year:04d}"))


def by_library(text, codes):
    try:
        found = datetime.strptime(text, codes)
    except ValueError:
        return None
    if "%Y" not in codes and "%y" not in codes:
        found = found.replace(year=1970)
    return found


class TextTest(unittest.TestCase):
    def test_patterns_are_those_of_the_standard(self):
        texts = ["abc", "a.c", "a\nc", "aXc", "", "é", "a^c$", "[x]", "007", "aaa", None]
        for pattern in (
            "a.c",
            "a\\.c",
            "[a-c]{3}",
            "a.c.?",
            "\\p{L}",
            "a\\^c$",
            "a^c$",
            "\\[x\\]",
            "[^a]*",
            "0*7|a+",
            "(a|b|c){3}",
            "a{2,}",
            "a{0,1500}",
        ):
            with self.subTest(pattern=pattern):
                parsed = parse_iregexp(pattern)
                wanted = [None if text is None else parsed.matches(text) for text in texts]
                self.assertEqual(
                    match_pattern(pa.array(texts, pa.large_string()), pattern).to_pylist(), wanted
                )

    def test_cleaning_has_an_order(self):
        cleaning = Cleaning(trim=True, nulls=("-",), case="upper", replace={"A": "first", "first": "second"})
        texts = pa.array([" a ", " - ", "b", "first", None], pa.large_string())
        self.assertEqual(clean_texts(texts, cleaning).to_pylist(), ["first", None, "B", "FIRST", None])


NAMES = st.sampled_from(["a", "b", "c", "x y"])
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-3, 2**65) | st.sampled_from([1.5, "t", 'é"\n']),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(NAMES, inner, max_size=3),
    max_leaves=10,
)


def selected(documents, selection, kernel):
    data = "\n".join(map(json.dumps, documents)).encode()
    return columns_of(data, kernel=kernel, options=KernelOptions(selection=selection))


def contents(fragment):
    """Return what a fragment holds, whatever the order of its nodes: by path the rows, kinds and values."""
    found = {}
    for path, node in zip(fragment.paths(), fragment.nodes, strict=True):
        if len(node.kinds) or path == ():
            lanes = (
                node.booleans.tolist(),
                node.integers.tolist(),
                node.numbers.to_arrow().to_pylist(),
                node.texts.to_arrow().to_pylist(),
            )
            found[path] = (node.row_count, node.rows_present().tolist(), node.kinds.tolist(), lanes)
    return found


class SelectionTest(unittest.TestCase):
    @needs_compiled
    @settings(max_examples=30, deadline=None)
    @given(st.lists(VALUES, min_size=1, max_size=4), st.data())
    def test_both_kernels_take_and_pass_over_the_same(self, documents, data):
        paths = [
            ("a",),
            ("a", ELEMENT, "b"),
            ("b", "c"),
            ("b", ELEMENT),
            ("c", ENTRY, "a"),
            ("a", Origin.JSON),
            (Origin.JSON,),
            ("x y", ELEMENT, ELEMENT),
        ]
        chosen = data.draw(st.lists(st.sampled_from(paths), unique=True))
        subtrees = data.draw(st.lists(st.sampled_from([("b",), ("a", ELEMENT)]), unique=True))
        made = [selected(documents, PathSelection(chosen, (), subtrees), kernel) for kernel in KERNELS]
        self.assertEqual(contents(made[0]), contents(made[1]))
        self.assertEqual(made[0].passed_by_path(), made[1].passed_by_path())

    @settings(max_examples=24, deadline=None)
    @given(
        st.lists(VALUES, min_size=1, max_size=4),
        st.sampled_from(
            [(["a"], []), (["$.a"], ["b"]), ([], ["$.b[*]", "x*"]), (["$.a.b", "c"], ["$.c[*].a"])]
        ),
    )
    def test_what_is_taken_and_what_is_passed_over_is_all_there_is(self, documents, patterns):
        whole = sum(sum(n for (_, value), n in walk(each).items() if value != "rows") for each in documents)
        for kernel in KERNELS:
            fragment = selected(documents, PatternSelection(*patterns), kernel)
            taken = sum(
                len(lane)
                for node in fragment.nodes
                for lane in (node.booleans, node.integers, node.numbers, node.texts)
            )
            everything = selected(documents, None, kernel)
            left = passed_scalars(fragment, everything)
            self.assertEqual(taken + left, whole)

    def test_a_name_beyond_the_limit_is_found_if_it_is_wanted(self):
        document = {f"k{n}": n for n in range(1000)}
        for kernel in KERNELS:
            fragment = selected([document] * 2, PathSelection([("k5",), ("k900",)]), kernel)
            self.assertEqual([node.integers.tolist() for node in fragment.nodes[1:]], [[5, 5], [900, 900]])
            self.assertEqual(sum(each.count for each in fragment.passed), 2 * 998)


def passed_scalars(fragment, everything):
    """Return how many scalars stand at or below the places that were passed over."""
    starts = list(fragment.passed_by_path())
    total = 0
    taken = {
        path: sum(len(lane) for lane in (n.booleans, n.integers, n.numbers, n.texts))
        for path, n in zip(fragment.paths(), fragment.nodes, strict=True)
    }
    for path, node in zip(everything.paths(), everything.nodes, strict=True):
        scalars = sum(len(lane) for lane in (node.booleans, node.integers, node.numbers, node.texts))
        shown = format_path(path)
        if any(shown == start or shown.startswith((start + ".", start + "[")) for start in starts):
            total += scalars - taken.get(path, 0)
    return total


if __name__ == "__main__":
    unittest.main()
