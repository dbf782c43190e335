"""Names, texts and numbers at the edges of JSON, through every command and back: nothing may collide or get lost."""

import itertools
import json
import unittest

import tessaron
from tests.harness import KERNELS, FolderTest, quick_command

HALVES = (
    b'{"\\ud800":1,"\\\\ud800":2,"v":"\\uD800x","w":"\\\\ud800x","o":{"k":"\\\\\\ud800","l":["\\udfff"]}}\n'
    b'{"v":"a","w":"\\\\ud83d","o":{"k":"\\\\\\\\ud83d","l":["\\ud83d\\ude00"]}}\n'
)
MARKS = b'{"\\u001fa":{"b":1,"c":[1]},"\\u001f":3,"\\u001f\\u001fb":1}\n{"\\u001fa":{"b":2}}\n'
ZEROS = b'{"a":0e39}\n{"a":0.0e400}\n{"a":-2e2}\n{"a":1.5}\n{"a":0E-99999}\n'


def shredded(data, **options):
    """Return the tables by both kernels, each record a chunk and all at once: they must be the same."""
    found = [
        {name: table.to_pylist() for name, table in tessaron.shred(data, kernel=kernel, chunk_bytes=size, **options).items()}
        for kernel, size in itertools.product(KERNELS, (1, 10**6))
    ]  # fmt: skip
    assert all(each == found[0] for each in found), found
    return found[0]


class OddNamesTest(FolderTest):
    def there_and_back(self, data, **options):
        """Return what rebuild makes of an export that verify finds identical."""
        source, target = self.write("calls.ndjson", data), self.folder / "out"
        tessaron.export(source, target, replace=True, **options)
        found = tessaron.verify(target)
        self.assertTrue(found.passed, found.to_json())
        tessaron.rebuild(target, self.folder / "back.ndjson", replace=True)
        return (self.folder / "back.ndjson").read_bytes()

    def test_half_surrogates_are_told_from_the_text_of_their_escape(self):
        first = shredded(HALVES)["calls" if "calls" in shredded(HALVES) else "records"][0]
        self.assertEqual((first["ud800"], first["ud800_2"]), (1, 2))
        self.assertEqual((first["v"], first["w"], first["o_k"]), ("\\ud800x", "\\ud800x", "\\\\ud800"))
        self.assertEqual(shredded(HALVES, exact=True)["records"][1]["w"], "\\ud83d")
        for options in ({"exact": True}, {"exact": True, "dictionaries": ["$.o"]}):
            with self.subTest(options):
                back = self.there_and_back(HALVES, **options)
                self.assertEqual(
                    list(map(json.loads, back.splitlines())), list(map(json.loads, HALVES.splitlines()))
                )
        back = self.there_and_back(HALVES)
        self.assertEqual(json.loads(back.splitlines()[0])["v"], "\\ud800x")

    def test_exact_tells_a_half_from_what_looks_like_one(self):
        target = self.folder / "out"
        tessaron.export(self.write("a.ndjson", b'{"a":"\\ud800"}'), target, exact=True)
        other = self.write("b.ndjson", b'{"a":"\\\\ud800"}')
        self.assertFalse(tessaron.verify(target, other).is_identical)

    def test_texts_with_halves_in_columns_of_json_and_in_embedded_documents(self):
        layout = tessaron.Layout(
            'exact = true\n[structure]\nembedded = { "$.e" = "json" }\n[tables.t]\nrows = "$"\n[tables.t.columns]\n'
            'j = { path = "$.j", type = "json" }\ne = { path = "$.e.x", type = "text" }\n'
        )
        data = b'{"j":{"\\ud800":"\\udc00\\\\ud83d"},"e":"{\\"x\\":\\"\\\\ud83d\\\\ude00\\"}"}'
        (row,) = shredded(data, layout=layout)["t"]
        self.assertEqual(json.loads(row["j"]), {"\ud800": "\udc00\\ud83d"})
        self.assertEqual(row["e"], "\U0001f600")

    def test_names_that_begin_with_the_mark_of_markup(self):
        rows = shredded(MARKS)
        self.assertEqual(list(rows), ["records", "records_a_c"])
        for options in ({}, {"exact": True}, {"dictionaries": ["$"]}):
            with self.subTest(options):
                self.assertEqual(
                    list(map(json.loads, self.there_and_back(MARKS, **options).splitlines())),
                    list(map(json.loads, MARKS.splitlines())),
                )

    def test_zeros_with_any_exponent(self):
        self.assertEqual(
            [str(row["a"]) for row in shredded(ZEROS)["records"]], ["0.0", "0.0", "-200.0", "1.5", "0.0"]
        )
        self.assertEqual(self.there_and_back(ZEROS, exact=True), ZEROS)

    def test_words_of_booleans_come_back_as_texts(self):
        for yes, no in (("true", "false"), ("True", "False"), ("TRUE", "FALSE"), ("yes", "no")):
            data = f'{{"a":"{yes}"}}\n{{"a":"{no}"}}\n'.encode()
            with self.subTest(yes):
                self.assertEqual([row["a"] for row in shredded(data)["records"]], [True, False])
                self.assertEqual(self.there_and_back(data), data)

    def test_paths_of_many_steps_go_through_every_command(self):
        for steps in (98, 105, 150):
            deep = b"".join(b'{"n%d":' % step for step in range(steps))
            line = b'{"a":' + deep + b'{"v":1,"w":[1,2]}' + b"}" * steps + b"}\n"
            with self.subTest(steps):
                self.assertEqual(
                    self.there_and_back(line + line.replace(b":1,", b":2,")),
                    line + line.replace(b":1,", b":2,"),
                )
                source, layout = self.folder / "calls.ndjson", self.folder / f"{steps}.toml"
                for arguments in (
                    ("survey", source), ("values", source), ("preview", source), ("find", source, "$..v"),
                    ("draft", source, "-o", layout), ("draft", source, "--update", layout),
                    ("export", source, "--layout", layout, "-o", self.folder / f"l{steps}"),
                    ("verify", self.folder / f"l{steps}"),
                ):  # fmt: skip
                    done = quick_command(*arguments)
                    self.assertEqual(done.returncode, 0, done.stderr)
                text = layout.read_text()
                self.assertNotIn("more steps", text)
                self.assertNotIn("new", text)

    def test_half_surrogates_can_be_printed(self):
        source = self.write("s.ndjson", b'{"\\ud800":1,"b":"\\ud801"}\n')
        target = self.folder / "out"
        tessaron.export(source, target, exact=True)
        other = self.write("t.ndjson", b'{"\\ud800":2,"b":"\\ud802"}\n')
        for arguments, part in (
            (("values", source), r"$['\ud800']"),
            (("find", source, "$..*", "--where-found"), r"$['\ud800']"),
            (("find", source, "$.b", "--pick", "x=$", "--as", "csv"), r"\ud801"),
            (("survey", source, "--json"), r"\ud801"),
            (("preview", source), r"\ud801"),
            (("verify", target, other, "--json"), r"\ud802"),
            (("verify", target, other), r"\ud802"),
        ):
            with self.subTest(arguments):
                done = quick_command(*arguments)
                self.assertIn(done.returncode, (0, 1))
                self.assertIn(part, done.stdout.decode() + done.stderr.decode())


class SourcesGivenAsTextTest(FolderTest):
    def test_a_text_is_a_path_or_a_document(self):
        path = self.write("calls.ndjson", '{"a":1}\n')
        for source, rows in (
            ([str(path), str(path)], 2),
            ([str(path), path], 2),
            ('{"a":1}', 1),
            ('[{"a":1},{"a":2}]', 2),
            (["[1]", str(path)], 2),
            (str(self.folder / "[c]alls.*"), 1),
        ):
            with self.subTest(source):
                tables = tessaron.shred(source)
                self.assertEqual(tables[next(iter(tables))].num_rows, rows)
        self.assertEqual(tessaron.survey([str(path)]).records, 1)
        self.assertEqual(list(tessaron.draft([str(path)]).tables), ["calls"])

    def test_what_is_neither_is_said(self):
        for source in (["calls.ndjson"], "calls.ndjson", ["a", "b"], "{not closed"):
            with (
                self.subTest(source),
                self.assertRaisesRegex(tessaron.SourceError, "expected the path of files, or JSON"),
            ):
                tessaron.shred(source)


if __name__ == "__main__":
    unittest.main()
