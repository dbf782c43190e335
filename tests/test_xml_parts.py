"""The parts of XML by themselves: tags, cutting, recognising, prefixes, paths, schemas, number texts."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

from tessaron.core.base.errors import UsageError
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import (
    ELEMENT,
    MARKUP,
    format_path,
    local_name,
    markup_path,
    plain_name,
    qualified_name,
)
from tessaron.core.cutting.json_splitting import SplitError
from tessaron.core.cutting.record_elements import outline_paths, recognise_records
from tessaron.core.cutting.xml_chunks import ChunkCollector, Piece
from tessaron.core.cutting.xml_skeletons import Skeleton
from tessaron.core.cutting.xml_splitting import XmlSplitter
from tessaron.core.kernel.number_texts import kind_of_text
from tessaron.core.layout.layout_model import LayoutPart
from tessaron.core.layout.layout_paths import LayoutPathError
from tessaron.core.layout.layout_xml_paths import XmlLayoutPaths, relative_path
from tessaron.core.markup.declarations import usable_declarations
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.markup.record_path import Name, NameTest, RecordPath
from tessaron.core.markup.schema import Schema
from tessaron.core.markup.tokens import TOKEN, attributes_of, declarations_in
from tessaron.core.query.xpath_advice import advise_xpath
from tessaron.core.query.xpath_location import parse_location, prefixes_in
from tessaron.core.query.xpath_results import number_text


def path_to(*names):
    return RecordPath(tuple(NameTest("", name) for name in names))


def split(text, path, block_bytes):
    """Return the records and skeletons of a text that comes in blocks."""
    splitter = XmlSplitter(path, Prefixes())
    records, skeletons = [], []
    blocks = [text[at : at + block_bytes] for at in range(0, len(text), block_bytes)]
    parts = [part for block in blocks for part in splitter.feed(block)] + list(splitter.finish())
    for part in parts:
        if isinstance(part, Skeleton):
            skeletons.append((part.data, part.records))
            continue
        for start, stop in zip(part.starts, [*part.starts[1:], len(part.data)], strict=True):
            line = part.line + part.data.count(b"\n", 0, start)
            assert text[part.byte_offset + start : part.byte_offset + stop] == part.data[start:stop]
            records.append(
                (part.data[start:stop].strip(), line, part.record + part.starts.index(start), part.way)
            )
    return records, skeletons


class SplitTest(unittest.TestCase):
    TEXT = (
        b"<?xml version='1.0'?>\n<!-- <c> --><r a='1'>\n<h>x</h><k>"
        b"<c/><c v='>'>1</c>\n<c><![CDATA[</c>]]></c><c><!-- </c> --><c>inner</c></c>"
        b"<cc>not</cc><c><?p </c>?></c ></k><k n='2'><c>last</c></k><t/></r>\n"
    )

    def test_the_same_whatever_the_blocks(self):
        wanted = [
            b"<c/>", b"<c v='>'>1</c>", b"<c><![CDATA[</c>]]></c>", b"<c><!-- </c> --><c>inner</c></c>",
            b"<c><?p </c>?></c >", b"<c>last</c>",
        ]  # fmt: skip
        for block_bytes in (1, 2, 3, 7, 20, 64, 10**6):
            with self.subTest(block_bytes):
                records, skeletons = split(self.TEXT, path_to("r", "k", "c"), block_bytes)
                self.assertEqual([record[0] for record in records], wanted)
                self.assertEqual([record[1] for record in records], [3, 3, 4, 4, 4, 4])
                self.assertEqual([record[2] for record in records], [1, 2, 3, 4, 5, 6])
                self.assertEqual([record[3] for record in records], ["/r/k"] * 5 + ["/r/k[2]"])
                ((skeleton, count),) = skeletons
                self.assertEqual(count, 6)
                root = etree.fromstring(skeleton)
                self.assertEqual([each.tag for each in root], ["h", "k", "k", "t"])
                self.assertEqual([len(each) for each in root], [0, 1, 0, 0])

    def test_documents_one_after_another(self):
        text = b"<a><b>1</b></a>\n<?xml version='1.0'?><a/><a><b>2</b><b>3</b></a>"
        records, skeletons = split(text, path_to("a", "b"), 5)
        self.assertEqual([record[0] for record in records], [b"<b>1</b>", b"<b>2</b>", b"<b>3</b>"])
        self.assertEqual([count for _, count in skeletons], [1, 0, 2])
        records, skeletons = split(text, path_to("a"), 1)
        self.assertEqual((len(records), skeletons), (3, []))

    def test_faults_have_a_place(self):
        cases = (
            (b"<a><b/>\n", "truncated", 2, 1), (b"<a>\n <b>", "truncated", 2, 5), (b"<a></b>", "syntax", 1, 4),
            (b"</a>", "syntax", 1, 1), (b"\n x<a/>", "syntax", 2, 2), (b"<a/> x", "syntax", 1, 6), (b" ", "empty", 1, 2),
            (b"<p:a/>", "namespace", 1, 1), (b"<!DOCTYPE a [%x;]><a/>", "entity", 1, 1),
        )  # fmt: skip
        for text, code, line, column in cases:
            for block_bytes in (1, 100):
                with self.subTest(text, block_bytes=block_bytes), self.assertRaises(SplitError) as caught:
                    split(text, path_to("a", "b"), block_bytes)
                fault = caught.exception.fault
                self.assertEqual((fault.code, fault.line), (code, line))
                self.assertEqual(fault.column, column)

    def test_what_stands_above_comes_along(self):
        text = b"<m p='&lt;'><h><by>Ada</by></h><d n='1'><k/></d><d n='2'><x>y</x><k/><late>z</late></d></m>"
        splitter = XmlSplitter(path_to("m", "d", "k"), Prefixes(), wants_above=True)
        above = [dict(part.above) for part in splitter.feed(text) if isinstance(part, Piece)]
        shared = {"../../@p": "<", "../../h/by": "Ada"}
        self.assertEqual(above[0], {"../@n": "1", **shared})
        self.assertEqual(above[1]["../x"], "y")
        self.assertNotIn("../late", above[1])

    @settings(max_examples=36, deadline=None)
    @given(
        st.lists(st.sampled_from([b"<c/>", b"<c>1</c>", b"<d>x</d>", b"<!--</r>-->", b"\n", b"<c><c/></c>"])),
        st.integers(1, 30),
    )
    def test_any_mixture_in_any_blocks(self, parts, block_bytes):
        text = b"<r>" + b"".join(parts) + b"</r>"
        records, skeletons = split(text, path_to("r", "c"), block_bytes)
        self.assertEqual([record[0] for record in records], [part for part in parts if part[:2] == b"<c"])
        self.assertEqual(len(etree.fromstring(skeletons[0][0])), parts.count(b"<d>x</d>"))

    def test_pieces_of_many_documents_make_chunks(self):
        collector = ChunkCollector(30)
        chunks = []
        for number in range(1, 6):
            splitter = XmlSplitter(path_to("r"), Prefixes(), document=number - 1)
            text = b"\n<r>\n" + b"x" * number + b"</r>"
            for part in [*splitter.feed(text), *splitter.finish()]:
                chunks += collector.add(part, number, f"{number}.xml", Prefixes())
        chunks += collector.finish(Prefixes())
        self.assertEqual([len(chunk.starts) for chunk in chunks], [3, 2])
        first = chunks[0]
        at = int(first.starts[2])
        self.assertEqual(
            (first.run_of(at).name, first.line_of(at + 4), first.byte_of(at), first.record_of(at)),
            ("3.xml", 3, 1, 1),
        )
        self.assertEqual(first.counts_of(first.starts[1:]), [0, 1, 1])
        runs, numbers, lines = (
            each(first.starts) for each in (first.runs_of, first.numbers_of, first.lines_of)
        )
        self.assertEqual(
            ([first.runs[at].document for at in runs], numbers.tolist(), lines.tolist()),
            ([1, 2, 3], [1, 1, 1], [2, 2, 2]),
        )
        self.assertEqual(len(first.first(1).starts), 1)


class TagsTest(unittest.TestCase):
    def test_tags(self):
        for text, start, end, empty in (
            (b"<a>", b"a", None, b""), (b"<a/>", b"a", None, b"/"), (b"<p:a b='/>' c=\">\" />", b"p:a", None, b"/"),
            (b"</a >", None, b"a", None), (b"<a b='x'", None, None, None), (b"< a>", None, None, None), (b"<a b=/x>", b"a", None, b""),
        ):  # fmt: skip
            with self.subTest(text):
                found = TOKEN.match(text)
                self.assertEqual(
                    (None,) * 3 if found is None else (found["start"], found["end"], found["empty"]),
                    (start, end, empty),
                )
        self.assertEqual(
            list(attributes_of(b" a='&lt;&#65;&#x42;&nope;' b = \"'\"")), [("a", "<AB&nope;"), ("b", "'")]
        )
        self.assertEqual(list(declarations_in(b"<a xmlns='u' xmlns:p = \"v\"/>")), [("", "u"), ("p", "v")])

    def test_document_types(self):
        cases = (
            (b"<!DOCTYPE a>", b""), (b'<!DOCTYPE a SYSTEM "x">', b""), (b"<!DOCTYPE a [", None), (b"<!DOCTYPE a [<!ENTITY x", None),
            (b'<!DOCTYPE a [<!ENTITY x "1"><!ENTITY y SYSTEM "f"><!-- ]> --><?p ]>?>]>', b'<!ENTITY x "1">'),
            (b'<!DOCTYPE a [<!ELEMENT a ANY><!ATTLIST a b CDATA ">">] >', b'<!ATTLIST a b CDATA ">">'),
            (b'<!DOCTYPE a [<!ENTITY % p "x">]>', b""),
        )  # fmt: skip
        for text, wanted in cases:
            with self.subTest(text):
                found = usable_declarations(text, 0)
                self.assertEqual(None if found is None else found.declarations, wanted)
                self.assertEqual(found is None or found.end == len(text), True)

    def test_prefixes(self):
        prefixes = Prefixes({"own": "urn:own"})
        for prefix, space in (
            ("p", "urn:a"),
            ("p", "urn:b"),
            ("", "urn:brackwater:manifest:v2"),
            ("", "http://x.example/2020/"),
            ("q", "urn:own"),
        ):
            prefixes.learn(prefix, space)
        self.assertEqual(
            prefixes.by_prefix(),
            {
                "own": "urn:own",
                "p": "urn:a",
                "p2": "urn:b",
                "manifest": "urn:brackwater:manifest:v2",
                "example": "http://x.example/2020/",
            },
        )
        self.assertEqual(prefixes.name("http://www.w3.org/XML/1998/namespace", "lang"), "xml:lang")
        for wrong in ({"1": "urn:x"}, {"xml": "urn:x"}):
            with self.assertRaises(UsageError):
                Prefixes(wrong)


class PathsTest(unittest.TestCase):
    def test_which_paths_are_streamed(self):
        cases = (
            ("/a/b", ("a", "b"), ""), ("/child::a/p:b", ("a", "p:b"), ""), ("/a/*", ("a", "*"), ""),
            ("/a/b[@x='1'][c]", ("a", "b"), "[@x='1'][c]"), ("/a/b[contains(., ']')]", ("a", "b"), "[contains(., ']')]"),
            ("/a/b[count(c) > 1]", ("a", "b"), "[count(c) > 1]"), ("/a/b[c = 'last()']", ("a", "b"), "[c = 'last()']"),
            ("/a/b[1]", (), ""), ("/a/b[count(c)]", (), ""), ("/a/b[last()]", (), ""), ("/a/b[position() < 3]", (), ""),
            ("//b", (), ""), ("/a//b", (), ""), ("/a[@x]/b", (), ""), ("/a/b[../@x]", (), ""), ("/a/b[/a/@x]", (), ""),
            ("/a/b | /a/c", (), ""), ("/a/b/@x", (), ""), ("/a/b[x]/c", (), ""), ("count(/a)", (), ""),
            ("/a/b[ancestor::a]", (), ""), ("/a/b[//c]", (), ""), ("/a/b[x = /a/y]", (), ""),
        )  # fmt: skip
        for text, steps, predicates in cases:
            with self.subTest(text):
                path = parse_location(text)
                self.assertEqual((path.steps, path.predicates if steps else ""), (steps, predicates))
        self.assertEqual(prefixes_in("/m:a/child::b[x:c = 'y:z']/self::q:*"), ["m", "x", "q"])
        for text in ("", "/a[", "/a/", "a b", "//"):
            with self.subTest(text), self.assertRaises(UsageError):
                parse_location(text)

    def test_names_of_steps(self):
        for step, plain, local, qualified in (
            (f"{MARKUP}@m:id", "@m:id", "id", "m:id"), (f"{MARKUP}weight", "weight", "weight", "weight"),
            (f"{MARKUP}text()", "text()", "", ""), ("a:b", "a:b", "a:b", "a:b"), ("@id", "@id", "@id", "@id"),
        ):  # fmt: skip
            with self.subTest(step):
                self.assertEqual(
                    (plain_name(step), local_name(step), qualified_name(step)), (plain, local, qualified)
                )
        path = markup_path("m:stays/m:stay/@no")
        self.assertEqual(format_path((*path[:2], ELEMENT, path[2])), "m:stays/m:stay/@no")
        self.assertEqual(format_path(("a", "b")), "$.a.b")

    def test_paths_in_layouts(self):
        part = LayoutPart.model_validate(
            {
                "reading": {"format": "xml"},
                "structure": {"arrays": ["x/y"]},
                "tables": {
                    "t": {
                        "rows": ".",
                        "columns": {
                            "a": {"path": "w/@u"},
                            "n": {"path": "q/r", "fold": "count"},
                            "p": {"path": "z[2]/@k"},
                        },
                    },
                    "i": {"rows": "g/i", "columns": {"a": {"path": "."}, "b": {"path": "v"}}},
                    "j": {"rows": "g/i/j"},
                    "o": {"around": True, "rows": ".", "columns": {"a": {"path": "g"}}},
                },
            }
        )
        paths = XmlLayoutPaths(part)
        top, item = (), paths.rows("g/i", "i").steps

        def shown(path):
            return "/".join("*" if step is ELEMENT else step[1:] for step in path)

        cases = (
            ("w", top, "t", "w/text()"), ("w/text()", top, "t", "w/text()"), ("w/@u", top, "t", "w/@u"), (".", top, "t", "text()"),
            ("q/r", top, "t", "q/r/*"), ("z[2]/@k", top, "t", "z/*/@k"), ("x/y/@k", top, "t", "x/y/*/@k"), ("g/i/j", top, "t", "g/i/*/j/*"),
            (".", item, "i", "g/i/*/text()"), ("v", item, "i", "g/i/*/v"), ("../@k", item, "i", "g/@k"), ("../../@k", item, "i", "@k"),
            ("../../../@k", item, "i", "../@k"), ("g", (), "o", "g"),
        )  # fmt: skip
        for text, level, table, wanted in cases:
            with self.subTest(text, table=table):
                self.assertEqual(shown(paths.column(text, level, table).steps), wanted)
        self.assertEqual(paths.column("z[last()]/@k", top, "t").picks, ((2, -1),))
        self.assertEqual(shown(paths.inner("g/i").steps), "g/i")
        for path, rows, wanted in (
            (("g", "@k"), (), "g/@k"),
            (("a", "@k"), ("g", "i"), "../../a/@k"),
            (("g", "i"), ("g", "i"), "."),
        ):
            marked = tuple(MARKUP + step for step in path), tuple(MARKUP + step for step in rows)
            self.assertEqual(relative_path(*marked), wanted)
        for text in ("a//b", "a[b]", "/a", "a/../b", "a/text()/b", "a b", ""):
            with self.subTest(text), self.assertRaises(LayoutPathError):
                paths.column(text, top, "t")
        with self.assertRaises(LayoutPathError):
            paths.rows("../a", "t")

    def test_advice(self):
        paths = [
            ("m:a",),
            ("m:a", "@id"),
            ("m:a", "m:stays"),
            ("m:a", "m:stays", "m:stay"),
            ("m:a", "m:stays", "m:stay", "@no"),
        ]
        for text, deepest, nearest in (
            ("/m:a/m:stay", "/m:a", "/m:a/m:stays/m:stay"), ("/a/stays", "", "/m:a/m:stays"), ("//m:stai", "", None),
            ("//m:stay/@nr", "//m:stay", "/m:a/m:stays/m:stay/@no"), ("/m:a/m:stays/m:stay/@no[. > 3]", "/m:a/m:stays/m:stay/@no", "/m:a/m:stays/m:stay/@no"),
        ):  # fmt: skip
            with self.subTest(text):
                advice = advise_xpath(text, paths)
                self.assertEqual(advice.deepest, deepest)
                self.assertIn(nearest, [*advice.nearest[:1], None])

    def test_numbers_as_xpath_writes_them(self):
        for value, wanted in (
            (3.0, "3"),
            (-0.5, "-0.5"),
            (float("nan"), "NaN"),
            (float("-inf"), "-Infinity"),
            (1e20, "100000000000000000000"),
            (-0.0, "0"),
            (1e-7, "0.0000001"),
        ):
            self.assertEqual(number_text(value), wanted)


class RecogniseTest(unittest.TestCase):
    def test_one_document_and_many(self):
        calls = b"<calls>" + b"<call id='1'><v>x</v></call>" * 30 + b"</calls>"
        call = b"<call id='1'><vessel>x</vessel>" + b"<stay no='1' to='2'/>" * 12 + b"</call>"
        for head, is_all, documents, wanted, count in (
            (calls, True, 1, "/calls/call", 30), (calls, True, 12, "/calls/call", 30), (calls, True, 500, "/calls", 1),
            (call, True, 1, "/call/stay", 12), (call, True, 10_000, "/call", 1), (calls[:300], False, 1, "/calls/call", 11),
            (b"", True, 1, "/*", 0), (b"<!-- <a> --><a", True, 1, "/*", 0),
        ):  # fmt: skip
            with self.subTest(head[:20], documents=documents):
                found = recognise_records(head, is_all, documents)
                self.assertEqual((found.path.shown(Prefixes()), found.count), (wanted, count))

    def test_outline(self):
        prefixes = Prefixes()
        prefixes.learn("p", "urn:p")
        text = b"<a xmlns:q='urn:p' i='1'><q:b/><![CDATA[<no>]]><!-- <no> --><c><d k='1'/></c></a>"
        self.assertEqual(
            outline_paths(text, prefixes),
            [("a",), ("a", "@i"), ("a", "p:b"), ("a", "c"), ("a", "c", "d"), ("a", "c", "d", "@k")],
        )


class NumberTextsTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(
            st.one_of(
                st.integers().map(str),
                st.decimals(allow_nan=False, allow_infinity=False).map(str),
                st.sampled_from(["", "x", "-", "007", "1.", "-0", "٣"]),
            ),
            min_size=1,
        )
    )
    def test_every_text_comes_back(self, texts):
        for text in texts:
            kind = kind_of_text(text)
            if kind is Kind.INTEGER:
                self.assertEqual(str(int(text)), text)
                self.assertTrue(-(2**63) <= int(text) < 2**63)
            elif kind is not Kind.TEXT:
                self.assertRegex(text, r"\A-?(0|[1-9][0-9]*)(\.[0-9]+)?\Z")
            elif text.isascii() and text.isdigit():
                self.assertTrue(text.startswith("0") and len(text) > 1, text)


class SchemaTest(unittest.TestCase):
    def test_what_is_declared(self):
        text = """<s:schema xmlns:s="http://www.w3.org/2001/XMLSchema" xmlns="urn:t" targetNamespace="urn:t" elementFormDefault="qualified">
          <s:element name="root"><s:complexType mixed="true"><s:sequence><s:element ref="node" maxOccurs="unbounded"/>
            <s:group ref="more" maxOccurs="3"/></s:sequence><s:attributeGroup ref="attrs"/></s:complexType></s:element>
          <s:element name="node" type="Node"/>
          <s:complexType name="Node"><s:choice maxOccurs="2"><s:element name="node" type="Node"/>
            <s:element name="leaf" type="Code"/></s:choice><s:attribute name="n" type="s:unsignedLong"/></s:complexType>
          <s:complexType name="Wide"><s:complexContent><s:extension base="Node"><s:sequence>
            <s:element name="leaf" type="s:date" form="unqualified"/></s:sequence></s:extension></s:complexContent></s:complexType>
          <s:simpleType name="Code"><s:restriction><s:simpleType><s:restriction base="s:int"/></s:simpleType></s:restriction></s:simpleType>
          <s:group name="more"><s:sequence><s:element name="wide" type="Wide"/><s:element name="any"/></s:sequence></s:group>
          <s:attributeGroup name="attrs"><s:attribute name="a" type="s:boolean"/><s:attribute ref="g"/><s:attribute name="z" use="prohibited"/></s:attributeGroup>
          <s:attribute name="g" type="s:anyURI"/></s:schema>"""
        schema = Schema((("/s.xsd", text.encode()),))
        root = schema.record((Name("urn:t", "root"),))
        self.assertTrue(root.has_text)
        self.assertEqual(
            {name.local: str(kind) for name, kind in root.attributes.items()}, {"a": "boolean", "g": "text"}
        )
        self.assertEqual(
            {name.local: child.repeats for name, child in root.children.items()},
            {"node": True, "wide": True, "any": True},
        )
        node = root.children[Name("urn:t", "node")]
        self.assertTrue(node.children[Name("urn:t", "node")].again)
        self.assertEqual(str(node.children[Name("urn:t", "leaf")].type), "integer")
        self.assertEqual(str(node.attributes[Name("", "n")]), "decimal(20,0)")
        wide = root.children[Name("urn:t", "wide")]
        self.assertEqual(
            list(wide.children), [Name("urn:t", "node"), Name("urn:t", "leaf"), Name("", "leaf")]
        )
        self.assertIsNone(schema.record((Name("", "root"),)))
        with self.assertRaises(UsageError):
            Schema((("/s.xsd", b"<a/>"),))


if __name__ == "__main__":
    unittest.main()
