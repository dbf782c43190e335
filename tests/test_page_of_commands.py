"""Every command and option of `docs/reference.md`: each is there, none is missing, and does what it says."""

import json
import re
import unittest
from pathlib import Path

import click
import pyarrow.parquet as pq

from tessaron.cli import main
from tests.harness import FolderTest, quick_command

PAGE = (
    (Path(__file__).parent.parent / "docs" / "reference.md").read_text("utf-8").partition("## Functions")[0]
)
CALLS = (
    '{"call_id":"C1","eta":"2026-01-31","stays":[{"berth":"N1","moves":[{"teu":1},{"teu":2}]},{"berth":"S1","moves":[]}],"services":["tug","pilot"]}\n'
    '{"call_id":"C2","eta":null,"stays":[],"tides":{"a":1,"b":2},"services":[]}\n'
    '{"call_id":"C3","eta":"=1+1","stays":[{"berth":"N1","moves":[{"teu":9}]}],"services":["tug"]}\n'
)
PAGES = '{"page":1,"calls":[{"id":1,"status":"open"},{"id":2,"status":"shut"}]}\n'
# options of export beside SOURCE and -o; the rows of each table (only those named are looked at)
EXPORTS = (
    ((), {"calls": 3, "calls_stays": 3, "calls_stays_moves": 3, "calls_services": 3}),
    (("--name", "visits"), {"visits": 3, "visits_stays": 3}), (("--only", "call_id"), {"calls": 3}),
    (("--only", "call_id", "--only", "$.stays[*].berth"), {"calls": 3, "calls_stays": 3}), (("--without", "$.stays"), {"calls": 3, "calls_services": 3}),
    (("--flat", "$.stays[*].moves[*]"), {"calls_stays_moves": 3}), (("--flat", "$.stays[*].moves[*]", "--with-empty"), {"calls_stays_moves": 5}),
    (("--flat", "$.stays[*]", "--times", "$.services[*]"), {"calls_stays": 5}), (("--dictionary", "$.tides"), {"calls": 3, "calls_tides": 2}),
    (("--records", "$.stays[*]"), {"stays": 3, "stays_moves": 3}), (("--records", "$.stays[?@.berth == 'N1']"), {"stays": 2}),
)  # fmt: skip
# options; the columns of the top table
COLUMNS = (
    (("--origin",), ["row_key", "origin_file", "origin_record", "origin_line", "call_id", "eta"]),
    (("--exact",), ["row_key", "call_id", "eta", "tides_a", "tides_b", "row_rest"]), (("--only", "call_id"), ["row_key", "call_id"]),
)  # fmt: skip
# arguments, and what is said on standard error; all end with status 2 and nothing written
REFUSED = (
    (("--workers", "0"), "--workers"), (("--memory", "1MB"), "200"), (("--keys", "none"), "'sequence', 'digest'"), (("--key", "nope"), "no column 'nope'"),
    (("--flat", "$.nope[*]"), "no rows stand at"), (("--times", "$.services[*]"), "goes with flat"), (("--with-empty",), "goes with flat"), (("--only", "nope"), "nothing is met by the pattern"),
    (("--records", "$.nope[*]"), "nope"), (("--records", "$["), "expected"), (("--format", "xls"), "'parquet', 'csv'"), (("--most-columns", "5"), "20"),
    (("--stop-at-share", "200%"), "share"), (("--xsd", "no.xsd"), "XML"), (("--white-space", "keep"), "XML"), (("--namespace", "m"), "PREFIX=URI"),
    (("--depth-limit", "0"), "depth"), (("--for-spreadsheets",), "csv"), (("--layout", "none.toml"), "none.toml"), (("--shared", "$.eta"), "$.eta"),
)  # fmt: skip

CONTEXT = click.Context(main)
COMMANDS = {name: main.get_command(CONTEXT, name) for name in main.list_commands(CONTEXT)}


def documented():
    """Return for each command the options that begin lines of its table, and all that the page names there."""
    found = {}
    for title, text in re.findall(r"^### `tessaron (\w+).*?$(.*?)(?=^### |\Z)", PAGE, re.M | re.S):
        cells = " ".join(line.split(" | ")[0] for line in text.splitlines() if line.startswith("|"))
        found[title] = [set(re.findall(r"--[a-z][a-z-]*", where)) for where in (cells, text)]
    return found


class OptionsTest(unittest.TestCase):
    def test_the_page_lists_every_option_and_no_other(self):
        listed = documented()
        # values and compose stand under one heading.
        self.assertEqual(set(COMMANDS) - {"compose"}, set(listed))
        for name, command in COMMANDS.items():
            real = {
                flag
                for each in command.params
                for flag in (*each.opts, *each.secondary_opts)
                if flag.startswith("--")
            }
            in_table, named = listed["values" if name == "compose" else name]
            with self.subTest(name):
                self.assertEqual(real - {"--help"} - named, set())
                self.assertEqual(in_table - real if name not in ("values", "compose") else set(), set())

    def test_every_command_explains_itself(self):
        for name in COMMANDS:
            with self.subTest(name):
                done = quick_command(name, "--help")
                self.assertEqual(done.returncode, 0)
                self.assertIn("Usage: ", done.stdout.decode())
                for line in done.stdout.decode().splitlines():
                    self.assertLessEqual(len(line), 110)


class ExportOptionsTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.source = self.write("calls.ndjson", CALLS)
        self.out = self.folder / "out"

    def export(self, *options, status=0):
        done = quick_command("export", self.source, "-o", self.out, "--replace", *options)
        self.assertEqual(done.returncode, status, done.stderr)
        return done

    def rows(self):
        return {
            table["name"]: table["rows"]
            for table in json.loads((self.out / "receipt.json").read_text())["tables"]
        }

    def test_which_tables_come_out(self):
        for options, expected in EXPORTS:
            with self.subTest(options):
                self.export(*options)
                found = self.rows()
                self.assertEqual({name: found.get(name) for name in expected}, expected)
                if options[:1] in (("--only",), ("--flat",), ("--without",)):
                    self.assertEqual(set(found), set(expected))

    def test_which_columns_come_out(self):
        for options, expected in COLUMNS:
            with self.subTest(options):
                self.export(*options)
                self.assertEqual(pq.read_schema(self.out / "calls.parquet").names[: len(expected)], expected)

    def test_formats_and_spreadsheets(self):
        self.export("--format", "csv", "--for-spreadsheets")
        text = (self.out / "calls.csv").read_bytes()
        self.assertIn(b',"\'=1+1",', text)
        self.assertTrue(text.startswith(b'"row_key","call_id","eta","tides_a","tides_b"\r\n'))
        self.assertEqual(quick_command("verify", self.out).returncode, 0)

    def test_keys(self):
        self.export("--keys", "digest", "--key", "call_id")
        first = pq.read_table(self.out / "calls.parquet").column("row_key").to_pylist()
        self.write("calls.ndjson", "\n".join(reversed(CALLS.splitlines())) + "\n")
        self.export("--keys", "digest", "--key", "call_id")
        self.assertEqual(pq.read_table(self.out / "calls.parquet").column("row_key").to_pylist(), first[::-1])
        self.assertIn("eta", self.export("--key", "eta", status=1).stderr.decode())

    def test_rejects_and_limits(self):
        self.write("calls.ndjson", CALLS + '{"a":\n{"b":1,"b":2}\n')
        for options, status in (
            ((), 1), (("--stop-after", "1"), 1), (("--stop-after", "0"), 2), (("--stop-at-share", "50%"), 1), (("--duplicate-keys", "reject"), 1),
        ):  # fmt: skip
            with self.subTest(options):
                self.export(*options, status=status)
        self.assertEqual(len((self.out / "rejects.ndjson").read_text().splitlines()), 2)
        (self.out / "rejects.ndjson").rename(self.folder / "mended.ndjson")
        lines = [json.loads(line) for line in (self.folder / "mended.ndjson").read_text().splitlines()]
        lines[0]["raw"] = '{"a":7}'
        lines[1]["raw"] = '{"b":1}'
        mended = self.write("mended.ndjson", "".join(json.dumps(line) + "\n" for line in lines))
        done = quick_command("export", "--from-rejects", mended, "-o", self.folder / "rest")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(pq.read_table(next((self.folder / "rest").glob("*.parquet"))).num_rows, 2)

    def test_what_cannot_be_right_is_refused_and_writes_nothing(self):
        for options, said in REFUSED:
            with self.subTest(options):
                done = quick_command("export", self.source, "-o", self.out, *options)
                self.assertEqual(done.returncode, 2, done.stderr)
                self.assertIn(said, done.stderr.decode())
                self.assertFalse(self.out.exists())

    def test_envelopes(self):
        self.source = self.write("calls.json", PAGES)
        self.export()
        self.assertEqual(self.rows(), {"calls": 2, "calls_documents": 1})
        self.export("--no-envelope")
        self.assertEqual(self.rows(), {"calls": 2})
        self.export("--records", "$")
        self.assertEqual(self.rows(), {"calls": 1, "calls_calls": 2})

    def test_a_target_is_not_replaced_unless_asked(self):
        self.export()
        done = quick_command("export", self.source, "-o", self.out)
        self.assertEqual(done.returncode, 2)
        self.assertIn("--replace", done.stderr.decode())
        self.write("out/notes.txt", "mine")
        done = quick_command("export", self.source, "-o", self.out, "--replace")
        self.assertEqual(done.returncode, 2)
        self.assertEqual((self.out / "notes.txt").read_text(), "mine")

    def test_forms_of_rebuild(self):
        self.export()
        for form, name, check in (
            ("lines", "again.ndjson", lambda path: len(path.read_text().splitlines()) == 3),
            ("array", "again.json", lambda path: len(json.loads(path.read_text())) == 3),
            ("files", "again", lambda path: len(list(path.glob("*.json"))) == 3),
        ):
            with self.subTest(form):
                target = self.folder / name
                done = quick_command("rebuild", self.out, "-o", target, "--as", form)
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertTrue(check(target))
        self.assertEqual(
            quick_command("rebuild", self.out, "-o", self.folder / "x.json", "--as", "documents").returncode,
            2,
        )

    def test_results_for_programs(self):
        self.export()
        cases = (
            (("survey", self.source), "paths"), (("draft", self.source), None), (("verify", self.out), "checks"),
            (("export", self.source, "-o", self.out, "--replace"), "tables"), (("preview", self.source), None),
        )  # fmt: skip
        for arguments, key in cases:
            with self.subTest(arguments[0]):
                done = quick_command(*arguments, *(["--json"] if key else []))
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertTrue(key is None or key in json.loads(done.stdout))


if __name__ == "__main__":
    unittest.main()
