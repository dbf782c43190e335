"""Column types: the narrowest that gives every value back."""

import json
import unittest
from datetime import UTC, date, datetime, time, timedelta, timezone
from decimal import Decimal

from hypothesis import example, given, settings
from hypothesis import strategies as st

import tessaron


def infer(*spellings: str):
    """Return the column of one-field records with these JSON values: its type, values and note."""
    lines = "\n".join(f'{{"v":{text}}}' for text in spellings)
    tables = tessaron.shred(lines.encode())
    column = tables.layout.tables[0].columns[0]
    return str(column.type), tables["records"].column("v").to_pylist(), column.note


def quoted(*texts: str) -> tuple[str, ...]:
    return tuple(json.dumps(text) for text in texts)


class InferenceTest(unittest.TestCase):
    def test_type_and_values(self):
        cases = (
            (("1", "-2"), "integer", [1, -2]),
            ((str(2**63 - 1), str(-(2**63))), "integer", [2**63 - 1, -(2**63)]),
            ((str(2**63),), "decimal(19,0)", [Decimal(2**63)]),
            (("1", "9" * 38), "decimal(38,0)", [Decimal(1), Decimal("9" * 38)]),
            (("9" * 39,), "text", ["9" * 39]),
            (("true", "null", "false"), "boolean", [True, None, False]),
            (("0.10", "1.25"), "decimal(3,2)", [Decimal("0.10"), Decimal("1.25")]),
            (("1", "2.5"), "decimal(2,1)", [Decimal("1.0"), Decimal("2.5")]),
            (("1e3", "2.5E-2", "0e0"), "decimal(7,3)", [Decimal(1000), Decimal("0.025"), Decimal(0)]),
            (("1e300", "2"), "double", [1e300, 2.0]),
            (("-0.0", "1.5"), "double", [-0.0, 1.5]),
            (("-0",), "double", [-0.0]),
            (("1e300", "0.12345678901234567891"), "text", ["1e300", "0.12345678901234567891"]),
            (("1e999999999999",), "text", ["1e999999999999"]),
            (("1e300", str(2**53 + 1)), "text", ["1e300", str(2**53 + 1)]),
            (("1", '"x"'), "text", ["1", "x"]),
            (("true", "1"), "text", ["true", "1"]),
            (("1.50", '"x"', "false"), "text", ["1.50", "x", "false"]),
            (quoted("007", "12"), "text", ["007", "12"]),
            (quoted("2026-02-28", "2024-02-29"), "date", [date(2026, 2, 28), date(2024, 2, 29)]),
            (quoted("2026-02-29"), "text", ["2026-02-29"]),
            (quoted("2026-02-28", ""), "text", ["2026-02-28", ""]),
            (quoted("03/04/2026"), "text", ["03/04/2026"]),
            (quoted("10:00:00.5", "23:59:59.9"), "time", [time(10, 0, 0, 500_000), time(23, 59, 59, 900_000)]),
            (quoted("10:30"), "time", [time(10, 30)]),
            (quoted("24:00"), "text", ["24:00"]),
            (quoted("10:30", "10:30:00"), "text", ["10:30", "10:30:00"]),
            (quoted("0f3c8a52-8d1e-4f6a-9b7c-2d5e6f708192"), "uuid", ["0f3c8a52-8d1e-4f6a-9b7c-2d5e6f708192"]),
            (quoted("0f3c8a52-8d1e-4f6a-9b7c-2d5e6f70819g"), "text", None),
            (quoted("yes", "no", "yes"), "boolean", [True, False, True]),
            (quoted("Y", "N"), "boolean", [True, False]),
            (quoted("yes", "No"), "text", ["yes", "No"]),
            (quoted("N"), "text", ["N"]),
            (("true", '"true"'), "text", ["true", "true"]),
            (quoted("2026-01-02T03:04:05"), "timestamp", [datetime(2026, 1, 2, 3, 4, 5)]),
            (quoted("2026-01-02 03:04"), "timestamp", [datetime(2026, 1, 2, 3, 4)]),
            (quoted("2026-01-02T03:04:05.250"), "timestamp", [datetime(2026, 1, 2, 3, 4, 5, 250_000)]),
            (quoted("2026-01-02T03:04:05Z"), "timestamp_tz", [datetime(2026, 1, 2, 3, 4, 5, tzinfo=UTC)]),
            (quoted("2026-01-02T03:04:05+01:30"), "timestamp_tz", [datetime(2026, 1, 2, 1, 34, 5, tzinfo=UTC)]),
            (quoted("2026-01-02T03:04:05Z", "2026-01-02T03:04:05"), "text", None),
            (quoted("2026-01-02T24:00:00"), "text", None),
            (quoted("2026-01-02T03:04:60"), "text", None),
            (quoted("2026-01-02T03:04:05.1234567890"), "text", None),
            (quoted("1500-01-01T00:00:00.123456789"), "text", None),
        )  # fmt: skip
        for spellings, expected, values in cases:
            with self.subTest(spellings):
                found, got, _ = infer(*spellings)
                self.assertEqual(found, expected)
                if values is not None:
                    self.assertEqual(got, values)
                    self.assertEqual(
                        list(map(repr, got)) if found == "double" else 0,
                        list(map(repr, values)) if found == "double" else 0,
                    )

    def test_notes_say_why(self):
        cases = (
            (("1", '"x"', '"y"'), "mixed kinds: 1 integer, 2 text"),
            (("1e300",), "double, as more than 38 digits does not fit a decimal"),
            (("9" * 39,), "numbers that neither a decimal nor a double holds exactly"),
            (quoted("2026-01-02", "soon"), "1 texts look like date, 1 do not"),
            (("1", "2"), ""),
        )
        for spellings, note in cases:
            with self.subTest(spellings):
                self.assertEqual(infer(*spellings)[2], note)

    def test_the_last_record_counts(self):
        spellings = ["1"] * 5_000 + ['"x"']
        self.assertEqual(infer(*spellings)[0], "text")

    def test_nanoseconds_are_kept(self):
        tables = tessaron.shred([{"t": "2026-01-02T03:04:05.123456789"}])
        column = tables["records"].column("t")
        self.assertEqual(str(column.type), "timestamp[ns]")
        self.assertEqual(column.cast("int64").to_pylist()[0] % 10**9, 123_456_789)


DIGITS = st.text("0123456789", min_size=1, max_size=12)
NUMBERS = st.builds(
    lambda sign, whole, part, exponent: sign + (whole.lstrip("0") or "0") + part + exponent,
    st.sampled_from(["", "-"]),
    DIGITS,
    st.just("") | DIGITS.map(lambda digits: "." + digits),
    st.just("") | st.integers(-30, 30).map(lambda power: f"e{power}"),
)


class GivesBackTest(unittest.TestCase):
    """Formatting the typed values gives the number or the text that was there."""

    @settings(max_examples=120, deadline=None)
    @given(st.lists(NUMBERS, min_size=1, max_size=6))
    @example(["0e-5", "-0.0e3"])
    @example(["1e25", "0.000000000000000000001"])
    def test_numbers(self, spellings):
        _, values, _ = infer(*spellings)
        for text, value in zip(spellings, values, strict=True):
            back = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
            self.assertEqual((back, back.is_signed()), (Decimal(text), Decimal(text).is_signed()))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.floats(allow_nan=False, allow_infinity=False), min_size=1, max_size=6))
    def test_doubles(self, numbers):
        _, values, _ = infer(*map(repr, numbers))
        for number, value in zip(numbers, values, strict=True):
            self.assertEqual(repr(float(value)), repr(number))

    @settings(max_examples=90, deadline=None)
    @given(
        st.lists(st.datetimes(datetime(1, 1, 3), datetime(9999, 12, 29)), min_size=1, max_size=5),
        st.sampled_from(["T", " "]),
        st.sampled_from(["seconds", "milliseconds", "microseconds", "minutes"]),
        st.integers(-1439, 1439) | st.none(),
    )
    def test_timestamps(self, moments, separator, timespec, offset):
        zone = None if offset is None else timezone(timedelta(minutes=offset))
        texts = [moment.replace(tzinfo=zone).isoformat(separator, timespec) for moment in moments]
        found, values, _ = infer(*quoted(*texts))
        self.assertEqual(found, "timestamp" if zone is None else "timestamp_tz")
        back = [value.astimezone(zone) if zone else value for value in values]
        self.assertEqual([value.isoformat(separator, timespec) for value in back], texts)
        self.assertTrue(all(value.tzinfo in (None, UTC) or zone for value in values))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.dates(), min_size=1, max_size=5))
    def test_dates(self, dates):
        self.assertEqual(infer(*quoted(*map(str, dates)))[:2], ("date", dates))

    @settings(max_examples=90, deadline=None)
    @given(st.lists(st.text("0123456789-T:Z +./", max_size=21), min_size=1, max_size=4))
    def test_texts_like_times_are_kept_or_read_right(self, texts):
        found, values, _ = infer(*quoted(*texts))
        if found == "text":
            self.assertEqual(values, texts)
        elif found == "time":
            self.assertEqual([value.isoformat("auto")[:5] for value in values], [text[:5] for text in texts])
        else:
            self.assertEqual([str(value)[:10] for value in values], [text[:10] for text in texts])
