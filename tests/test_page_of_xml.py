"""Every line of `docs/xml.md` about what becomes of what, with the rows worked out by hand."""

import unittest

import tessaron
from tests.harness import KERNELS, FolderTest, quick_command

# each record is a <c>; the rows of each table without its keys, but for those that are named in the first of them
BECOMES = {
    "an attribute is a column": ('<c no="7"/><c no="8"/>', {"c": [{"no": 7}, {"no": 8}]}),
    "so is an element with only text": ("<c><b>N1</b></c><c><b>S1</b></c>", {"c": [{"b": "N1"}, {"b": "S1"}]}),
    "elements inside are columns below its name": ("<c><s><b>N1</b></s></c><c/>", {"c": [{"s_b": "N1"}, {"s_b": None}]}),
    "text beside attributes is named as its element": (
        '<c><w unit="t">5</w></c><c><w unit="kg">700</w></c>',
        {"c": [{"w_unit": "t", "w": 5}, {"w_unit": "kg", "w": 700}]},
    ),
    "what repeats once is a table for all": (
        "<c><b>N1</b></c><c><b>S1</b><b>S2</b></c>",
        {"c": [{}, {}], "c_b": [{"value": "N1"}, {"value": "S1"}, {"value": "S2"}]},
    ),
    "text here, text with attributes there": (
        '<c><w>5</w></c><c><w unit="kg">7</w></c>', {"c": [{"w_unit": None, "w": 5}, {"w_unit": "kg", "w": 7}]},
    ),
    "a wrapper of repeated elements of one sort is no word": (
        "<c><stays><stay><b>N</b></stay><stay><b>S</b></stay></stays></c><c/>",
        {"c": [{}, {}], "c_stay": [{"b": "N"}, {"b": "S"}]},
    ),
    "a wrapper with an attribute keeps its name": (
        '<c><stays n="2"><stay><b>N</b></stay><stay><b>S</b></stay></stays></c><c/>',
        {"c": [{"stays_n": 2}, {"stays_n": None}], "c_stays_stay": [{"b": "N"}, {"b": "S"}]},
    ),
    "attribute and element of one name": ('<c id="1"><id>2</id></c><c/>', {"c": [{"id": 1, "id_2": 2}, {"id": None, "id_2": None}]}),
    "an element that contains itself": (
        '<c><h no="1"><h no="2"/></h></c><c/>',
        {"c": [{}, {}], "c_h": [{"no": 1, "within_key": None, "depth": 1}, {"no": 2, "within_key": 1, "depth": 2}]},
    ),
    "empty among texts is an empty text, among numbers null": (
        "<c><t>x</t><n>1</n></c><c><t/><n/></c>", {"c": [{"t": "x", "n": 1}, {"t": "", "n": None}]},
    ),
    "what is not there is null": ("<c><t>x</t></c><c/>", {"c": [{"t": "x"}, {"t": None}]}),
    "nil is null, and its attributes are kept": (
        '<c><t xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true" why="late"/></c><c><t why="no">x</t></c>',
        {"c": [{"t_why": "late", "t": None}, {"t_why": "no", "t": "x"}]},
    ),
    "CDATA and entities stand for their text": (
        "<c><t><![CDATA[a<b]]>&amp;&#233;</t></c><c><t>x</t></c>", {"c": [{"t": "a<b&é"}, {"t": "x"}]},
    ),
    "an empty attribute is as an empty element": (
        '<c n="1" t="x"/><c n="" t=""/>', {"c": [{"n": 1, "t": "x"}, {"n": None, "t": ""}]},
    ),
    "comments and instructions are left out": ("<c><!-- late --><t>x</t><?crane 1?></c><c/>", {"c": [{"t": "x"}, {"t": None}]}),
    "white space at the ends is trimmed, but where it is to be kept": (
        '<c><t>  N  1 </t></c><c><t xml:space="preserve"> S </t></c>',
        {"c": [{"t_space": None, "t": "N  1"}, {"t_space": "preserve", "t": " S "}]},
    ),
    "mixed content: the text in one column": (
        "<c><r>keep <b>dry</b> now</r></c><c/>", {"c": [{"r_b": "dry", "r": "keep  now"}, {"r_b": None, "r": None}]},
    ),
}  # fmt: skip
# texts of a column, and its type
TYPED = (
    (("7", "-12"), "integer"), (("007", "8"), "text"), (("+1", "2"), "text"), (("1e3", "2"), "text"), (("1.50", "2.25"), "decimal(3,2)"),
    (("1", "0"), "integer"), (("true", "false"), "boolean"), (("true", "maybe"), "text"), (("yes", "no"), "boolean"),
    (("INF", "1.5"), "double"), (("NaN", "2"), "double"), (("P1D", "PT2H"), "text"), (("1 234,50", "2"), "text"),
    (("2026-01-31", "2026-02-28"), "date"), (("2026-01-31", "2026-02-30"), "text"), (("10:00", "11:30"), "time"),
    (("2026-01-31T10:00:00Z", "2026-01-31T11:00:00Z"), "timestamp_tz"), (("2026-01-31T10:00:00", "2026-01-31T11:00:00"), "timestamp"),
)  # fmt: skip
PREFIXED = (
    '<m:r xmlns:m="urn:brackwater:manifest"><m:c m:no="1" xmlns:g="urn:brackwater:goods"><g:name>tin</g:name></m:c>'
    '<x:c xmlns:x="urn:brackwater:manifest" x:no="2"><name xmlns="urn:brackwater:goods">zinc</name></x:c></m:r>'
)
# the path to the records, how many there are in PLACES, and what the table of the records is called
RECORDS = (
    ("/r/d/c", 3, "c"), ("/r/*/c", 3, "c"), ('/r/d/c[@s="open"]', 2, "c"), ("//c", 3, "c"), ("/r/d[2]/c", 1, "c"),
    ("/r/d/c | /r/d/e", 4, "e"), ("/r/d", 2, "d"), ("/*", 1, "r"), ('/r/d/c[n > 1]', 2, "c"),
)  # fmt: skip
PLACES = (
    '<r port="BRW"><d day="1"><c s="open"><n>1</n></c><c s="shut"><n>2</n></c></d>'
    '<d day="2"><c s="open"><n>3</n></c><e/></d></r>'
)
KEYS = {"row_key", "parent_key", "ordinal", "within_key", "depth", "document_key", "enclosing_key"}


def shown(tables, expected):
    """Return the rows of tables, of key columns only those that are expected."""
    return {
        name: [{key: row[key] for key in row if key not in KEYS or key in expected.get(name, [{}])[0]} for row in table.to_pylist()]
        for name, table in tables.items()
    }  # fmt: skip


class BecomesTest(unittest.TestCase):
    def test_what_becomes_of_what(self):
        for name, (inside, expected) in BECOMES.items():
            for kernel in KERNELS:
                with self.subTest(name, kernel=kernel):
                    tables = tessaron.shred(f"<r>{inside}</r>".encode(), records="/r/c", kernel=kernel)
                    self.assertEqual(shown(tables, expected), expected)

    def test_types(self):
        for texts, expected in TYPED:
            with self.subTest(texts):
                document = "<r>" + "".join(f"<c><v>{text}</v></c>" for text in texts) + "</r>"
                layout = tessaron.draft(document.encode(), records="/r/c")
                self.assertIn(f'type = "{expected}"', layout.text)

    def test_names_are_those_of_the_namespaces(self):
        rows = tessaron.shred(PREFIXED.encode(), records="/m:r/m:c")["c"].to_pylist()
        self.assertEqual([(row["no"], row["name"]) for row in rows], [(1, "tin"), (2, "zinc")])
        layout = tessaron.draft(
            PREFIXED.encode(), records="/h:r/h:c", namespaces={"h": "urn:brackwater:manifest"}
        )
        self.assertIn('h = "urn:brackwater:manifest"', layout.text)
        self.assertIn('records = "/h:r/h:c"', layout.text)

    def test_where_the_records_are(self):
        for path, count, name in RECORDS:
            with self.subTest(path):
                tables = tessaron.shred(PLACES.encode(), records=path)
                self.assertEqual(tables[name].num_rows, count)

    def test_what_stands_around_and_what_encloses(self):
        tables = tessaron.shred(PLACES.encode(), records="/r/d/c")
        self.assertEqual([row["port"] for row in tables["r"].to_pylist()], ["BRW"])
        days = {row["row_key"]: row["day"] for row in tables["r_d"].to_pylist()}
        self.assertEqual([days[row["enclosing_key"]] for row in tables["c"].to_pylist()], [1, 1, 2])

    def test_white_space(self):
        document = b"<r><c><t>  N \n 1 </t></c><c><t>x</t></c></r>"
        for rule, expected in (("trim", "N \n 1"), ("collapse", "N 1"), ("keep", "  N \n 1 ")):
            with self.subTest(rule):
                rows = tessaron.shred(document, records="/r/c", white_space=rule)["c"].to_pylist()
                self.assertEqual(rows[0]["t"], expected)


LAYOUT = """
[reading]
format = "xml"
records = "/r/d/c"
[tables.r]
around = true
rows = "."
columns.port = { path = "@port", type = "text" }
[tables.c]
rows = "."
carry = ["r.port"]
[tables.c.columns]
s = { path = "@s", type = "text" }
day = { path = "../@day", type = "integer" }
n = { path = "n", type = "integer" }
markup = { path = "n", type = "xml" }
tags = { path = "g", type = "text", fold = "joined", separator = "/" }
second = { path = "g[2]", type = "text" }
[tables.part]
rows = "list/part"
[tables.part.columns]
code = { path = "@code", type = "text" }
text = { path = "text()", type = "text" }
from = { path = "../../@s", type = "text" }
"""
SOURCE = (
    b'<r port="BRW"><d day="1"><c s="open"><n>1</n><g>a</g><g>b</g><list><part code="x">one<i/></part><part code="y"/></list></c></d>'
    b'<d day="2"><c s="shut"><n>2</n></c></d></r>'
)


class LayoutsOfXmlTest(FolderTest):
    def test_paths_in_layouts(self):
        tables = tessaron.shred(SOURCE, layout=tessaron.Layout(LAYOUT, "page.toml"))
        rows = {
            name: [tuple(v for k, v in row.items() if k not in KEYS) for row in t.to_pylist()]
            for name, t in tables.items()
        }
        self.assertEqual(rows["r"], [("BRW",)])
        self.assertEqual(
            rows["c"],
            [("BRW", "open", 1, 1, "<n>1</n>", "a/b", "b"), ("BRW", "shut", 2, 2, "<n>2</n>", None, None)],
        )
        self.assertEqual(rows["part"], [("x", "one", "open"), ("y", None, "open")])

    def test_several_elements_for_one_column_are_a_misfit(self):
        layout = '[reading]\nformat = "xml"\nrecords = "/r/d/c"\n[tables.c]\nrows = "."\ncolumns.g = { path = "g", type = "text" }'
        tables = tessaron.shred(SOURCE, layout=tessaron.Layout(layout, "page.toml"))
        self.assertEqual([reject.code for reject in tables.rejects], ["misfit"])

    def test_find_values_and_compose(self):
        source = self.write("calls.xml", PLACES)
        cases = (
            (("find", source, "//c/n", "--raw"), "1\n2\n3\n"), (("find", source, "count(//c)"), "3\n"),
            (("find", source, "//c[@s='shut']/n"), "<n>2</n>\n"), (("find", source, "//d[2]/@day"), "2\n"),
            (("find", source, "//c/n", "--count"), "3\n"), (("find", source, "string(//d/@day) = '1'"), "true\n"),
            (("find", source, "//c", "--pick", "s=@s", "--pick", "n=n", "--as", "tsv"), "s\tn\nopen\t1\nshut\t2\nopen\t3\n"),
        )  # fmt: skip
        for arguments, expected in cases:
            with self.subTest(arguments[2:]):
                self.assertEqual(quick_command(*arguments).stdout.decode(), expected)
        lines = quick_command("values", source).stdout.decode()
        self.assertIn('/r/d[2]/c/@s\t"open"\n', lines)
        again = self.write("again.txt", lines)
        made = quick_command("compose", again).stdout
        self.assertEqual(quick_command("values", self.write("again.xml", made)).stdout.decode(), lines)

    def test_nothing_found_says_what_is_near(self):
        source = self.write("calls.xml", PLACES)
        for path, expected in (("/r/d/cc", "did you mean /r/d/c"), ("/r/e", "/r is there")):
            with self.subTest(path):
                done = quick_command("find", source, path)
                self.assertEqual(done.returncode, 1)
                self.assertIn(expected, done.stderr.decode())


if __name__ == "__main__":
    unittest.main()
