"""Paths on XML: find with XPath 1.0, values and compose, layouts, patterns."""

import unittest
from xml.etree import ElementTree

import tessaron
from tests.harness import FolderTest, quick_command

MANIFEST = """<?xml version="1.0"?>
<m:manifest xmlns:m="urn:brackwater:manifest" port="Brackwater">
  <m:day date="2026-01-02"><m:office>North</m:office>
    <m:consignment id="C1" call="K1"><!-- late --><m:weight unit="kg">5.5</m:weight><m:tag>a</m:tag></m:consignment>
    <m:consignment id="C2" call="K2"><m:weight>7</m:weight><m:tag>a</m:tag><m:tag>b</m:tag></m:consignment>
  </m:day>
  <m:day date="2026-01-03">
    <m:consignment id="C3" call="K2"><m:note>two <m:em>bold</m:em> words</m:note></m:consignment>
  </m:day>
</m:manifest>
"""
RECORDS = "/m:manifest/m:day/m:consignment"


class FindTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.path = self.write("manifest.xml", MANIFEST)

    def lines(self, *arguments, status=0):
        done = quick_command("find", self.path, *arguments)
        self.assertEqual(done.returncode, status, done.stderr)
        return done.stdout.decode().splitlines()

    def test_an_expression_sees_a_record_alone(self):
        for expression, wanted in (
            ("m:tag/..", ["C1", "C2"]),
            ("..", []),
            ("preceding-sibling::*", []),
            ("ancestor::*", []),
            ("m:tag[2]/preceding-sibling::m:tag", [""]),
            ("/m:consignment", ["C1", "C2", "C3"]),
        ):
            for where in (RECORDS, "//m:consignment"):
                with self.subTest(expression, where=where):
                    found = tessaron.find(self.path, expression, records=where)
                    self.assertEqual([each.result.node.get("id", "") for each in found], wanted)

    def test_everything_that_xpath_can(self):
        cases = (
            (f"{RECORDS}/@id", ["C1", "C2", "C3"]),
            ("//m:consignment[@call='K2']/@id", ["C2", "C3"]),
            (f"{RECORDS}[m:weight > 6]/m:tag", ["a", "b"]),
            (f"{RECORDS}[last()]/@id", ["C2", "C3"]),
            ("//m:tag[1]", ["a", "a"]), ("(//m:tag)[1]", ["a"]),
            ("//m:office | //m:weight/@unit", ["North", "kg"]),
            ("count(//m:consignment)", ["3"]), ("sum(//m:weight) div 2", ["6.25"]),
            (f"{RECORDS}/m:weight > 6", ["true"]), (f"{RECORDS}/m:weight = 8 or {RECORDS}/@id = 'C3'", ["true"]),
            (f"{RECORDS}/m:weight * 2", ["11"]), (f"{RECORDS}[m:weight]/@id = 'x'", ["false"]),
            ("count(//m:tag) * 1000000000000000000 div 3", ["1000000000000000000"]), ("0.0000001", ["0.0000001"]),
            ("0 * -count(//m:tag)", ["0"]), ("1 div 0", ["Infinity"]),
            ("count(//m:consignment) > 2", ["true"]), ("string(//m:em)", ["bold"]),
            ("//m:tag[. = 'b']/ancestor::m:day/@date", ["2026-01-02"]),
            ("//m:note/text()", ["two ", " words"]), ("//comment()", [" late "]),
            ("//*[local-name() = 'em']/../@nothing | //m:em", ["bold"]),
            ("/m:manifest/m:day[2]/m:consignment/@id", ["C3"]),
        )  # fmt: skip
        for expression, wanted in cases:
            with self.subTest(expression):
                self.assertEqual(self.lines(expression, "--raw"), wanted)
                self.assertEqual(self.lines(expression, "--count"), [str(len(wanted))])

    def test_places_markup_and_rows(self):
        place = f"\t{self.path}\t1\t"
        self.assertEqual(
            [line.split("\t")[0] for line in self.lines("//m:tag", "--where-found")],
            ["/m:manifest/m:day/m:consignment/m:tag", "/m:manifest/m:day/m:consignment[2]/m:tag",
             "/m:manifest/m:day/m:consignment[2]/m:tag[2]"],
        )  # fmt: skip
        found = self.lines(f"{RECORDS}/@id", "--where-found")
        self.assertEqual(found[2], f"/m:manifest/m:day[2]/m:consignment/@id{place}C3")
        self.assertEqual(
            self.lines("//m:day[2]"),
            ['<m:day xmlns:m="urn:brackwater:manifest" date="2026-01-03"><m:consignment id="C3" call="K2"><m:note>two '
             "<m:em>bold</m:em> words</m:note></m:consignment></m:day>"],
        )  # fmt: skip
        rows = self.lines("//m:consignment", "--pick", "id=@id", "--pick", "tags=m:tag", "--as", "csv")
        self.assertEqual(rows, ["id,tags", "C1,a", 'C2,"[""a"",""b""]"', "C3,"])
        self.assertEqual(self.lines("string(@id)", "--records", RECORDS, "--first", "2"), ["C1", "C2"])
        matches = list(tessaron.find(self.path, f"{RECORDS}/m:weight"))
        self.assertEqual([(match.value, match.line) for match in matches], [("5.5", 4), ("7", 5)])

    def test_what_is_near_when_nothing_is_found(self):
        cases = (
            ("/manifest/day", "names in a namespace need its prefix", "did you mean /m:manifest/m:day"),
            ("//m:Office", "upper and lower case are told apart", "did you mean /m:manifest/m:day/m:office"),
            ("/m:manifest/m:consignment", "/m:manifest is there; in it stand @port, m:day", "/m:manifest/m:day/m:consignment"),
            (f"{RECORDS}/@idd", "in it stand @call, @id", f"did you mean {RECORDS}/@id"),
        )  # fmt: skip
        for expression, *said in cases:
            with self.subTest(expression):
                done = quick_command("find", self.path, expression)
                self.assertEqual((done.returncode, done.stdout), (1, b""))
                for text in (f"nothing is found by {expression}", *said):
                    self.assertIn(text, done.stderr.decode())

    def test_wrong_expressions(self):
        for expression, message in (
            ("//m:tag[", "expected an expression of XPath 1.0"),
            (
                "//z:tag",
                "the prefix 'z' in '//z:tag' stands for no namespace; there are m (urn:brackwater:manifest)",
            ),
            ("nothing(1)", "cannot be evaluated"),
        ):
            with self.subTest(expression):
                done = quick_command("find", self.path, expression)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())
        self.assertEqual(
            self.lines("//z:tag[1]", "--namespace", "z=urn:brackwater:manifest", "--raw"), ["a", "a"]
        )

    def test_a_broken_document_among_others(self):
        broken = self.write("broken.xml", "<a><b></a>")
        done = quick_command("find", self.path, broken, "//m:office", "--raw")
        self.assertEqual((done.returncode, done.stdout), (1, b"North\n"))
        self.assertIn("broken.xml: line 1", done.stderr.decode())


class ValuesTest(FolderTest):
    def compose(self, text):
        return quick_command("compose", self.write("lines.txt", text))

    def test_lines_and_back(self):
        path = self.write("manifest.xml", MANIFEST)
        lines = quick_command("values", path).stdout.decode()
        self.assertIn('/m:manifest/m:day/m:consignment[2]/@id\t"C2"\n', lines)
        self.assertIn('/m:manifest/m:day[2]/m:consignment/m:note/text()[2]\t" words"\n', lines)
        made = self.compose(lines).stdout.decode()
        again = quick_command("values", self.write("again.xml", made)).stdout.decode()
        self.assertEqual(again, lines)
        wanted, found = ElementTree.fromstring(MANIFEST), ElementTree.fromstring(made)
        self.assertEqual([each.tag for each in found.iter()], [each.tag for each in wanted.iter()])

    def test_a_part_is_cut_out_and_gaps_close(self):
        lines = '/a/namespace::m\t"urn:x"\n/a/m:b[7]/@c\t"1"\n/a/m:b[9]\t"<&>"\n'
        self.assertEqual(
            self.compose(lines).stdout.decode(),
            '<a xmlns:m="urn:x"><m:b c="1"/><m:b>&lt;&amp;&gt;</m:b></a>\n',
        )
        several = quick_command(
            "values", self.write("1.xml", "<a>1</a>"), self.write("2.xml", "<a>2</a>")
        ).stdout
        self.assertEqual(several, b'/a\t"1"\n/a[2]\t"2"\n')
        done = quick_command("compose", "--lines", self.write("lines.txt", several))
        self.assertEqual(done.stdout, b"<a>1</a>\n<a>2</a>\n")

    def test_lines_that_are_none(self):
        cases = (
            ('/a "1"', "found no tab"), ("/a\t1", "expected a text in quotes"), ("/a\tx", "the value is no text in JSON"),
            ('/a/b[0]\t"1"', "expected a path of names"), ('/a\t"1"\n/a\t"2"', "has a text already"),
            ('/a/@b\t"1"\n/a/@b\t"2"', "stands twice"), ('/p:a\t"1"', "the prefix 'p' stands for no namespace"),
            ('/a\t"\\u0001"', "has a control character"), ('/a\t"1"\n/b\t"1"', "describe 2 documents"),
        )  # fmt: skip
        for lines, message in cases:
            with self.subTest(lines):
                done = self.compose(lines)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())


LAYOUT = """
[reading]
format = "xml"
records = "/m:manifest/m:day/m:consignment"
[reading.namespaces]
m = "urn:brackwater:manifest"
[tables.manifest]
around = true
rows = "."
columns.port = { path = "@port", type = "text" }
[tables.consignment]
rows = "."
carry = ["manifest.port"]
keep = "weight is null or weight < 7"
[tables.consignment.columns]
id = { path = "@id", type = "text", required = true }
date = { path = "../@date", type = "date" }
office = { path = "../m:office", type = "text" }
weight = { path = "m:weight", type = "decimal(5,2)" }
unit = { path = "m:weight/@unit", type = "text", default = "t" }
tags = { path = "m:tag", type = "text", fold = "joined" }
last_tag = { path = "m:tag[last()]", type = "text" }
note = { path = "m:note", type = "xml" }
[tables.tag]
rows = "m:tag"
[tables.tag.columns]
id = { path = "../@id", type = "text" }
tag = { path = ".", type = "text" }
port = { path = "../../../@port", type = "text" }
"""


class LayoutTest(FolderTest):
    def rows(self, text, **options):
        tables = tessaron.shred(MANIFEST.encode(), layout=tessaron.Layout(text, "layout.toml"), **options)
        return {name: tables[name].to_pylist() for name in tables}

    def test_paths_of_every_sort(self):
        rows = self.rows(LAYOUT)
        first, last = rows["consignment"]
        self.assertEqual([str(value) for value in list(first.values())[1:]], [
            "Brackwater", "C1", "2026-01-02", "North", "5.50", "kg", "a", "a", "None"])  # fmt: skip
        self.assertEqual(
            (last["id"], last["unit"], last["office"], str(last["date"])), ("C3", "t", None, "2026-01-03")
        )
        self.assertEqual(
            last["note"], '<m:note xmlns:m="urn:brackwater:manifest">two <m:em>bold</m:em> words</m:note>'
        )
        self.assertEqual([list(row.values())[3:] for row in rows["tag"]], [["C1", "a", "Brackwater"]])

    def test_texts_that_hold_documents(self):
        text = """<r><c><x><![CDATA[<o k="1"><i n="a">p</i><i n="b"/><u/></o>]]></x><j>{"q": {"s": 5}, "l": [1, 2], "z": 0}</j></c>
          <c><x>no</x><j>[</j></c></r>"""
        layout = """reading = { format = "xml", records = "/r/c" }
        structure.embedded = { "x" = "xml", "j" = "json" }
        [tables.c]
        rows = "."
        columns.k = { path = "x/@k", type = "integer" }
        columns.s = { path = "j/q/s", type = "integer" }
        [tables.i]
        rows = "x/i"
        columns.n = { path = "@n", type = "text" }
        columns.t = { path = ".", type = "text" }
        [tables.l]
        rows = "j/l"
        columns.l = { path = ".", type = "integer" }
        """
        tables = tessaron.shred(text.encode(), layout=tessaron.Layout(layout, "layout.toml"))
        self.assertEqual([(row["k"], row["s"]) for row in tables["c"].to_pylist()], [(1, 5), (None, None)])
        self.assertEqual([(row["n"], row["t"]) for row in tables["i"].to_pylist()], [("a", "p"), ("b", None)])
        self.assertEqual(tables["l"]["l"].to_pylist(), [1, 2])
        self.assertEqual(
            [(reject.path, reject.code) for reject in tables.rejects], [("x", "embedded"), ("j", "embedded")]
        )

    def test_mistakes_are_told(self):
        cases = (
            ('path = "@id"', 'path = "@id["', "expected names, @names, positions"),
            ('path = "@id"', 'path = "m:weight[. > 1]"', "filters are for reading.records"),
            ('rows = "m:tag"', 'rows = "@id"', "rows are elements"),
            (
                '"../@date", type = "date"',
                '"../@date", type = "json"',
                "json goes with sources of JSON; this one is XML",
            ),
            ('records = "/m:', 'records = "/[m:', "expected an expression of XPath 1.0"),
        )
        for old, new, message in cases:
            with self.subTest(new), self.assertRaises(tessaron.LayoutError) as caught:
                self.rows(LAYOUT.replace(old, new, 1))
            self.assertIn(message, str(caught.exception))
        with self.assertRaises(tessaron.DataError) as caught:
            tessaron.shred(b"[]", layout=tessaron.Layout(LAYOUT, "layout.toml"))
        self.assertIn("expected XML, as the layout says, got JSON", str(caught.exception))

    def test_an_update_adds_what_is_new(self):
        made, changes = tessaron.update(tessaron.Layout(LAYOUT, "layout.toml"), MANIFEST.encode())
        self.assertEqual(changes.new, ("consignment.call: @call",))
        self.assertIn('call = { path = "@call", type = "text" }  # new', made.text)
        self.assertEqual(changes.unmet, ())

    def test_a_single_value_where_rows_are_expected_is_a_row(self):
        layout = tessaron.draft(MANIFEST.encode(), records=RECORDS)
        single = MANIFEST.replace("<m:tag>a</m:tag><m:tag>b</m:tag>", "<m:tag>a</m:tag>")
        tables = tessaron.shred(single.encode(), layout=layout)
        self.assertEqual(tables["consignment_tag"]["value"].to_pylist(), ["a", "a"])

    def test_patterns_flat_rows_and_surveys(self):
        cases = (
            ({"only": ["tag"]}, {"consignment_tag": ["value"]}),
            ({"only": ["m:weight/*"]}, {"consignment": ["weight_unit", "weight"]}),
            ({"without": ["@call", "m:weight/@*", "note", "tag"]}, {"consignment": ["id", "weight"]}),
            ({"flat": "m:tag"}, {"consignment_tag": ["id", "call", "note_em", "note", "weight_unit", "weight", "value"]}),
        )  # fmt: skip
        for options, wanted in cases:
            with self.subTest(options):
                tables = tessaron.shred(MANIFEST.encode(), records=RECORDS, envelope=False, **options)
                keys = ("row_key", "parent_key", "ordinal")
                found = {n: [c for c in tables[n].column_names if c not in keys] for n in tables}
                self.assertEqual({name: columns for name, columns in found.items() if columns}, wanted)
        path = self.write("manifest.xml", MANIFEST)
        shown = quick_command("survey", path, "--records", RECORDS).stdout.decode()
        for text in (
            "3 records at /m:manifest/m:day/m:consignment",
            "  @id ",
            "    each ",
            "mixed content: text among",
        ):
            self.assertIn(text.strip() if "mixed" not in text else "text among elements in 1", shown)


class PreviewTest(FolderTest):
    def test_commands_on_xml(self):
        path = self.write("manifest.xml", MANIFEST)
        shown = quick_command("preview", path, "--records", RECORDS, "--table", "tag").stdout.decode()
        self.assertEqual(shown.splitlines()[3].split(), ["1", "1", "1", "a"])
        self.assertIn('rows = "m:tag"', quick_command("draft", path, "--records", RECORDS).stdout.decode())
        done = quick_command("sample", path, "-o", self.folder / "s", "--first", "1")
        self.assertIn(b"a sample is taken of JSON", done.stderr)
        done = quick_command(
            "export", "-", "-o", self.folder / "out", "--records", RECORDS, stdin=MANIFEST.encode()
        )
        self.assertEqual(done.returncode, 0, done.stderr)


if __name__ == "__main__":
    unittest.main()
