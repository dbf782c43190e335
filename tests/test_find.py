"""Finding: paths at the command line and from Python, values as lines and back, help when nothing matches."""

import csv
import io
import json
import subprocess
import sys
import unittest
from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.errors import DataError
from tessaron.core.base.json_text import indented_text, json_text
from tessaron.core.cutting.head_sample import sample_documents
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.record_reader import RecordReader
from tessaron.core.lines.value_lines import Composer, value_lines
from tessaron.core.query.jsonpath import parse_path
from tessaron.core.query.jsonpath_advice import advise
from tests.harness import FolderTest, command, needs_compiled, quick_command

PAGE = {
    "page": 1,
    "run": {"id": "r1"},
    "calls": [
        {"id": 1, "status": "open", "stays": [{"berth": "N1", "t": 1.5}, {"berth": "N2"}]},
        {"id": 2, "status": "done", "stays": []},
        {"id": 3, "status": "open", "stays": [{"berth": "S1"}], "note": "two\nlines"},
    ],
}
JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(10**20), 10**20) | st.text('ab\'"\\\n\té\u2028', max_size=4),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text("ab'.]\\\n", max_size=3), inner, max_size=3),
    max_leaves=10,
)  # fmt: skip


def parsed(text):
    (record,) = RecordReader(text.encode(), Separator.NOTHING, False, KernelOptions())
    return record.value


class FromPythonTest(FolderTest):
    def find(self, path, source=None, **options):
        source = self.write("feed.json", json.dumps(PAGE)) if source is None else source
        return [(found.path, found.value) for found in tessaron.find(source, path, **options)]

    def test_places_and_values(self):
        cases = {
            "$.calls[*].id": [("$['calls'][0]['id']", 1), ("$['calls'][1]['id']", 2), ("$['calls'][2]['id']", 3)],
            "$.calls[?@.status=='done'].id": [("$['calls'][1]['id']", 2)],
            "$.calls[-1].stays[0].berth": [("$['calls'][2]['stays'][0]['berth']", "S1")],
            "$..t": [("$['calls'][0]['stays'][0]['t']", Decimal("1.5"))],
            "$.run.*": [("$['run']['id']", "r1")],
            "$.run[?@=='r1']": [("$['run']['id']", "r1")],
            "$.calls[?@.id==$.page].id": [("$['calls'][0]['id']", 1)],
            "$.page": [("$['page']", 1)],
        }  # fmt: skip
        for path, expected in cases.items():
            with self.subTest(path):
                self.assertEqual(self.find(path), expected)

    def test_streamed_and_whole_agree(self):
        """A path that can be evaluated piece by piece gives what it gives on the parsed document."""
        for path in (
            "$.calls[*].stays[*]",
            "$.calls[?@.stays]",
            "$.calls[?@.id>1].stays[*].berth",
            "$.run[*]",
            "$[*]",
        ):
            for text in (json.dumps(PAGE), json.dumps(PAGE, indent=2)):
                with self.subTest(path):
                    expected = [
                        match.value for match in parse_path(path).find(json.loads(text, parse_float=Decimal))
                    ]
                    found = [item for _, item in self.find(path, text.encode())]
                    self.assertEqual(found, expected)

    def test_lines_records_and_objects(self):
        lines = b'{"a":[1,2]}\n{"a":[3]}\n'
        found = list(tessaron.find(lines, "$.a[0]"))
        self.assertEqual([(f.path, f.value, f.record, f.line) for f in found], [("$['a'][0]", 1, 1, 1), ("$['a'][0]", 3, 2, 2)])  # fmt: skip
        self.assertEqual(
            self.find("$.id", records="$.calls[*]"), [("$['id']", 1), ("$['id']", 2), ("$['id']", 3)]
        )
        self.assertEqual(
            self.find("$.x[?@>1]", [{"x": [1, 2]}, {"x": [3]}]), [("$['x'][1]", 2), ("$['x'][0]", 3)]
        )
        self.assertIn("$['a'][0] = 1", repr(found[0]))

    def test_long_documents_keep_their_lines_and_numbers(self):
        text = "[\n" + ",\n".join(json.dumps({"n": n, "pad": "x" * 500}) for n in range(5_000)) + "\n]"
        found = list(tessaron.find(text.encode(), "$[?@.n==4999]"))
        self.assertEqual([(f.path, f.line) for f in found], [("$[4999]", 5_001)])

    def test_faults_have_their_place(self):
        with self.assertRaisesRegex(tessaron.DataError, r"line 2, byte 13, .*\$\.a: expected a value"):
            list(tessaron.find(b'{"a":1}\n{"a":nope}', "$.a"))
        with self.assertRaisesRegex(tessaron.UsageError, "character 3"):
            tessaron.find(b"{}", "$.")


class CommandTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.feed = self.write("feed.json", json.dumps(PAGE))

    def test_forms_of_output(self):
        cases = (
            (["$.calls[*].stays[*].berth"], '"N1"\n"N2"\n"S1"\n'),
            (["$.calls[*].stays[*].berth", "--raw"], "N1\nN2\nS1\n"),
            (["$.calls[2].note", "--raw"], "two\\nlines\n"),
            (["$.calls[*].stays[*]", "--count"], "3\n"),
            (["$.calls[*].id", "--first", "2"], "1\n2\n"),
            (["$.calls[0].stays[0]"], '{"berth":"N1","t":1.5}\n'),
            (["$.id", "--records", "$.calls[*]", "--first", "1"], "1\n"),
            (["$.page", "--where-found"], f"$['page']\t{self.feed}\t1\t1\n"),
            (["$.calls[*]", "--pick", "id=$.id", "--pick", "b=@.stays[*].berth", "--as", "csv"],
             'id,b\r\n1,"[""N1"",""N2""]"\r\n2,\r\n3,S1\r\n'),
            (["$.calls[2]", "--pick", "note=$.note", "--as", "tsv"], "note\ntwo\\nlines\n"),
            (["$.calls[1]", "--pick", "id=$.id", "--pick", "x=$.x", "--as", "json"], '{"id":2,"x":null}\n'),
            (["$.calls[1]", "--pick", "id=$.id", "--pick", "x=$.x"], "id  x\n──  ────\n 2  null\n"),
        )  # fmt: skip
        for arguments, expected in cases:
            with self.subTest(arguments):
                done = quick_command("find", self.feed, *arguments)
                self.assertEqual((done.stdout.decode(), done.returncode), (expected, 0), done.stderr)

    def test_no_match_is_never_silent(self):
        cases = {
            "$.calls.id": ["$.calls matches once: an array, whose elements [*] steps into", "did you mean $.calls[*].id"],
            "$.calls[*].Stays[*].berth": ["$.calls[*] matches 3 times", "did you mean $.calls[*].stays[*].berth"],
            "$.call[*].id": ["$ matches once: an object with page, run, calls", "did you mean $.calls[*].id"],
            "$.calls[*].berth": ["did you mean $.calls[*].stays[*].berth"],
            "$.calls[*].stays[*].breth": ["$.calls[*].stays[*] matches 3 times", "did you mean $.calls[*].stays[*].berth"],
            "$.calls[9]": ["an array of at most 3 elements"],
            "$.calls[?@.status=='opne']": ['the filter finds "open" (2), "done" (1)'],
            "$.calls[?@.zzz==1]": ["what the filter compares is in none of them"],
            "$.run[*].id": ["$.run[*] matches once: a text", "did you mean $.run.id"],
            "$..Berth": ["did you mean $.calls[*].stays[*].berth"],
        }  # fmt: skip
        for path, expected in cases.items():
            with self.subTest(path):
                done = quick_command("find", self.feed, path)
                self.assertEqual((done.stdout, done.returncode), (b"", 1))
                for part in [f"nothing matches {path}", *expected]:
                    self.assertIn(part, done.stderr.decode())

    def test_help_for_large_sources_is_judged_from_their_beginning(self):
        text = '{"calls":[' + ",".join(json.dumps({"id": n, "pad": "x" * 900}) for n in range(2_000)) + "]}"
        done = quick_command("find", self.write("large.json", text), "$.calls[*].idd")
        self.assertIn("$.calls[*] matches 2,000 times", done.stderr.decode())
        self.assertIn("did you mean $.calls[*].id\n", done.stderr.decode())
        self.assertIn("judged from the first megabyte", done.stderr.decode())

    def test_wrong_use(self):
        cases = (
            ([self.feed], "expected a source and a path"),
            ([self.feed, "$.a", "--as", "csv"], "--as gives the form of the rows of --pick"),
            ([self.feed, "$.a", "--pick", "x"], "expected --pick NAME=PATH"),
            ([self.feed, "$.a[?"], "character 6"),
            (["nothing.json", "$"], "nothing.json: cannot be read"),
        )
        for arguments, message in cases:
            with self.subTest(message):
                done = quick_command("find", *arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())

    def test_values_and_back(self):
        lines = quick_command("values", self.feed).stdout
        self.assertTrue(lines.startswith(b"$['page']\t1\n$['run']['id']\t\"r1\"\n$['calls'][0]['id']\t1\n"))
        back = command("compose", stdin=lines)
        self.assertEqual(back.stdout.decode(), json_text(PAGE, ascii_only=False) + "\n")
        cut = b"".join(line for line in lines.splitlines(True) if b"stays" in line)
        lifted = cut.replace(b"$['calls']", b"$")
        self.assertEqual(
            json.loads(command("compose", "--indent", "1", stdin=lifted).stdout),
            [{"stays": call["stays"]} for call in PAGE["calls"]],
        )

    def test_several_documents(self):
        source = self.write("two.ndjson", '{"a":1}\n{"a":[]}\n')
        done = quick_command("values", source)
        self.assertEqual(done.stdout, b"$[0]['a']\t1\n$[1]['a']\t[]\n")
        self.assertIn(b"compose --lines", done.stderr)
        self.assertEqual(command("compose", "--lines", stdin=done.stdout).stdout, b'{"a":1}\n{"a":[]}\n')

    @needs_compiled
    def test_it_starts_fast(self):
        """What a small find loads: nothing of the heavy libraries."""
        code = "import sys; sys.argv = ['tessaron', 'find', sys.argv[1], '$.page']\nfrom tessaron.cli import main\nmain(standalone_mode=False)\nprint([name for name in ('numpy', 'pyarrow', 'rich') if name in sys.modules])"
        done = subprocess.run(
            [sys.executable, "-c", code, str(self.feed)], capture_output=True, text=True, check=True
        )
        self.assertEqual(done.stdout, "1\n[]\n")


class ComposeTest(unittest.TestCase):
    def compose(self, *lines):
        composer = Composer("lines")
        for line in lines:
            composer.add(line)
        return composer.document()

    @settings(max_examples=120, deadline=None)
    @given(JSON, st.randoms())
    def test_any_document_comes_back(self, document, chance):
        value = parsed(json.dumps(document))
        lines = list(value_lines(value))
        self.assertEqual(json_text(self.compose(*lines)), json_text(value))
        self.assertEqual(json.loads(indented_text(value, 2)), document)
        chance.shuffle(lines)
        self.assertEqual(json.loads(json_text(self.compose(*lines))), document)

    def test_edited_lines(self):
        cases = {
            ("$[5]\t1", "$[2]\t2"): [2, 1],
            ("$.a.b\t1", "", "$['a']['c']\t{}"): {"a": {"b": 1, "c": {}}},
            ("$.a\t[]", "$.a[3]\t7"): {"a": [7]},
            ('$.a\t{"b": [1]}', "$.a.c\t2"): {"a": {"b": [1], "c": 2}},
            ("$\t5",): 5,
        }
        for lines, expected in cases.items():
            with self.subTest(lines):
                self.assertEqual(json.loads(json_text(self.compose(*lines))), expected)

    def test_contradictions_and_faults(self):
        cases = {
            ("$.a\t1", "$.a\t2"): r"line 2: \$\.a does not go with line 1, by which there is a value already",
            ("$.a\t1", "$.a.b\t2"): "line 2: .* does not go with line 1",
            ("$.a.b\t1", "$.a[0]\t2"): "line 2: .* by which there is an object already",
            ("$[0]\t1", "$\t{}"): "line 2: .* by which there is an array already",
            ("$.a 1",): "line 1: expected a path, a tab and a value as JSON, found no tab",
            ("$..a\t1",): r"line 1: expected a path to one value, of names and indices from 0, found \$\.\.a",
            ("$[-1]\t1",): "expected a path to one value",
            ("$.a\t01",): "line 1: the value is no JSON",
            ("$.a\t1 2",): "expected one value behind the tab",
            ("a\t1",): "line 1: path 'a', character 1",
            (): "no lines; expected what `tessaron values` prints",
        }
        for lines, message in cases.items():
            with self.subTest(lines), self.assertRaisesRegex(DataError, message):
                self.compose(*lines)


class AdviceTest(unittest.TestCase):
    def test_counts_of_the_whole_run_are_used(self):
        advice = advise(parse_path("$.a.c"), [{"a": {"b": 1}}], [900, 800, 0])
        self.assertEqual((advice.deepest, advice.matched, advice.there), ("$.a", 800, "an object with b"))

    def test_samples_of_cut_documents(self):
        whole = json.dumps(PAGE)
        for size in range(1, len(whole)):
            found, complete = sample_documents(whole[:size].encode())
            self.assertFalse(complete)
            self.assertLessEqual(len(found), 1)
        self.assertEqual(sample_documents(whole.encode()), ([PAGE], True))
        self.assertEqual(sample_documents(b'{"a":1} {"a":2}\n[3'), ([{"a": 1}, {"a": 2}, []], False))
        self.assertEqual(sample_documents(b"hello"), ([], False))
        self.assertEqual(
            sample_documents(whole[: whole.index("N2")].encode())[0][0]["calls"][0]["stays"][0],
            {"berth": "N1", "t": 1.5},
        )


class RowsTest(FolderTest):
    def test_csv_can_be_read_back(self):
        values = ["plain", 'quo"te', "comma,", "two\nlines", "", None, "\r"]
        text = json.dumps([{"v": value, "n": index} for index, value in enumerate(values)])
        done = quick_command(
            "find", self.write("v.json", text), "$[*]", "--pick", "v=$.v", "--pick", "n=$.n", "--as", "csv"
        )
        rows = list(csv.reader(io.StringIO(done.stdout.decode(), newline="")))
        self.assertEqual(rows[1:], [[value or "", str(index)] for index, value in enumerate(values)])
        self.assertIn(b'"",4\r\n,5\r\n', done.stdout)
