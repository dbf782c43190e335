"""XML into tables: what becomes of what, where the records stand, namespaces, types, many documents."""

import json
import unittest
from collections import Counter
from decimal import Decimal
from xml.etree import ElementTree

from hypothesis import given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.base.paths import ELEMENT, Origin
from tests.harness import FolderTest, quick_command

NIL = 'xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"'


def tables_of(text, **options):
    """Return the tables of a document without the top table's key, as lists of rows."""
    source = text.encode() if isinstance(text, str) else text
    tables = tessaron.shred(source, workers=1, **options)
    return {name: tables[name].to_pylist() for name in tables}


def rows_of(text, **options):
    """Return the rows of the top table, without key."""
    rows = next(iter(tables_of(text, records="/r/c", **options).values()))
    return [
        {name: value for name, value in row.items() if name not in ("row_key", "document_key")}
        for row in rows
    ]


class BecomesTest(unittest.TestCase):
    def test_what_becomes_of_what(self):
        cases = (
            ("attributes and elements with text are columns",
             '<c id="1"><v>x</v></c>', [{"id": 1, "v": "x"}]),
            ("an element with more in it: its columns below its name",
             "<c><v><w>x</w><z k='2'/></v></c>", [{"v_w": "x", "v_z_k": 2}]),
            ("text beside attributes is a column named as the element",
             '<c><w unit="kg">5</w></c><c><w>6</w></c>', [{"w_unit": "kg", "w": 5}, {"w_unit": None, "w": 6}]),
            ("an attribute and an element of one name both live",
             '<c id="1"><id>x</id></c>', [{"id": 1, "id_2": "x"}]),
            ("empty, absent and nil",
             f"<c><v/></c><c/><c><v {NIL}/></c><c><v>x</v></c>",
             [{"v": ""}, {"v": None}, {"v": None}, {"v": "x"}]),
            ("empty among numbers is null", "<c><v/></c><c><v>1</v></c>", [{"v": None}, {"v": 1}]),
            ("nil with attributes", f'<c><v u="m" {NIL}/></c><c><v u="m">2</v></c>',
             [{"v_u": "m", "v": None}, {"v_u": "m", "v": 2}]),
            ("CDATA, entities and character references are text",
             "<c><v><![CDATA[a<b]]> &amp; &#233;&#x41;</v></c>", [{"v": "a<b & éA"}]),
            ("comments and instructions are no text", "<c><v>a<!-- no -->b<?p no?>c</v></c>", [{"v": "abc"}]),
            ("mixed content: the text in one column", "<c>one <b>two</b> three</c>", [{"b": "two", "value": "one  three"}]),
            ("white space around is trimmed", "<c><v>\n  x  y\n</v></c>", [{"v": "x  y"}]),
            ("xml:space keeps it", '<c><v xml:space="preserve"> x </v></c>', [{"v_space": "preserve", "v": " x "}]),
            ("a record that is only text", "<c>1</c><c>2</c>", [{"value": 1}, {"value": 2}]),
            ("a flag: there or not", "<c><f/></c><c/>", [{"f": ""}, {"f": None}]),
            ("an element empty here and with elements there", "<c><v/></c><c><v><w>1</w></v></c>", [{"v_w": None}, {"v_w": 1}]),
            ("xsi:type is an attribute",
             '<c xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"><v xsi:type="T">x</v></c>', [{"v_type": "T", "v": "x"}]),
        )  # fmt: skip
        for name, text, wanted in cases:
            with self.subTest(name):
                self.assertEqual(rows_of(f"<r>{text}</r>"), wanted)

    def test_white_space_by_rule(self):
        text = "<r><c><v> a \n b </v></c></r>"
        for rule, wanted in (("trim", "a \n b"), ("collapse", "a b"), ("keep", " a \n b ")):
            with self.subTest(rule):
                self.assertEqual(rows_of(text, white_space=rule), [{"v": wanted}])

    def test_what_repeats_once_is_a_table_always(self):
        first = "<c><t>1</t></c>" * 50
        for name, last, wanted in (
            ("text", "<c><t>2</t><t>3</t></c>", [1] * 50 + [2, 3]),
            ("text with an attribute in some", '<c><t>2</t><t k="a">3</t></c>', [1] * 50 + [2, 3]),
            ("nil among them", f"<c><t {NIL}/><t>3</t></c>", [1] * 50 + [None, 3]),
        ):
            for chunk_bytes in (10**6, 1):
                with self.subTest(name, chunk_bytes=chunk_bytes):
                    tables = tables_of(f"<r>{first}{last}</r>", records="/r/c", chunk_bytes=chunk_bytes)
                    self.assertEqual([row["value"] for row in tables["c_t"]], wanted)
                    self.assertEqual(tables["c_t"][-1]["ordinal"], 2)
                    self.assertNotIn("t", tables["c"][0])

    def test_wrappers_are_folded_and_said(self):
        tables = tessaron.shred(
            b"<r><c><stays><stay n='1'/><stay n='2'/></stays></c><c/></r>", records="/r/c"
        )
        self.assertEqual(list(tables), ["c", "c_stay"])
        self.assertIn(("stays", "wrapper: it only holds stay, and becomes no table or column"), tables.notes)
        tables = tables_of("<r><c><stays n='2'><stay/><stay/></stays></c></r>", records="/r/c")
        self.assertEqual(tables["c"][0]["stays_n"], 2)

    def test_structures_that_contain_themselves(self):
        inner = '<k n="b"><k n="c"/></k><k>text only</k>'
        tables = tables_of(f'<r><c><k n="a">{inner}</k></c><c><k n="d"/></c></r>', records="/r/c")
        rows = [(row["n"], row["within_key"], row["depth"], row["value"]) for row in tables["c_k"]]
        self.assertEqual(
            rows,
            [
                ("a", None, 1, None),
                ("b", 1, 2, None),
                ("c", 2, 3, None),
                (None, 1, 2, "text only"),
                ("d", None, 1, None),
            ],
        )

    def test_comments_are_counted(self):
        target = tessaron.shred(b"<r><!--0--><c><!--1--></c><c><?p x?></c></r>", records="/r/c")
        self.assertEqual(target.record_count, 2)


class TypesTest(unittest.TestCase):
    def test_text_is_typed_only_where_it_can_be_turned_back(self):
        cases = (
            (("1", "-20"), "integer"), (("007", "8"), "text"), (("1 234,50", "2"), "text"), (("+1",), "text"),
            (("1.5", "2.25"), "decimal(3,2)"), (("1e3",), "text"), (("123456789012345678901",), "decimal(21,0)"),
            (("true", "false"), "boolean"), (("Y", "N"), "boolean"), (("true", "1"), "text"), (("1", "0"), "integer"),
            (("2026-01-01",), "date"), (("03/04/2026",), "text"), (("P1DT2H",), "text"), (("9223372036854775808",), "decimal(19,0)"),
            (("2026-01-01T06:00:00+02:00", "2026-01-02T06:00:00+02:00"), "timestamp_tz"),
            (("1.5", "INF", "NaN"), "double"), (("INF", "x"), "text"), (("", "5"), "integer"), (("-0",), "text"),
        )  # fmt: skip
        for values, wanted in cases:
            with self.subTest(values=values):
                text = "".join(f"<c><v>{value}</v></c>" for value in values)
                tables = tessaron.shred(f"<r>{text}</r>".encode(), records="/r/c", workers=1)
                column = tables.layout.tables[0].columns[-1]
                self.assertEqual(str(column.type), wanted)
                back = tables["c"]["v"].to_pylist()
                if wanted == "text":
                    self.assertEqual(back, list(values))
                elif wanted.startswith("decimal"):
                    self.assertEqual(back, [Decimal(value) for value in values])

    def test_an_empty_element_is_null_by_a_layout_as_in_its_draft(self):
        document = b"<r><c><n>5</n><d>2026-01-01</d><t>a</t></c><c><n/><d/><t/></c><c><n>7</n></c></r>"
        drafted = tessaron.shred(document)
        again = tessaron.shred(document, layout=tessaron.draft(document))
        self.assertEqual(drafted["c"].column("n").to_pylist(), [5, None, 7])
        self.assertEqual(again["c"].to_pylist(), drafted["c"].to_pylist())
        self.assertEqual((again.rejects, again.findings), ((), ()))

    def test_a_schema_gives_types_and_tables(self):
        schema = """<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">
          <xs:simpleType name="Fee"><xs:restriction base="xs:decimal"><xs:totalDigits value="6"/>
            <xs:fractionDigits value="2"/></xs:restriction></xs:simpleType>
          <xs:complexType name="Base"><xs:attribute name="id" type="xs:ID"/></xs:complexType>
          <xs:element name="calls"><xs:complexType><xs:sequence>
            <xs:element name="call" maxOccurs="unbounded"><xs:complexType><xs:complexContent><xs:extension base="Base">
              <xs:sequence><xs:element name="flag" type="xs:boolean" minOccurs="0"/>
                <xs:element name="fee" type="Fee" minOccurs="0"/><xs:element name="count" type="xs:double" minOccurs="0"/>
                <xs:element name="stay" minOccurs="0" maxOccurs="9"><xs:complexType><xs:simpleContent>
                  <xs:extension base="xs:string"><xs:attribute name="no" type="xs:int"/></xs:extension>
                </xs:simpleContent></xs:complexType></xs:element>
                <xs:choice minOccurs="0" maxOccurs="unbounded"><xs:element name="note" type="xs:string"/></xs:choice>
              </xs:sequence></xs:extension></xs:complexContent></xs:complexType></xs:element>
          </xs:sequence></xs:complexType></xs:element></xs:schema>"""
        with self.subTest("one document is enough"):
            test = FolderTest()
            test.setUp()
            self.addCleanup(test.doCleanups)
            xsd = test.write("calls.xsd", schema)
            source = test.write(
                "calls.xml",
                '<calls><call id="a"><flag>1</flag><fee>5</fee><count>1000</count><stay no="1">x</stay></call>\n'
                '<call id="b"><fee>five</fee></call>\n<call id="c"><flag>0</flag></call></calls>',
            )
            tables = tessaron.shred(source, xsd=str(xsd), records="/calls/call", workers=1)
            rows = {name: tables[name].to_pylist() for name in tables}
            self.assertEqual(list(rows), ["call", "call_stay", "call_note"])
            self.assertEqual([row["flag"] for row in rows["call"]], [True, False])
            self.assertEqual((rows["call"][0]["fee"], rows["call"][0]["count"]), (Decimal("5.00"), 1000.0))
            self.assertEqual((rows["call_stay"][0]["no"], rows["call_stay"][0]["value"]), (1, "x"))
            (reject,) = tables.rejects
            self.assertEqual((reject.code, reject.line, reject.record), ("schema", 2, 2))
            self.assertIn("'five' is not a valid value of the", reject.message)
            drafted = tessaron.draft(source, xsd=str(xsd), records="/calls/call").text
            self.assertIn(f'xsd = "{xsd}"', drafted)

    def test_numbers_as_people_write_them_are_noted(self):
        for value, is_noted in (
            ("1 234,50", True),
            ("1.234.567,8", True),
            ("12,5", True),
            ("1'000", True),
            ("12;5", False),
        ):
            with self.subTest(value):
                drafted = tessaron.draft(
                    f"<r><c><v>{value}</v></c><c><v>x</v></c></r>".encode(), records="/r/c"
                ).text
                self.assertEqual("as people write them" in drafted, is_noted)


class RecordsTest(unittest.TestCase):
    def test_the_records_are_recognised(self):
        cases = (
            ("nearest the root", "<a><b/><c><d x='1'/><d x='2'><e/><e/></d></c></a>", "/a/c/d"),
            ("the one that carries the content", "<a><b>1</b><b>2</b><c><d x='1' y='2' z='3'/><d x='1' y='2' z='3'/></c></a>", "/a/c/d"),
            ("nothing repeats", "<a><b>1</b><c>2</c></a>", "/a"),
            ("two of like weight", "<a><b>1</b><b>2</b><c>1</c><c>2</c><d>1</d><d>2</d></a>", "/a"),
            ("texts", "<a><b>1</b><b>2</b></a>", "/a/b"),
        )  # fmt: skip
        for name, text, wanted in cases:
            with self.subTest(name):
                tables = tessaron.shred(text.encode(), workers=1)
                self.assertEqual(tables.notes[-1 if wanted == "/a" else 0][0], wanted)
                self.assertEqual("".join(name for name in tables if name == wanted[-1]), wanted[-1])

    def test_records_by_path(self):
        text = '<m p="B"><day d="1"><k id="a"><w>5</w></k><k id="b"/></day><day d="2"><k id="c"/></day><x><k id="d"/></x></m>'
        cases = (
            ("/m/day/k", "abc"), ("/m/*/k", "abcd"), ("//k", "abcd"), ("/m/day/k[@id='b']", "b"), ("/m/day/k[w]", "a"),
            ("/m/day/k[1]", "ac"), ("/m/day[2]/k", "c"), ("//k[last()]", "bcd"), ("/m/day/k[w > 4] | /m/x/k", "ad"),
            ("/child::m/day/k[position() = 2]", "b"), ("//k[ancestor::x]", "d"), ("/m/day/k[@id='a'][w]", "a"),
        )  # fmt: skip
        for path, wanted in cases:
            for chunk_bytes in (10**6, 7):
                with self.subTest(path, chunk_bytes=chunk_bytes):
                    tables = tessaron.shred(text.encode(), records=path, chunk_bytes=chunk_bytes, workers=1)
                    self.assertEqual("".join(tables["k"]["id"].to_pylist()), wanted)

    def test_what_stands_around_is_kept(self):
        text = '<m p="B" n="7"><head><by>Ada</by></head><ks><k id="a"/><k id="b"/></ks><tail>z</tail></m>'
        tables = tables_of(text + text, records="/m/ks/k")
        self.assertEqual(
            tables["m"],
            [{"row_key": n, "p": "B", "n": 7, "head_by": "Ada", "tail": "z"} for n in (1, 2)],
        )
        self.assertEqual([row["document_key"] for row in tables["k"]], [1, 1, 2, 2])
        self.assertEqual(list(tables_of(text, records="/m/ks/k", envelope=False)), ["k"])

    def test_the_first_records_come_with_what_stands_before_them(self):
        text = "<m p='B'><h>x</h><ks>" + "<k id='a'/>" * 5_000 + "</ks><t/></m>"
        for options in ({"first": 3}, {"first": 3, "chunk_bytes": 100}):
            tables = tessaron.shred(text.encode(), records="/m/ks/k", **options)
            self.assertEqual((tables["k"].num_rows, tables.is_partial), (3, True))
            self.assertEqual(tables["m"].select(["p", "h"]).to_pylist(), [{"p": "B", "h": "x"}])

    def test_a_path_that_finds_nothing_says_why(self):
        text = b'<m:a xmlns:m="urn:x"><m:b/><m:c/></m:a>'
        cases = (
            (
                "/m:a/m:d",
                "no records at /m:a/m:d: the way leads to /m:a and no further; there are /m:a/m:b, /m:a/m:c",
            ),
            (
                "/a/b",
                "no records at /a/b: the way leads to / and no further; there are /m:a; names in a namespace need",
            ),
            ("/z:a", "the prefix 'z' in '/z:a' stands for no namespace; there are m (urn:x)"),
            ("/m:a[", "expected an expression of XPath 1.0, got '/m:a['"),
            ("$.a", "expected a path of XPath 1.0 such as /manifest/consignment"),
        )
        for path, message in cases:
            with self.subTest(path), self.assertRaises(tessaron.UsageError) as caught:
                tessaron.shred(text, records=path)
            self.assertIn(message, str(caught.exception))


class NamespacesTest(unittest.TestCase):
    TEXT = """<a xmlns="urn:one" xmlns:p="urn:two"><c p:id="1" id="2"><v>x</v><p:v>y</p:v></c>
      <c xmlns:q="urn:two" q:id="3"><q:v>z</q:v></c>
      <o:c xmlns:o="urn:one"><o:v>w</o:v><v xmlns="">none</v></o:c></a>"""

    def test_names_are_those_of_the_namespaces_whatever_the_prefix(self):
        tables = tessaron.shred(self.TEXT.encode(), records="/one:a/one:c", workers=1)
        self.assertEqual(tables["c"]["p_id"].to_pylist(), [1, 3, None])
        self.assertEqual(tables["c"]["one_v"].to_pylist(), ["x", None, "w"])
        self.assertEqual(tables["c"]["p_v"].to_pylist(), ["y", "z", None])
        self.assertEqual(tables["c"]["v"].to_pylist(), [None, None, "none"])

    def test_prefixes_can_be_given_and_are_drafted(self):
        given = {"eins": "urn:one", "zwei": "urn:two"}
        tables = tessaron.shred(self.TEXT.encode(), records="/eins:a/eins:c", namespaces=given)
        self.assertIn("zwei_v", tables["c"].column_names)
        drafted = tessaron.draft(self.TEXT.encode(), records="/one:a/one:c").text
        self.assertIn('[reading.namespaces]\none = "urn:one"\np = "urn:two"\n', drafted)
        with self.assertRaises(tessaron.UsageError):
            tessaron.shred(b"<a/>", namespaces={"1x": "urn:one"})

    def test_one_prefix_for_two_namespaces_in_two_documents(self):
        folder = FolderTest()
        folder.setUp()
        self.addCleanup(folder.doCleanups)
        for number in (1, 2):
            folder.write(f"{number}.xml", f'<p:a xmlns:p="urn:{number}x"><p:v>{number}</p:v></p:a>')
        tables = tessaron.shred(folder.folder, records="/*")
        self.assertEqual(
            tables["a"].select(["p_v", "p2_v"]).to_pylist(),
            [{"p_v": 1, "p2_v": None}, {"p_v": None, "p2_v": 2}],
        )


class EncodingTest(unittest.TestCase):
    def test_whatever_the_document_declares(self):
        text = '<?xml version="1.0" encoding="{}"?>\n<r><c v="Ånd é"/><c v="b"/></r>'
        for codec, declared in (
            ("utf-8", "UTF-8"), ("utf-8-sig", "UTF-8"), ("utf-16", "UTF-16"), ("utf-16-le", "UTF-16"), ("utf-16-be", "UTF-16BE"),
            ("iso-8859-1", "ISO-8859-1"), ("cp1252", "windows-1252"), ("utf-32", "UTF-32"), ("iso-8859-15", "iso-8859-15"),
        ):  # fmt: skip
            with self.subTest(codec):
                found = rows_of(text.format(declared).encode(codec))
                self.assertEqual(found, [{"v": "Ånd é"}, {"v": "b"}])

    def test_wrong_encodings_are_told(self):
        for data, message in (
            (b'<?xml version="1.0" encoding="klingon"?><r/>', "the encoding 'klingon' is not known"),
            (b'<?xml version="1.0" encoding="rot13"?><r/>', "the encoding 'rot13' is not known"),
            (
                b"<r><c>\n a\xff</c></r>",
                "line 2, column 3, byte 9, record 1: bytes that are not in the encoding",
            ),
            (b'<?xml version="1.0" encoding="shift_jis"?><r>\x87\xff</r>', "the text is not SHIFT_JIS"),
        ):
            with self.subTest(message), self.assertRaises(tessaron.DataError) as caught:
                tessaron.shred(data, records="/r/c" if b"<c" in data else None)
            self.assertIn(message, str(caught.exception))


class ManyDocumentsTest(FolderTest):
    def test_a_folder_is_one_feed_and_what_cannot_be_read_a_reject(self):
        for number in range(300):
            inner = "".join(f'<stay n="{n}"/>' for n in range(number % 4))
            self.write(f"in/call-{number}.xml", f'<call id="K{number}"><stays>{inner}</stays></call>')
        self.write("in/call-7.xml", "<call><vessel>\n </call>")
        self.write("in/call-8.xml", "<call><vessel>")
        self.write("in/call-9.xml", "")
        self.write("in/call-10.xml", '{"a": 1}')
        self.write("in/call-11.xml", "<other/>")
        done = quick_command("export", self.folder / "in", "-o", self.folder / "out", "--origin", "--json")
        receipt = json.loads(done.stdout)
        self.assertEqual((done.returncode, receipt["records"], receipt["rejected"]), (1, 295, 5))
        self.assertEqual([table["name"] for table in receipt["tables"]], ["call", "call_stay"])
        self.assertEqual(len(receipt["sources"]), 300)
        rejects = [json.loads(line) for line in (self.folder / "out/rejects.ndjson").read_text().splitlines()]
        found = {r["source"].rsplit("-", 1)[1]: (r["line"], r["column"], r["code"]) for r in rejects}
        self.assertEqual(
            found,
            {"7.xml": (2, 9, "syntax"), "8.xml": (1, 15, "truncated"), "9.xml": (1, 1, "empty"),
             "10.xml": (1, 1, "syntax"), "11.xml": (1, 1, "root")},
        )  # fmt: skip
        tables = tessaron.shred(self.folder / "in", origin=True)["call"].to_pylist()
        self.assertEqual(tables[12]["origin_file"], str(self.folder / "in/call-17.xml"))
        self.assertEqual([row["origin_document"] for row in tables[:3]], [1, 2, 3])

    def test_a_document_that_breaks_keeps_what_stood_before(self):
        good = '<m p="1"><c id="a"/><c id="b"/>'
        for name, bad, code in (
            ("truncated", good + '<c id="c">', "truncated"),
            ("a wrong end tag", good + "</x>", "syntax"),
            ("cut in a tag", good + "<c id=", "truncated"),
            ("text behind", good + "</m> more", "syntax"),
        ):
            with self.subTest(name):
                tables = tessaron.shred(bad.encode(), records="/m/c", workers=1)
                self.assertEqual(tables["c"]["id"].to_pylist(), ["a", "b"])
                self.assertEqual(tables["m"].num_rows, 1)
                self.assertEqual([reject.code for reject in tables.rejects], [code])

    def test_a_bad_record_is_left_out_and_the_rest_goes_on(self):
        text = '<m>\n<c id="a"/>\n<c id="b"><v></w></c>\n<c id="c">&nope;</c>\n<c id="d"/></m>'
        tables = tessaron.shred(text.encode(), records="/m/c", workers=1)
        self.assertEqual(tables["c"]["id"].to_pylist(), ["a", "d"])
        self.assertEqual(
            [(r.line, r.record, r.code) for r in tables.rejects], [(3, 2, "syntax"), (4, 3, "entity")]
        )

    def test_json_and_xml_are_kept_apart(self):
        self.write("both/a.json", "{}")
        self.write("both/b.xml", "<a/>")
        done = quick_command("export", self.folder / "both", "-o", self.folder / "out")
        self.assertIn(b"1 JSON files and 1 XML files", done.stderr)
        done = quick_command(
            "export", self.folder / "both/b.xml", "-o", self.folder / "out", "--dictionary", "$.a"
        )
        self.assertIn(b"dictionaries is for JSON; this source is XML", done.stderr)
        done = quick_command(
            "export", self.folder / "both/a.json", "-o", self.folder / "out", "--namespace", "a=b"
        )
        self.assertIn(b"are for XML; this source is JSON", done.stderr)


@st.composite
def elements(draw, depth=2, name="c"):
    """Draw an element; below a name stand other names at every depth, so that nothing contains itself."""
    attributes = draw(st.dictionaries(st.sampled_from("xy"), st.sampled_from(["1", "a", "2.50"]), max_size=2))
    shown = "".join(f' {key}="{value}"' for key, value in attributes.items())
    texts = st.sampled_from(["", "7", "x", "007", "true", " mix ", "<!-- c -->", "<![CDATA[<]]>"])
    parts = [draw(texts)]
    if depth:
        names = [f"{letter}{depth}" for letter in "pqr"]
        for each in draw(st.lists(st.sampled_from(names), max_size=4)):
            parts += [draw(elements(depth - 1, each)), draw(st.sampled_from(["", "", "t"]))]
    return f"<{name}{shown}>{''.join(parts)}</{name}>"


def counted(text):
    """Count what stands at every path of the records: elements, attributes, texts; without Tessaron."""
    found = Counter()
    pending = [(each, ()) for each in ElementTree.fromstring(text)]
    while pending:
        element, path = pending.pop()
        own = "".join([element.text or "", *(child.tail or "" for child in element)])
        found[(*path, "text()")] += bool(own.strip())
        for name in element.attrib:
            found[(*path, "@" + name)] += 1
        for child in element:
            found[(*path, child.tag)] += 1
            pending.append((child, (*path, child.tag)))
    return +found


def counted_in(tables):
    """Count the same in tables: rows, and values of the columns; elements only where they have a table."""
    found = Counter()
    for table in tables.layout.tables:
        rows = tuple(step[1:] for step in table.rows if step is not ELEMENT)
        found[rows] += tables[table.name].num_rows if rows else 0
        for column in table.columns:
            if not isinstance(column.path[-1], Origin):
                steps = tuple(step[1:] for step in column.path if step is not ELEMENT)
                is_attribute = steps[-1].startswith("@")
                path = steps if is_attribute or steps[-1] == "text()" else (*steps, "text()")
                values = tables[table.name][column.name].to_pylist()
                found[path] += sum(value is not None and value != "" for value in values)
    return +found


class AnyDocumentTest(unittest.TestCase):
    @settings(max_examples=36, deadline=None)
    @given(st.lists(elements(), min_size=1, max_size=5), st.sampled_from([1, 40, 10**6]))
    def test_every_element_attribute_and_text_is_in_the_tables(self, records, chunk_bytes):
        text = f"<r>{''.join(records)}</r>"
        tables = tessaron.shred(
            text.encode(), records="/r/c", chunk_bytes=chunk_bytes, workers=1, not_shared=True
        )
        wanted, found = counted(text), counted_in(tables)
        for path in found.keys() | {path for path in wanted if path[-1][0] == "@" or path[-1] == "text()"}:
            self.assertEqual(found[path], wanted[path], path)

    @settings(max_examples=15, deadline=None)
    @given(st.lists(elements(), min_size=1, max_size=4))
    def test_a_drafted_layout_gives_the_same_tables(self, records):
        text = f"<r>{''.join(records)}</r>".encode()
        plain = tessaron.shred(text, records="/r/c", workers=1)
        layout = tessaron.draft(text, records="/r/c", workers=1)
        again = tessaron.shred(text, layout=layout, workers=1)
        self.assertEqual(list(plain), list(again))
        for name in plain:
            self.assertEqual(plain[name].to_pylist(), again[name].to_pylist())
        self.assertEqual(tessaron.update(layout, text, workers=1)[1].new, ())

    @settings(max_examples=24, deadline=None)
    @given(st.lists(elements(), min_size=1, max_size=6), st.sampled_from(["trim", "keep"]))
    def test_both_kernels_give_the_same(self, records, white_space):
        odd = f"<c {NIL}/><c x='&lt;&#65;' y='a\tb\r\nc'>&#13;\r\n <?p x?><![CDATA[ <]]>&amp;</c><c><v {NIL}><!-- --></v></c>"
        many = "".join(
            f"<c><v>{value}</v></c>"
            for value in ("-9223372036854775808", "9223372036854775808", "-0", "1.", ".5")
        )
        text = f"<r>{''.join(records)}{odd}{many}</r>".encode()
        one, other = (
            tessaron.shred(text, records="/r/c", kernel=kernel, white_space=white_space, workers=1)
            for kernel in ("auto", "python")
        )
        self.assertEqual(one.notes, other.notes)
        self.assertEqual({n: one[n].to_pylist() for n in one}, {n: other[n].to_pylist() for n in other})

    @settings(max_examples=12, deadline=None)
    @given(st.lists(elements(), min_size=1, max_size=6))
    def test_the_split_changes_nothing(self, records):
        text = f"<r>{''.join(records)}</r>".encode()
        one, other = (tessaron.shred(text, records="/r/c", chunk_bytes=n, workers=1) for n in (1, 10**6))
        self.assertEqual({n: one[n].to_pylist() for n in one}, {n: other[n].to_pylist() for n in other})


if __name__ == "__main__":
    unittest.main()
