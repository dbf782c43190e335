"""Spreadsheets as target: what another reader finds in them."""

import datetime
import json
import unittest
from unittest import mock

import openpyxl

import tessaron
from tests.harness import FolderTest, quick_command

RECORDS = [
    {"id": 1, "big": 123456789012345678, "d": 1.50, "ok": True, "day": "2026-01-31", "at": "2026-01-02 03:04:05.250", "hm": "03:04:05", "note": "=1+1", "s": [{"x": "http://a.b"}, {"x": "  "}]},
    {"id": 2, "big": 7, "d": 2.25, "ok": False, "day": "1899-01-31", "at": "2026-01-02 03:04:05.000", "hm": "23:00:00", "note": "", "s": []},
    {"id": 3, "long": 1.2345678901234567890, "s": [{"x": "{=SUM(A1)}"}]},
]  # fmt: skip


class SpreadsheetTest(FolderTest):
    def book(self, source=RECORDS, **options):
        receipt = tessaron.export(
            source, self.folder / "x", format="xlsx", replace=True, **{"name": "calls", **options}
        )
        return receipt, openpyxl.load_workbook(self.folder / "x" / receipt.tables[0].file)

    def test_what_another_reader_finds(self):
        receipt, book = self.book()
        self.assertEqual(book.sheetnames, ["contents", "calls", "calls_s"])
        rows = list(book["calls"].iter_rows(values_only=True))
        self.assertEqual(rows[0], ("row_key", "id", "big", "long", "d", "ok", "day", "at", "hm", "note"))
        self.assertEqual(
            rows[1],
            (
                1,
                1,
                "123456789012345678",
                None,
                1.5,
                True,
                datetime.datetime(2026, 1, 31),
                datetime.datetime(2026, 1, 2, 3, 4, 5, 250_000),
                datetime.time(3, 4, 5),
                "=1+1",
            ),
        )
        self.assertEqual((rows[2][2], rows[2][6], rows[2][9]), (7, "1899-01-31", ""))
        self.assertEqual([cell.data_type for cell in book["calls_s"]["D"]], ["s"] * 4)
        self.assertEqual(
            [cell.value for cell in book["calls_s"]["D"]], ["x", "http://a.b", "  ", "{=SUM(A1)}"]
        )
        self.assertEqual(
            (book["calls"].freeze_panes, book["calls"].auto_filter.ref, book["calls"]["E2"].number_format),
            ("A2", "A1:J4", "0.00"),
        )
        contents = list(book["contents"].iter_rows(values_only=True))
        self.assertEqual(
            contents[1:],
            [
                ("calls", 3, 10, "row_key", None, "$"),
                ("    calls_s", 3, 4, "row_key", "parent_key → calls", "$.s[*]"),
            ],
        )
        self.assertEqual(book["contents"]["A3"].hyperlink.location, "'calls_s'!A1")
        self.assertEqual((receipt.gaps, {table.file for table in receipt.tables}), ([], {"calls.xlsx"}))

    def test_names_of_sheets(self):
        names = ["a" * 40, "a" * 40 + "b", "Contents", "it's"]
        records = [{name: [1] for name in names}]
        _, book = self.book(records, name="t")
        self.assertEqual(len(set(map(str.lower, book.sheetnames))), 6)
        self.assertTrue(all(len(name) <= 31 for name in book.sheetnames))

    def test_more_than_a_sheet_holds(self):
        cases = (
            ("MOST_ROWS", 3, RECORDS, "calls: more than 2 rows"), ("MOST_COLUMNS", 5, RECORDS, "calls has 10 columns, and a sheet holds 5"),
            ("MOST_LETTERS", 32_767, [{"a": "x"}, {"a": "y" * 32_768}], r"calls\.a, row 2: a text of 32,768 letters"),
        )  # fmt: skip
        for name, value, source, said in cases:
            with (
                self.subTest(name),
                mock.patch(f"tessaron.sinks.spreadsheet_file.{name}", value),
                self.assertRaisesRegex(tessaron.TessaronError, said),
            ):
                self.book(source)
            self.assertFalse((self.folder / "x").exists())

    def test_the_command_and_the_proof(self):
        source = self.write("calls.ndjson", "\n".join(map(json.dumps, RECORDS)))
        done = quick_command("export", source, "-o", self.folder / "y", "--format", "xlsx")
        self.assertIn("calls.xlsx", done.stdout.decode())
        self.assertEqual(
            quick_command(
                "export", source, "-o", self.folder / "y", "--format", "xlsx", "--replace"
            ).returncode,
            0,
        )
        for name in ("verify", "rebuild"):
            done = quick_command(
                name, self.folder / "y", *(["-o", self.folder / "z"] if name == "rebuild" else [])
            )
            self.assertEqual(
                (done.returncode, b"holds a spreadsheet, which is for people" in done.stderr), (2, True)
            )
        with (
            mock.patch.dict("sys.modules", xlsxwriter=None),
            self.assertRaisesRegex(tessaron.UsageError, r"tessaron\[xlsx\]"),
        ):
            self.book()


if __name__ == "__main__":
    unittest.main()
