"""Every line of `docs/types.md`: which type a column gets, and that its values come back."""

import json
import unittest
from decimal import Decimal

import pyarrow as pa

import tessaron
from tests.harness import KERNELS, FolderTest

# texts of JSON values; the type that is drafted; words of the note, if there is one
DRAFTED = (
    (("true", "false"), "boolean", ""), (('"yes"', '"no"'), "boolean", ""), (('"Y"', '"N"'), "boolean", ""),
    (('"yes"', '"yes"'), "text", ""), (('"yes"', '"maybe"'), "text", ""),
    (("1", "-7"), "integer", ""), (("9223372036854775807", "-9223372036854775808"), "integer", ""),
    (("9223372036854775808", "1"), "decimal(19,0)", ""), (("1180591620717411303424", "1"), "decimal(22,0)", ""),
    (("1.5", "2.25"), "decimal(3,2)", ""), (("1", "2.5"), "decimal(2,1)", "integers among fractions"), (("0.10", "0.20"), "decimal(3,2)", ""),
    (("1e300", "1"), "double", ""), (("-0.0", "1.5"), "double", ""), (("1e2", "5"), "decimal(3,0)", ""),
    (('"10:00"', '"11:30"'), "time", ""), (('"10:00:00.5"', '"11:30:01.0"'), "time(1)", ""), (('"10:00"', '"11:30:00"'), "text", ""),
    (('"6f0b1f60-5b1e-4c0e-9d57-1d1f0e0c1a2b"',), "uuid", ""),
    (('"6f0b1f60-5b1e-4c0e-9d57-1d1f0e0c1a2b"', '"6F0B1F60-5B1E-4C0E-9D57-1D1F0E0C1A2B"'), "text", ""),
    (('"2026-03-04"', '"2024-02-29"'), "date", ""), (('"2026-03-04"', '"2026-02-29"'), "text", ""), (('"2026-03-04"', '"soon"'), "text", ""),
    (('"2026-03-04T10:00"', '"2026-03-05T11:30"'), "timestamp", ""), (('"2026-03-04 10:00:00"', '"2026-03-05 11:30:00"'), "timestamp", ""),
    (('"2026-03-04T10:00:00.123"', '"2026-03-05T11:30:00.456"'), "timestamp(3)", ""),
    (('"2026-03-04T10:00Z"', '"2026-03-05T11:30Z"'), "timestamp_tz", ""), (('"2026-03-04T10:00+01:00"', '"2026-03-05T11:30+01:00"'), "timestamp_tz", ""),
    (('"2026-03-04T10:00Z"', '"2026-03-05T11:30+01:00"'), "text", ""), (('"2026-03-04T10:00"', '"2026-03-05"'), "text", ""),
    (('"03/04/2026"', '"13/04/2026"'), "text", ""), (('"007"', '"8"'), "text", ""), (('"12"', '"8"'), "text", ""), (('"x"', '"y"'), "text", ""),
    (("1", '"x"'), "text", "mixed kinds"), (("true", "1"), "text", "mixed kinds"), (("null", "3"), "integer", ""),
)  # fmt: skip
ARROW = (
    ("boolean", True, pa.bool_()), ("integer", 7, pa.int64()), ("decimal(9,2)", "1.50", pa.decimal128(9, 2)), ("double", 1e300, pa.float64()),
    ("time", "10:00:00", pa.time64("us")), ("uuid", "6f0b1f60-5b1e-4c0e-9d57-1d1f0e0c1a2b", pa.large_string()), ("date", "2026-03-04", pa.date32()),
    ("timestamp", "2026-03-04T10:00:00", pa.timestamp("us")), ("timestamp(9)", "2026-03-04T10:00:00.123456789", pa.timestamp("ns")),
    ("timestamp_tz", "2026-03-04T10:00:00Z", pa.timestamp("us", "UTC")), ("text", "x", pa.large_string()), ("json", {"a": 1}, pa.large_string()),
)  # fmt: skip
# a type, a value that it holds, and one that it does not
HOLDS = (
    ("integer", "12", "1.5"), ("integer", 2**63 - 1, 2**63), ("decimal(4,2)", "99.99", "100.00"), ("decimal(4,2)", 1.25, 1.255),
    ("date", "2026-12-31", "2026-12-32"), ("time", "23:59:59", "24:00:00"), ("timestamp", "2026-03-04T10:00:00", "2026-03-04T10:00:00.5"),
    ("timestamp(1)", "2026-03-04T10:00:00.5", "2026-03-04T10:00:00.55"), ("boolean", "true", "maybe"), ("uuid", "6f0b1f60-5b1e-4c0e-9d57-1d1f0e0c1a2b", "6f0b"),
    ("double", "1.5", "x"), ("timestamp_tz", "2026-03-04T10:00:00+01:00", "2026-03-04T10:00:00+25:00"),
)  # fmt: skip


class TypesPageTest(FolderTest):
    def test_what_is_drafted_and_comes_back(self):
        for values, expected, note in DRAFTED:
            lines = "".join(f'{{"x":{value}}}\n' for value in values)
            for kernel in KERNELS:
                with self.subTest(values, kernel=kernel):
                    source = self.write("x.ndjson", lines)
                    line = next(
                        line
                        for line in tessaron.draft(source, kernel=kernel).text.splitlines()
                        if line.startswith("x ")
                    )
                    self.assertIn(f'type = "{expected}"', line)
                    self.assertIn(note, line)
                    tessaron.export(source, self.folder / "out", replace=True, kernel=kernel)
                    self.assertTrue(tessaron.verify(self.folder / "out", source).passed)
                    tessaron.rebuild(self.folder / "out", self.folder / "back.ndjson", replace=True)
                    back = [
                        json.loads(text, parse_float=Decimal)
                        for text in (self.folder / "back.ndjson").read_text().splitlines()
                    ]
                    given = [json.loads(text, parse_float=Decimal) for text in lines.splitlines()]
                    self.assertEqual([row.get("x") for row in back], [row["x"] for row in given])

    def test_what_arrow_has_of_each(self):
        for name, value, expected in ARROW:
            with self.subTest(name):
                layout = tessaron.Layout(
                    f'[tables.t]\nrows = "$"\ncolumns.x = {{ path = "$.x", type = "{name}" }}'
                )
                self.assertEqual(
                    tessaron.shred([{"x": value}], layout=layout)["t"].schema.field("x").type, expected
                )

    def test_what_each_type_holds(self):
        for name, good, bad in HOLDS:
            layout = tessaron.Layout(
                f'[tables.t]\nrows = "$"\ncolumns.x = {{ path = "$.x", type = "{name}" }}'
            )
            with self.subTest(name, good=good, bad=bad):
                tables = tessaron.shred([{"x": good}, {"x": bad}], layout=layout)
                self.assertEqual([row["x"] is None for row in tables["t"].to_pylist()], [False, True])
                self.assertEqual([(reject.code, reject.record) for reject in tables.rejects], [("misfit", 2)])


if __name__ == "__main__":
    unittest.main()
