"""What becomes of broken input: the broken record is a reject, the rest goes on, and limits stop a run."""

import gzip
import json
import re
import unittest
from pathlib import Path
from unittest import mock

import pyarrow.parquet as pq

import tessaron
from tessaron.core.base.errors import Code
from tests.harness import FolderTest, quick_command

LINES = b'{"id":1}\n{"id":2,"a":[3,}\n{"id":3,"t":"x\xffy"}\n{"id":4}\n{"id":5,"t":'


def rejects_in(folder: Path):
    path = folder / "rejects.ndjson"
    return [json.loads(line) for line in path.read_text("utf-8").splitlines()] if path.exists() else []


class CodesTest(unittest.TestCase):
    def test_the_page_of_rejects_tells_every_code(self):
        page = (
            (Path(__file__).parent.parent / "docs" / "rejects.md").read_text("utf-8").partition("## Codes")[2]
        )
        told = re.findall(r"`([a-z_]+)`", " ".join(line.partition(" | ")[0] for line in page.splitlines()))
        self.assertEqual(sorted(told), sorted(Code))


# keys of a column with the path of it, the value, whether strict; the message of its reject, and what is found
SAID = (
    ("$.x", 'type = "boolean", words = ["J", "N"]', "X", False, "t.x: expected boolean of J/N, got 'X'", ("misfit", "value")),
    ("$.x", 'type = "date", format = "%d.%m.%Y"', "x", False, "t.x: expected date as %d.%m.%Y, got 'x'", ("misfit", "value")),
    ("$.x", 'type = "text", required = true', None, False, "t.x: expected a value, got none", ("required", "record")),
    ("$.x", 'type = "text", allowed = ["a"]', "b", False, "t.x: expected one of 'a', got 'b'", ("allowed", "record")),
    ("$.x", 'type = "text", allowed = ["a"], mask = "constant"', "b", False, "t.x: expected one of 'a', got a value (masked)", ("allowed", "record")),
    ("$.x[*]", 'type = "integer", numbered = 2', [1, 2, 3], False, None, ("beyond", "note")),
    ("$.x[*]", 'type = "integer", numbered = 2', [1, 2, 3], True, "t.x: only the first 2 of the values have a column", ("beyond", "value")),
    ("$.x[*]", 'flags = ["a"]', ["a", "b"], False, None, ("no_flag", "note")), ("$.x[*]", 'flags = ["a"]', ["a", "b"], True, None, ("no_flag", "note")),
    ("$.x", 'type = "json"', 5, False, None, None), ("$.x", 'type = "json"', {"a": [5]}, False, None, None),
)  # fmt: skip


class SaidTest(FolderTest):
    def test_what_is_said_of_values_that_a_layout_does_not_allow(self):
        for path, keys, value, strict, message, finding in SAID:
            layout = tessaron.Layout(f'[tables.t]\nrows = "$"\ncolumns.x = {{ path = "{path}", {keys} }}')
            with self.subTest(keys=keys, value=value, strict=strict):
                target = self.folder / "out"
                receipt = tessaron.export(
                    [{"x": value, "y": 1}], target, layout=layout, strict=strict, replace=True
                )
                listed = target / "rejects.ndjson"
                said = (
                    [json.loads(line)["message"] for line in listed.read_text("utf-8").splitlines()]
                    if listed.exists()
                    else []
                )
                self.assertEqual(said, [] if message is None else [message])
                self.assertEqual(
                    [(each.code, each.outcome) for each in receipt.findings],
                    [] if finding is None else [finding],
                )
                # What has no column is left out, and counted; what is in one is not.
                self.assertEqual([(each.path, each.values) for each in receipt.left_out], [("$.y", 1)])


class RecoveryTest(FolderTest):
    def test_what_is_left_and_what_is_rejected(self):
        envelope = b'{"page":1,"calls":[{"id":1},{"id":2,"a":x},{"id":3}]}'
        cases = (
            ("bad lines", LINES, [1, 4], [("syntax", 2, 2, "record"), ("encoding", 3, 3, "record"),
                                          ("truncated", 5, 5, "record")]),
            ("a line that is no JSON, a line that goes on", b'{"id":1}\nsee below\n{"id":2};\n{"id":3}', [1, 3],
             [("syntax", 2, 2, "record"), ("syntax", 3, 3, "record")]),
            ("bad UTF-8 in an array", b'[{"id":1},{"id":2,"t":"\xff"},{"id":3}]', [1, 3],
             [("encoding", 1, 2, "record")]),
            ("an array that breaks", b'[{"id":1},\n{"id":2},\n{"id":3,"z":tru},{"id":4}]', [1, 2],
             [("syntax", 3, 3, "record")]),
            ("an array cut off", b'[{"id":1},{"id":2},{"id":3,"z"', [1, 2], [("truncated", 1, 3, "record")]),
            ("an array not closed", b'[{"id":1},{"id":2}', [1, 2], [("truncated", None, None, "rest")]),
            ("an array with a tail", b'[{"id":1}] x', [1], [("syntax", None, None, "rest")]),
            ("one after another", b'{"id":1,\n"b":2}\n{"id":2,\n"b":}\n{"id":3}', [1], [("syntax", 4, 2, "record")]),
            ("an envelope", envelope, [1], [("syntax", 1, 2, "record")]),
            ("compressed and cut off", gzip.compress(b'{"id":1}\n' * 20_000)[:-30], None,
             [("compression", None, None, "rest")]),
            ("XML", b"<calls><call><id>1</id></call><call><id>2</id></call><call><id>3</i></call></calls>", [1, 2],
             [("syntax", 1, 3, "record")]),
        )  # fmt: skip
        for name, data, ids, expected in cases:
            small = 200 if ids is None else 7
            for chunk_bytes, workers in ((small, 1), (10**6, 1), (small, 3)):
                # With threads what is behind a fault is read ahead, and is to count for nothing.
                with (
                    self.subTest(name, chunk_bytes=chunk_bytes, workers=workers),
                    mock.patch("tessaron.engine.pool.PARALLEL_BYTES", 0),
                ):
                    source, target = self.write("s", data), self.folder / "o"
                    receipt = tessaron.export(
                        source, target, name="calls", replace=True, chunk_bytes=chunk_bytes, workers=workers
                    )
                    found = rejects_in(target)
                    places = [
                        (each["code"], each["line"], each["record"], each["rejected"]) for each in found
                    ]
                    if ids is None:
                        # Where in the last line it breaks off depends on how it was packed.
                        places = [place for place in places if place[0] != "truncated"]
                    self.assertEqual(places, expected)
                    self.assertEqual((receipt.rejected, receipt.passed), (len(found), False))
                    self.assertEqual(receipt.gaps, [])
                    if ids is not None:
                        self.assertEqual(
                            pq.read_table(target / "calls.parquet").column("id").to_pylist(), ids
                        )

    def test_a_reject_says_all_there_is_to_say(self):
        source, target = self.write("s.ndjson", LINES), self.folder / "o"
        done = quick_command("export", source, "-o", target)
        self.assertEqual(done.returncode, 1)
        self.assertIn(b"3 records left out (1 syntax, 1 encoding, 1 truncated)", done.stderr)
        self.assertEqual(
            rejects_in(target)[1],
            {
                "source": str(source), "line": 3, "byte_offset": 40, "record": 3, "path": "$.t",
                "code": "encoding", "message": "byte 0xFF is not UTF-8; save the source as UTF-8",
                "rejected": "record", "column": None, "raw": '{"id":3,"t":"x\\xffy"}', "is_whole": True,
            },
        )  # fmt: skip

    def test_all_rejects_are_listed_and_long_ones_are_cut(self):
        lines = (
            "".join(f'{{"id":{n},}}\n' for n in range(1_500))
            + '{"id":1,"t":"'
            + "x" * 100_000
            + '",}\n{"id":1}'
        )
        target = self.folder / "o"
        tessaron.export(lines.encode(), target)
        found = rejects_in(target)
        self.assertEqual(len(found), 1_501)
        self.assertEqual((len(found[-1]["raw"]), found[-1]["is_whole"]), (65_536, False))

    def test_mended_rejects_run_again(self):
        source, first, second = self.write("s.ndjson", LINES), self.folder / "a", self.folder / "b"
        tessaron.export(source, first)
        path = first / "rejects.ndjson"
        path.write_text(path.read_text().replace("[3,}", "[3]}").replace("x\\\\xffy", "xy"))
        done = quick_command("export", "--from-rejects", path, "-o", second, "--name", "s")
        self.assertEqual(done.returncode, 1)
        self.assertEqual(pq.read_table(second / "s.parquet").column("id").to_pylist(), [2, 3])
        self.assertEqual([each["code"] for each in rejects_in(second)], ["truncated"])
        for content, message in (
            ("{}\n", "expected a line of a rejects.ndjson"),
            ("", "has no record that could"),
        ):
            with self.subTest(message):
                done = quick_command(
                    "export", "--from-rejects", self.write("r", content), "-o", self.folder / "c"
                )
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())

    def test_rejects_of_a_layout_have_their_records(self):
        layout = tessaron.Layout(
            '[tables.calls]\nrows = "$"\n[tables.calls.columns]\n'
            'id = { path = "$.id", type = "integer", misfit = "record" }\nn = { path = "$.n", type = "integer" }\n'
        )
        data = b'{"id":1,"n":1}\n{"id":"x","n":2}\n{"id":3,"n":"y"}\n'
        receipt = tessaron.export(data, self.folder / "o", layout=layout)
        found = [(each["rejected"], each["raw"]) for each in rejects_in(self.folder / "o")]
        self.assertEqual(sorted(found), [("record", '{"id":"x","n":2}'), ("value", '{"id":3,"n":"y"}')])
        self.assertEqual((receipt.gaps, receipt.rejected, receipt.rejected_values), ([], 1, 1))
        sums = {
            each.name: (each.read, each.written, each.filtered, each.rejected) for each in receipt.balance
        }
        self.assertEqual(sums["calls.n"], (3, 1, 1, 1))

    def test_limits(self):
        source = self.write("s.ndjson", LINES)
        cases = (
            (("--stop-after", 2), 2, "more than 2 rejects (1 syntax, 1 encoding, 1 truncated)"),
            (("--stop-after", 3), 1, "3 records left out"),
            (("--stop-at-share", "50%"), 2, "3 of 5 records rejected, more than 50%"),
            (("--stop-at-share", "0.6"), 1, "3 records left out"),
            (("--stop-at-share", "1.5"), 2, "expected a share like 1% or 0.01"),
        )
        for options, status, message in cases:
            with self.subTest(options):
                done = quick_command(
                    "export", source, "-o", self.folder / f"o{status}", "--replace", *options
                )
                self.assertEqual(done.returncode, status)
                self.assertIn(message, done.stderr.decode())
        self.assertFalse((self.folder / "o2").exists())

    def test_other_commands_say_what_they_passed_over(self):
        source = self.write("s.ndjson", LINES)
        for command in ("survey", "preview", "draft"):
            with self.subTest(command):
                done = quick_command(command, source)
                self.assertEqual(done.returncode, 0)
                self.assertRegex(
                    (done.stdout + done.stderr).decode(), "3 (records cannot be read|rejects, which)"
                )


if __name__ == "__main__":
    unittest.main()
