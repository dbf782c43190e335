"""XML where names, prefixes, places and numbers are not what they seem; with either walker and any chunk size."""

import itertools
import json
import random
import re
import unittest
from dataclasses import replace
from unittest import mock
from xml.etree import ElementTree

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import tessaron
from tessaron.core.cutting import xml_skeletons as skeletons
from tessaron.core.cutting.entity_weights import entity_lengths, light_pieces
from tessaron.core.cutting.xml_chunks import Context, Piece
from tessaron.core.kernel import xml_kernel
from tessaron.core.kernel.contract import XmlOptions
from tessaron.core.kernel.fast_xml import entities_of, read_xml_fast
from tessaron.sources import xml_documents
from tests.harness import KERNELS, FolderTest, needs_compiled, quick_command
from tests.random_markup import DECLARATIONS, markup_chunk, named_values
from tests.strategies import ELEMENTS, xml_text

INSTANCE = b"http://www.w3.org/2001/XMLSchema-instance"


def shredded(data, **options):
    found = [
        {name: table.to_pylist() for name, table in tessaron.shred(data, kernel=kernel, chunk_bytes=size, workers=1, **options).items()}
        for kernel, size in itertools.product(KERNELS, (1, 10**6))
    ]  # fmt: skip
    assert all(each == found[0] for each in found), found
    return found[0]


def values(rows, column="value"):
    return [row[column] for row in rows]


def told(element):
    """Return an element as plain data, in its order; white space is not compared."""
    content = ["".join((element.text or "").split())]
    for child in element:
        content += [told(child), "".join((child.tail or "").split())]
    return element.tag, element.attrib, [each for each in content if each]


class NamesTest(unittest.TestCase):
    def test_one_namespace_under_two_prefixes(self):
        rows = shredded(b'<r xmlns="urn:x" xmlns:b="urn:x"><c><v>1</v><b:v>2</b:v></c><c><v>4</v></c></r>')
        self.assertEqual(
            [(row["parent_key"], row["ordinal"], row["value"]) for row in rows["c_v"]],
            [(1, 1, 1), (1, 2, 2), (2, 1, 4)],
        )
        rows = shredded(
            b'<r xmlns:a="urn:x" xmlns:b="urn:x"><c><a:v>1</a:v><b:v>2</b:v><a:v>3</a:v></c><c/></r>'
        )
        self.assertEqual([(row["ordinal"], row["value"]) for row in rows["c_v"]], [(1, 1), (2, 2), (3, 3)])
        rows = shredded(b'<r xmlns:a="urn:x" xmlns:b="urn:x"><c><a:v>1</a:v><b:v><w>2</w></b:v></c><c/></r>')
        self.assertEqual([(row["value"], row["w"]) for row in rows["c_v"]], [(1, None), (None, 2)])
        rows = shredded(
            b'<r xmlns:a="%b" xmlns:b="%b"><c><v a:nil="true"/></c><c><v b:nil="true"/></c><c><v>1</v></c></r>'
            % (INSTANCE, INSTANCE)
        )
        self.assertEqual(
            rows, {"c": [{"row_key": 1, "v": None}, {"row_key": 2, "v": None}, {"row_key": 3, "v": 1}]}
        )

    def test_an_element_of_another_namespace_is_no_record(self):
        for text in (
            b'<r xmlns="urn:one"><c><v>1</v></c><c xmlns="urn:two"><v>2</v></c><c><v>3</v></c></r>',
            b'<r xmlns="urn:one"><c><v>1</v></c><!-- --><c xmlns="urn:two"><v>2</v></c>\n<c><v>3</v></c></r>',
            b'<p:r xmlns:p="urn:one"><p:c><p:v>1</p:v></p:c><p:c xmlns:p="urn:two"><p:v>2</p:v></p:c><p:c><p:v>3</p:v></p:c></p:r>',
        ):
            with self.subTest(text):
                rows = shredded(text, records="/one:r/one:c", namespaces={"one": "urn:one"})
                self.assertEqual(values(rows["c"], "v"), [1, 3])


LAYOUT = '[reading]\nformat = "xml"\nrecords = "/r/c"\n{}[tables.c]\nrows = "."\n'
ITEMS = b'<r><c><item id="1">a</item><item id="2"/><v>5</v></c><c><v>6</v><v>7</v></c></r>'


class LayoutsOfXmlTest(unittest.TestCase):
    def laid(self, data, text, structure=""):
        tables = tessaron.shred(data, layout=tessaron.Layout(LAYOUT.format(structure) + text))
        return {name: table.to_pylist() for name, table in tables.items()}, tables

    def test_elements_are_counted_whether_their_table_is_there_or_not(self):
        count = '[tables.c.columns]\nn = { path = "item", fold = "count" }\n'
        table = (
            '[tables.item]\nrows = "item"\n[tables.item.columns]\nid = { path = "@id", type = "integer" }\n'
        )
        for text in (count, count + table):
            with self.subTest(text):
                rows, tables = self.laid(ITEMS, text)
                self.assertEqual((values(rows["c"], "n"), tables.unmet), ([2, 0], ()))

    def test_several_elements_where_a_column_is_for_one_are_a_misfit(self):
        for misfit, rows_left, rejected in (
            ("value", [5, None], 1),
            ("record", [5], 1),
            ("note", [5, None], 0),
        ):
            with self.subTest(misfit):
                text = f'[tables.c.columns]\nv = {{ path = "v", type = "integer", misfit = "{misfit}" }}\n'
                rows, tables = self.laid(ITEMS, text)
                self.assertEqual(values(rows["c"], "v"), rows_left)
                self.assertEqual([(each.code, each.count) for each in tables.findings], [("misfit", 1)])
                self.assertEqual(len(tables.rejects), rejected)
                self.assertIn("several elements", tables.findings[0].example)

    def test_texts_of_elements_are_lists(self):
        table = '[tables.s]\nrows = "s"\n[tables.s.columns]\nv = { path = ".", type = "text" }\n'
        rows, _ = self.laid(
            b"<r><c><s>a|b</s><s>c</s></c><c><s/></c><c><s>d|e|f</s></c></r>",
            table,
            '[structure]\nsplit = { "s" = "|" }\n',
        )
        self.assertEqual(
            [(row["parent_key"], row["ordinal"], row["v"]) for row in rows["s"]],
            [(1, 1, "a"), (1, 2, "b"), (1, 3, "c"), (3, 1, "d"), (3, 2, "e"), (3, 3, "f")],
        )

    def test_the_key_of_rows_brought_together_is_the_plain_name(self):
        rows, _ = self.laid(
            b"<r><c><w>1</w><z>2</z></c></r>",
            '[tables.u]\nrows = ["w", "z"]\n[tables.u.columns]\nk = { origin = "key" }\nv = { path = ".", type = "text" }\n',
        )
        self.assertEqual([(row["k"], row["v"]) for row in rows["u"]], [("w", "1"), ("z", "2")])

    def test_an_update_where_elements_begin_or_cease_to_repeat(self):
        documents = [
            b"<r><c><item>1</item></c><c><item>2</item></c></r>",
            b"<r><c><item>1</item><item>3</item></c><c><item>2</item></c></r>",
            b'<r><c><item u="kg">1</item></c><c><item>2</item></c></r>',
            b'<r><c><item u="kg">1</item><item u="t">2</item></c><c/></r>',
            b"<r><c><item><x>1</x></item></c><c/></r>",
            b"<r><c><item><x>1</x></item><item><x>2</x></item></c><c/></r>",
        ]
        for old, new in itertools.permutations(documents, 2):
            with self.subTest(old=old, new=new):
                layout = tessaron.draft(old, records="/r/c")
                changed, _ = tessaron.update(layout, new)
                rows = shredded(new, layout=changed)
                if new == documents[1]:
                    self.assertEqual(values(rows["c_item"]), [1, 3, 2])
                again, nothing = tessaron.update(changed, new)
                self.assertEqual(again.text, changed.text)
                self.assertEqual((nothing.new, nothing.met_again), ((), ()))
        layout, told = tessaron.update(tessaron.draft(documents[2], records="/r/c"), documents[3])
        self.assertIn('item_u = { path = "item/@u", type = "text", fold = "first" }', layout.text)
        self.assertEqual(told.unmet, ())
        rows = shredded(documents[3], layout=layout)
        self.assertEqual(values(rows["c"], "item_u"), ["kg", None])
        self.assertEqual(values(rows["c_item"], "u"), ["kg", "t"])

    def test_an_attribute_has_no_markup(self):
        with self.assertRaisesRegex(tessaron.LayoutError, "an attribute has type"):
            tessaron.Layout(LAYOUT.format("") + '[tables.c.columns]\nk = { path = "@a", type = "xml" }\n')


class KernelsTest(unittest.TestCase):
    @needs_compiled
    def test_the_compiled_scanner_reads_what_the_reference_reads(self):
        for number in range(250):
            chance = random.Random(number)
            chunk = markup_chunk(chance)
            options = XmlOptions(
                chance.choice(("trim", "collapse", "keep")), keeps_order=chance.random() < 0.5
            )
            with self.subTest(number=number, options=options, data=chunk.data):
                tape = xml_kernel.read_xml(chunk, options)
                if not tape.faults and b"&crate;" not in chunk.data:
                    self.assertIsNotNone(read_xml_fast(chunk, options))
                reference = xml_kernel.read_xml(chunk, replace(options, compiled=False))
                self.assertEqual(named_values(tape), named_values(reference))

    def test_what_is_wrong_is_found_without_a_tree(self):
        long = b"x" * 10_000_001
        for record in (
            b"<a", b"<a></b>", b"<p:a/>", b"<a p:b='1'/>", b"<a b='1' b='2'/>", b"<a>&no;</a>", b"<a>\x01</a>", b"<a>\xff</a>",
            b"<a xmlns:p='u' xmlns:q='u' p:x='' q:x=''/>", b"<a xmlns:p=''/>", b"<p:b:c xmlns:p='u'/>", b"<a b='<'/>",
            b"<a xmlns:p='::: x'/>", b"<a xml:id='1 2'/>", b"<a>]]></a>", b"<a>\xed\xa0\x80</a>", b"<a><!-- -- --></a>", b"<a/>x<a/>",
            b"<a xmlns='http://www.w3.org/2000/xmlns/'/>", b"<a>&#0;</a>", b"<a>" * 255 + b"</a>" * 255, b"<a>" * 256 + b"</a>" * 256,
            b"<a>" + long + b"</a>", b"<a b='" + long + b"'/>", b"<a>" * 251 + b"7" + b"</a>" * 251, b"<a xml:space='no'/>",
            b"</records><records>",
        ):  # fmt: skip
            chunk = markup_chunk(random.Random(4))
            chunk = replace(
                chunk, data=record, starts=np.zeros(1, np.int64), context=Context(), runs=chunk.runs[:1]
            )
            reference = xml_kernel.read_xml(chunk, XmlOptions(compiled=False))
            with self.subTest(record=record[:60]):
                self.assertEqual(
                    named_values(xml_kernel.read_xml(chunk, XmlOptions())), named_values(reference)
                )

    def test_an_entity_with_markup_is_left_to_the_reference(self):
        self.assertEqual(
            [name for name, *_ in entities_of(DECLARATIONS)], ["quay", "crane", "none", "less", "number"]
        )
        self.assertEqual(entities_of(DECLARATIONS)[0], ("quay", "north \n quay", "north   quay"))


class ContainedTest(FolderTest):
    def test_structures_that_contain_themselves_add_up_and_keep_their_order(self):
        for title, text in (
            ("empty, and text further in", "<r><e><d><c/></d></e><e><d><c><c><b>t</b><c>u</c></c><b>u</b></c></d></e></r>"),
            ("in an order of their own", "<r><e><k><k><c>u</c><n>u</n></k><n>2</n><a>7</a></k></e></r>"),
        ):  # fmt: skip
            source = self.write("contained.xml", text)
            for exact, kernel in itertools.product((False, True), ("auto", "python")):
                with self.subTest(title, exact=exact, kernel=kernel):
                    target = self.folder / f"{title} {exact} {kernel}"
                    receipt = tessaron.export(source, target, records="/r/e", exact=exact, kernel=kernel)
                    self.assertEqual([each for each in receipt.balance if each.gap], [])
                    self.assertTrue(tessaron.verify(target, source).passed)


class SelectedTest(FolderTest):
    """What is wanted is taken out of tapes of the compiled scanner as the Python kernel reads it."""

    def made(self, document, by_python, **options):
        real = xml_kernel.can_be_fast
        chosen = mock.Mock(return_value=False) if by_python else real
        target = self.folder / ("python" if by_python else "compiled")
        with mock.patch.object(xml_kernel, "can_be_fast", chosen):
            receipt = tessaron.export(document, target, format="csv", replace=True, **options)
        tables = {path.name: path.read_bytes() for path in target.glob("*.csv")}
        return tables, receipt.left_out, receipt.balance, receipt.findings

    @settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(ELEMENTS, st.sampled_from(["only", "without"]), st.data())
    def test_patterns(self, elements, kind, data):
        document = f"<r>{''.join(map(xml_text, elements))}</r>".encode()
        names = sorted(set(re.findall(r"<(\w+)| (\w+)=", document.decode())))
        chosen = [element or f"@{attribute}" for element, attribute in names if element not in ("r", "call")]
        patterns = data.draw(st.lists(st.sampled_from(chosen or ["x"]), min_size=1, max_size=3, unique=True))
        options = {"records": "/r/call", kind: patterns}
        try:
            wanted = self.made(document, True, **options)
        except tessaron.TessaronError as error:
            with self.assertRaises(type(error)):
                self.made(document, False, **options)
            return
        self.assertEqual(self.made(document, False, **options), wanted)

    def test_layouts(self):
        document = (
            b"<r><x id='1'><a/><a n='2'>t</a><b><c>5</c><c/>u</b><d> </d></x>"
            b"<x><b/><a>w</a><e><f/></e></x><x>plain</x></r>"
        )
        whole = tessaron.draft(document, records="/r/x")
        columns = [(table, column) for table in whole.tables for column in whole.columns(table)]
        self.assertGreater(len(columns), 6)
        for gone in (*itertools.combinations(columns, 1), *itertools.combinations(columns, 2)):
            layout = whole
            for table, column in gone:
                layout = layout.remove_columns(table, column)
            with self.subTest(gone=gone):
                self.assertEqual(
                    self.made(document, False, layout=layout), self.made(document, True, layout=layout)
                )


class ProofOfXmlTest(FolderTest):
    def verified(self, data, other=None, **options):
        source, target = self.write("a.xml", data), self.folder / "out"
        tessaron.export(source, target, replace=True, workers=1, **options)
        return tessaron.verify(target, None if other is None else self.write("b.xml", other), workers=1)

    def test_values_come_back_as_what_they_are(self):
        for texts in (
            ["-0.0", "1.5"],
            ["0.00000001", "INF"],
            ["1" + "0" * 38, "1.5"],
            ["-0.00000", "", "2.5"],
            ["NaN", "-INF", "2"],
            ["", "0b5f2b4e-8a8e-4ad3-9c5b-0e8d8f7a1c2d"],
        ):
            data = "<r>" + "".join(f"<c><v>{text}</v></c>" for text in texts) + "</r>"
            for exact in (False, True):
                with self.subTest(texts, exact=exact):
                    found = self.verified(data, exact=exact)
                    self.assertTrue(found.passed, found.to_json())

    def test_differences_are_told_by_prefixed_names_and_with_entities(self):
        head = b'<!DOCTYPE r [<!ENTITY e "x&#38;#38;y">]>'
        for data, other, wanted in (
            (
                b'<r xmlns:m="urn:m" xmlns:a="urn:a" xmlns:b="urn:b"><m:c><a:x>1</a:x><b:x>2</b:x></m:c><m:c/></r>',
                b'<r xmlns:m="urn:m" xmlns:a="urn:a" xmlns:b="urn:b"><m:c><a:x>1</a:x><b:x>3</b:x></m:c><m:c/></r>',
                [("value", "b:x", "3", "2")],
            ),
            (
                b'<r xmlns:a="urn:a"><c a:k="1" k="2"/><c/></r>',
                b'<r xmlns:a="urn:a"><c a:k="3" k="2"/><c/></r>',
                [("value", "@a:k", "3", "1")],
            ),
            (
                head + b"<r><c><v>&e;</v></c><c><v>2</v></c></r>",
                head + b"<r><c><v>&e;</v></c><c><v>3</v><w>&e;</w></c></r>",
                [("value", "v", "3", "2"), ("missing", "w", "x&y", "")],
            ),
            (
                b"<r><c><v>NaN</v></c><c><v>2</v></c></r>",
                b"<r><c><v>INF</v></c><c><v>2</v></c></r>",
                [("value", "v", "INF", "NaN")],
            ),
        ):
            with self.subTest(wanted):
                found = self.verified(data, other)
                told = [(each.kind, each.path, each.in_source, each.in_tables) for each in found.differences]
                self.assertEqual(told, wanted)

    def test_a_survey_counts_as_filled_what_has_a_value_in_the_table(self):
        for record, path, filled in (
            (b"<c><v/></c><c><v>3</v></c>", "v", 1),
            (b"<c><v/></c><c><v>x</v></c>", "v", 2),
            (b'<c v=""/><c v="3"/>', "@v", 1),
            (b'<c><v a="1"/></c><c><v>3</v></c>', "v/text()", 1),
            (b"<c><v/><v>2</v></c><c><v>3</v></c>", "v", 2),
        ):
            with self.subTest(record):
                found = tessaron.survey(b"<r>" + record + b"</r>", records="/r/c")
                self.assertEqual([each.filled for each in found if each.path == path and each.type], [filled])

    def test_structures_around_the_records_that_contain_themselves(self):
        around = '<f><rv><t n="a"/></rv></f><f><rv><t n="b"><t n="c"/></t></rv></f>'
        for record in (
            "<rec><v>1</v></rec>",
            '<rec><f><rv><t n="d"/></rv></f></rec>',
            '<rec><t n="d"><t n="e"/></t></rec>',
        ):
            data = f"<lib>{around}{record}{record}</lib>"
            with self.subTest(record):
                found = self.verified(data, records="/lib/rec")
                self.assertTrue(found.passed, found.to_json())
                own = tessaron.Layout.read(self.folder / "out" / "layout.toml")
                drafted = tessaron.draft(data.encode(), records="/lib/rec")
                for layout in (own, drafted, tessaron.update(drafted, data.encode())[0]):
                    found = self.verified(data, layout=layout)
                    self.assertTrue(found.passed, found.to_json())
                    rows = shredded(data.encode(), layout=layout)["lib_f_t"]
                    self.assertEqual(
                        [(row["n"], row["depth"]) for row in rows], [("a", 1), ("b", 1), ("c", 2)]
                    )

    def test_records_found_by_any_path_are_proved_and_made_again(self):
        data = '<x:r xmlns:x="urn:x" n="7"><x:c><x:v>1</x:v></x:c><g><x:c><x:v>{}</x:v></x:c></g><x:c><x:v>3</x:v></x:c></x:r>'
        data = data.format
        for path, count, last in (
            ("//x:c", 3, "<x:c"),
            ("//x:c[x:v[. > 1]/../x:v]", 2, "<x:c"),
            ("//g/x:c", 1, "<x:c>"),
            ("//*[. = 2]", 3, None),
            ("/x:r/x:c[2] | //g", 2, "<g"),
            ("/x:r/child::x:c[last()]", 1, "<x:c>"),
            ("/x:r/*", 3, None),
            ("//x:v/..", 3, None),
            ("//x:c[. = '/[']|//x:c[. = \"]/2\" or 1]", 3, "<x:c"),
        ):
            with self.subTest(path):
                found = self.verified(data(2), records=path, namespaces={"x": "urn:x"})
                self.assertTrue(found.passed, found.to_json())
                self.assertEqual(found.records, count)
                tessaron.rebuild(self.folder / "out", self.folder / "made.xml", replace=True)
                text = (self.folder / "made.xml").read_text()
                self.assertGreaterEqual(sum(text.count(f">{number}</") for number in (1, 2, 3)), count, text)
                if last:
                    self.assertIn(last, text)
                    changed = self.verified(data(2), data(4), records=path, namespaces={"x": "urn:x"})
                    self.assertEqual(changed.passed, path.startswith("/x:r/child"), changed.to_json())

    def test_the_names_of_records_are_kept(self):
        data = b'<r p="1"><a k="x">1</a><b/><p:c xmlns:p="urn:p">z<d>4</d></p:c><a>3</a></r>'
        for path, names in (
            ("/r/*", ["a", "b", "p:c", "a"]),
            ("//a | //b", ["a", "b", "a"]),
            ("//*[d]", ["p:c"]),
            ("/r/a | /r/p:c", ["a", "p:c", "a"]),
            ("/r/p:*", None),
            ("/*", None),
            ("//a", None),
        ):
            for size in (1, 10**6):
                with self.subTest(path, chunk_bytes=size):
                    options = {"records": path, "namespaces": {"p": "urn:p"}, "chunk_bytes": size}
                    tables = tessaron.shred(data, workers=1, **options)
                    columns = [
                        each["element"].to_pylist()
                        for each in tables.values()
                        if "element" in each.column_names
                    ]
                    self.assertEqual(columns, [names] if names else [])
                    found = self.verified(data, exact=size == 1, **options)
                    self.assertTrue(found.passed, found.to_json())
        other = data.replace(b"<b/>", b"<e/>")
        self.assertTrue(self.verified(data, records="/r/*").passed)
        self.assertFalse(self.verified(data, other, records="/r/*").passed)
        layout = '[reading]\nformat = "xml"\nrecords = "/r/*"\n[tables.a]\nrows = "."\ncolumns.k = { path = "@k", type = "text" }\n'
        notes = tessaron.shred(data, layout=tessaron.Layout(layout)).notes
        self.assertIn('a column with origin = "element" keeps it', notes[-1][1])

    def test_one_name_of_all_records_that_their_path_does_not_say(self):
        self.assertTrue(self.verified(b"<vesselCalls><c><v>1</v></c><c/></vesselCalls>", records="/*").passed)
        self.assertIn('element = "vesselCalls"', (self.folder / "out/layout.toml").read_text())
        tessaron.rebuild(self.folder / "out", self.folder / "made.xml")
        self.assertIn("<vesselCalls>", (self.folder / "made.xml").read_text())

    def test_what_is_broken_around_records_costs_none_of_them(self):
        source = self.write(
            "a.xml", "<!DOCTYPE r [<!ENTITY ok '1'>]><r>&no;<c><v>1</v></c><c><v>&ok;</v></c></r>"
        )
        receipt = tessaron.export(source, self.folder / "out", records="/r/c", replace=True)
        self.assertEqual((receipt.records, receipt.rejected), (2, 1))
        self.assertEqual([each.gap for each in receipt.balance], [0] * len(receipt.balance))
        self.assertEqual(receipt.reasons, {"entity": 1})

    def test_records_refer_to_the_elements_they_stand_in(self):
        long = b"<day d='0'>" + b"".join(b"<c>%d</c>" % n for n in range(60_000)) + b"</day>"
        for data, path, keys in (
            (b'<r><x d="1"><y>1</y></x><x/><x d="2"><y>2</y><y>3</y></x></r>', "/r/x/y", [1, 3, 3]),
            (b"<r><x><y>1</y></x><x><y>2</y></x></r>", "/r/x/y", [1, 2]),
            (b"<r><x><y>1</y></x><x><y>2</y></x></r>", "/r/child::x/y", [1, 2]),
            (b"<r><x><w><y>1</y></w></x><x><v>3</v><w><y>2</y></w></x></r>", "/r/x/w/y", [1, 2]),
            (b"<r><x><w/><w><y>1</y></w></x><x><w><y>2</y></w></x></r>", "/r/x/w/y", [2, 3]),
            (b"<m>" + long + b"<day d='1'><c>x</c></day></m>", "/m/day/c", [1] * 60_000 + [2]),
        ):
            with self.subTest(data[:60]):
                self.assertTrue(self.verified(data, records=path).passed)
                plan = tessaron.shred(self.folder / "a.xml", records=path, workers=1)
                top = next(table for table in plan.layout.tables if table.enclosing_key)
                self.assertEqual(plan[top.name][top.enclosing_key].to_pylist(), keys)
                self.assertEqual(plan[top.enclosing].num_rows, max(keys))
                tessaron.rebuild(self.folder / "out", self.folder / "made.xml", replace=True)
                made = (self.folder / "made.xml").read_bytes().partition(b"?>")[2].replace(b"\n", b"")
                self.assertEqual(ElementTree.canonicalize(made), ElementTree.canonicalize(data))
                again = tessaron.shred(
                    self.folder / "a.xml", layout=tessaron.Layout.read(self.folder / "out/layout.toml")
                )
                self.assertTrue(all(plan[name].equals(again[name]) for name in plan))

    def test_exact_documents_come_back_as_they_were(self):
        nil = f'<r xmlns:xsi="{INSTANCE.decode()}">%s</r>'
        for text, path in (
            (nil % '<c><v xsi:nil="true" u="kg"/></c><c><v u="t">5</v></c><c k="1" xsi:nil="true"/>', "/r/c"),
            (nil % '<c><v xsi:nil="true"/><v>x</v><v/></c><c><w/></c>', "/r/c"),
            ("<r><a>1</a><c>x</c><b>2</b><c>y</c><c>z</c><a>3</a></r>", "/r/c"),
            ("<r><c>x</c><a>1</a></r>", "/r/c"),
            ("<r><x><c/>2026-01-01</x><x><c/></x></r>", "/r/x/c"),
            ("<m><d>txt<c>1</c><s/><c>2</c><c>3</c><s/> more</d><d><s/><c>3</c></d><n/><d/><d><c>4</c></d></m>", "/m/d/c"),
            ("<r><c> a <b>1</b> c  d <b>2</b></c><c> </c><c>x\n<b> </b>y </c></r>", "/r/c"),
            ("<r> <c> a </c>\n<c/></r>", "/r/c"),
            ('<r xml:space="preserve"><c> a </c> b <c/></r>', "/r/c"),
        ):  # fmt: skip
            for rule in ("keep", "collapse", "trim"):
                with self.subTest(text, white_space=rule):
                    found = self.verified(text.encode(), records=path, exact=True, white_space=rule)
                    self.assertTrue(found.passed, found.to_json())
                    tessaron.rebuild(self.folder / "out", self.folder / "made.xml", replace=True)
                    made = ElementTree.parse(self.folder / "made.xml").getroot()
                    self.assertEqual(told(made), told(ElementTree.fromstring(text)))

    def test_what_is_broken_around_records_shifts_no_reference(self):
        for name, text in (
            ("a", "<r><x n='1'><y>1</y></x><x n='2'/></r>"),
            ("b", "<r p='&no;'><x n='3'/><x n='4'><y>2</y></x></r>"),
            ("c", "<r><x n='5'><y>3</y></x><x n='6'><y>4</y></x>"),
            ("d", "<r><x n='7'><y>5</y></x><x n='8'><y>6</y></x></r>"),
        ):
            self.write(f"d/{name}.xml", text)
        tables = tessaron.shred(self.folder / "d", records="/r/x/y", workers=1)
        rows = {row["row_key"]: row["n"] for row in tables["r_x"].to_pylist()}
        found = [rows[key] for key in tables["y"]["enclosing_key"].to_pylist()]
        self.assertEqual(found, [1, None, 5, 6, 7, 8])

    def test_records_whose_places_are_not_kept_are_not_called_identical(self):
        for data, path, options in (
            (b"<r><x><y>1</y></x><z><y>2</y></z></r>", "/r/*/y", {}),
            (b"<r><x><y>1</y></x><x><y>2</y></x></r>", "/r/x/y", {"envelope": False}),
        ):
            with self.subTest(path):
                receipt = tessaron.export(
                    self.write("a.xml", data), self.folder / "o", records=path, replace=True, **options
                )
                above = path.rpartition("/")[0]
                self.assertIn(f"--records '{above}' keeps it", receipt.notes[0].text)
        found = self.verified(b"<r><x p='1'><y>1</y></x><z><y>2</y></z></r>", records="/r/*/y")
        self.assertEqual([each.kind for each in found.differences], ["place"])
        filtered = (
            '[reading]\nformat = "xml"\nrecords = "/r/x/y"\n[tables.x]\naround = true\nrows = "x"\nkeep = "p > 0"\n'
            'columns.p = { path = "@p", type = "integer" }\n[tables.y]\nrows = "."\ncolumns.x = { origin = "%s" }\n'
        )
        with self.assertRaisesRegex(tessaron.LayoutError, "refers to rows by their number"):
            tessaron.Layout(filtered % "enclosing_key")
        tessaron.Layout(filtered % "element")
        wrong = '[reading]\nformat = "xml"\nrecords = "/r/x/y"\n[tables.y]\nrows = "."\ncolumns.x = { origin = "enclosing_key" }\n'
        with self.assertRaisesRegex(tessaron.LayoutError, "no table with around = true and rows = 'x'"):
            tessaron.Layout(wrong)

    def test_more_files_than_elements_also_where_the_first_is_large(self):
        part = "<p><t>" + "x" * 30_000 + "</t></p>"
        for number in range(30):
            self.write(f"d/f{number:02}.xml", f'<doc id="{number}">{part * (12 if number == 0 else 3)}</doc>')
        tables = tessaron.shred(self.folder / "d")
        self.assertEqual({name: tables[name].num_rows for name in tables}, {"doc": 30, "doc_p": 99})


HIDDEN = b'<!DOCTYPE r [<!ENTITY e "<c><v>9</v></c><c><v>8</v></c>"><!ENTITY w "<v>5</v>">]><r><c>&w;</c><c><v>2</v></c>&e;</r>'
FIXED = b'<!DOCTYPE r [<!ATTLIST r xmlns CDATA #FIXED "urn:x"><!ATTLIST c k CDATA "d">]><r><c><v>1</v></c><c k="z"><v>2</v></c></r>'
MIXED = "<!-- one --><?pi two?>\n<r><c>a <b>x</b> <i>y</i> z</c><!-- in --><d> <e/> </d></r><!-- after -->"


class DocumentsTest(FolderTest):
    """What documents say before, beside and around what is in them."""

    def test_markup_that_the_document_type_declares(self):
        for path in (None, "/r/c"):
            for size in (1, 10**6):
                rows = tessaron.shred(HIDDEN, records=path, chunk_bytes=size, workers=1)["c"].to_pylist()
                self.assertEqual(values(rows, "v"), [5, 2, 9, 8])
        tables = tessaron.shred(FIXED, records="/x:r/x:c", namespaces={"x": "urn:x"}, workers=1)
        self.assertEqual([(row["k"], row["v"]) for row in tables["c"].to_pylist()], [("d", 1), ("z", 2)])
        found = [each.value for each in tessaron.find(self.write("e.xml", HIDDEN), "/r/c/v")]
        self.assertEqual(found, ["5", "2", "9", "8"])
        # What is wrong is told of the document as it was written.
        broken = tessaron.shred(HIDDEN.replace(b"&w;", b"&no;"), records="/r/c", workers=1)
        self.assertEqual([each.code for each in broken.rejects], ["entity"])

    def test_documents_of_another_name_are_rejects_and_the_rest_goes_on(self):
        source = self.write("a.xml", "<r><c>1</c></r><q><c/></q><r><c>2</c></r>")
        receipt = tessaron.export(source, self.folder / "o", records="/r")
        self.assertEqual((receipt.records, receipt.reasons), (2, {"root": 1}))
        reject = json.loads((self.folder / "o/rejects.ndjson").read_text())
        self.assertEqual((reject["raw"], reject["column"]), ("<q><c/></q>", 1))
        self.assertEqual([each.gap for each in receipt.balance], [0] * len(receipt.balance))

    def test_every_node_is_found_and_has_one_path(self):
        source = self.write("m.xml", MIXED)
        for expression, paths in (
            ("//comment()", ["/comment()", "/r/comment()", "/comment()[2]"]),
            ("/processing-instruction()", ["/processing-instruction()"]),
            ("/r/c/node()", ["/r/c/text()", "/r/c/b", "/r/c/text()[2]", "/r/c/i", "/r/c/text()[3]"]),
            ("//c/text()[2]", ["/r/c/text()[2]"]),
        ):
            with self.subTest(expression):
                self.assertEqual([each.path for each in tessaron.find(source, expression)], paths)
        source = self.write("n.xml", "<r><c><v>1</v></c><c><v>2</v><v>3</v></c></r>")
        one, other = ([each.path for each in tessaron.find(source, text)] for text in ("/r/c/v", "//v"))
        self.assertEqual(one, other)

    def test_lines_of_values_keep_white_space_in_mixed_content_and_default_attributes(self):
        for text, wanted in (
            (MIXED, ["/r/c/text()[1]\t\"a \"", "/r/c/b\t\"x\"", "/r/c/text()[2]\t\" \"", "/r/c/i\t\"y\"", "/r/c/text()[3]\t\" z\"", "/r/d/e\t\"\""]),
            ("<c><b>x</b> <i>y</i> z</c>", ["/c/b\t\"x\"", "/c/text()[1]\t\" \"", "/c/i\t\"y\"", "/c/text()[2]\t\" z\""]),
            ("<c>\n <b>x</b> <i>y</i>\n</c>", ["/c/b\t\"x\"", "/c/i\t\"y\""]),
            ('<!DOCTYPE r SYSTEM "no-such-file.dtd" [<!ATTLIST c k CDATA "d">]><r><c/></r>', ["/r/c/@k\t\"d\""]),
        ):  # fmt: skip
            with self.subTest(text):
                lines = quick_command("values", self.write("v.xml", text)).stdout.decode().splitlines()
                self.assertEqual(lines, wanted)
                made = quick_command("compose", self.write("lines", "\n".join(lines))).stdout
                if "DOCTYPE" not in text and "\n <" not in text:
                    self.assertIn(
                        told(ElementTree.fromstring(made))[2], [told(ElementTree.fromstring(text))[2]]
                    )

    def test_where_too_much_stands_around_records_the_document_is_one(self):
        calls = "".join(f"<call id='{n}'/>" for n in range(20_000))
        moves = "".join(f"<move no='{n}'><t>{n}</t></move>" for n in range(20_000))
        source = self.write("a.xml", f"<r>{calls}{moves}</r>")
        with (
            mock.patch.object(xml_documents, "MOST_AROUND_BYTES", 300_000),
            mock.patch.object(skeletons, "MOST_AROUND_BYTES", 300_000),
        ):
            tables = tessaron.shred(source, workers=1)
            self.assertEqual(
                {name: tables[name].num_rows for name in tables}, {"r": 1, "r_call": 20_000, "r_move": 20_000}
            )
            self.assertIn("stand beside what repeats", tables.notes[0][1])
            with self.assertRaisesRegex(
                tessaron.UsageError, r"--records '/\*' takes the document as one record"
            ):
                tessaron.shred(source.read_bytes(), workers=1)
        self.assertEqual(list(tessaron.shred(source, workers=1)), ["r", "r_move", "call"])

    def test_comments_too_long_are_a_limit(self):
        source = self.write("c.xml", "<r><c>1</c><c><!--" + "x" * 10_100_000 + "--></c><c>2</c></r>")
        self.assertEqual(tessaron.export(source, self.folder / "o").reasons, {"limit": 1})

    def test_what_grows_is_bounded(self):
        deep = self.write("deep.xml", "<r>" + "<a>" * 100_000 + "</a>" * 100_000 + "</r>")
        for call in (lambda: tessaron.shred(deep), lambda: list(tessaron.find(deep, "//a[last()]"))):
            with self.assertRaisesRegex(tessaron.DataError, "deeper than 255 levels"):
                call()
        entity = "x" * 10_000
        head = f'<!DOCTYPE r [<!ENTITY e "{entity}"><!ENTITY f "&e;&e;"><!ENTITY g "&h;"><!ENTITY h "&g;">]>'
        text = head + "<r>" + "".join(f"<c n='{n}'>&f;</c>\n" for n in range(30)) + "</r>"
        self.assertEqual(
            entity_lengths(head.encode(), 10**6), {b"e": 10_000, b"f": 20_006, b"g": 10**6, b"h": 10**6}
        )
        body = text.removeprefix(head + "<r>").encode()
        starts = [body.index(f"<c n='{n}'".encode()) for n in range(30)]
        piece = Piece(body, starts, 0, 1, 1, 1, Context((), head.encode()))
        parts = list(light_pieces(piece, 50_000))
        self.assertEqual([len(part.starts) for part, _ in parts], [2] * 15)
        self.assertEqual([part.line for part, _ in parts], list(range(1, 31, 2)))
        self.assertLessEqual(max(weight for _, weight in parts), 50_000)
        rows = tessaron.shred(text.encode(), records="/r/c", chunk_bytes=50_000, workers=1)["c"].to_pylist()
        self.assertEqual([(row["n"], len(row["value"])) for row in rows], [(n, 20_000) for n in range(30)])


if __name__ == "__main__":
    unittest.main()
