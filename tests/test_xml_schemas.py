"""XML Schemas: which types columns get, what is valid, what is followed, and that all of it comes back."""

import unittest

import tessaron
from tests.harness import FolderTest

HEAD = '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" xmlns:o="urn:o"'
ONE_FIELD = (
    HEAD
    + """><xs:element name="r"><xs:complexType><xs:sequence>
  <xs:element name="c" maxOccurs="unbounded"><xs:complexType><xs:sequence>
    <xs:element name="v" type="xs:%s" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>
  </xs:sequence></xs:complexType></xs:element></xs:schema>"""
)
CALL = (
    HEAD
    + """ targetNamespace="urn:t"><xs:include schemaLocation="fee.xsd"/>
  <xs:import namespace="urn:o" schemaLocation="http://harbour.invalid/schemas/other.xsd"/>
  <xs:import namespace="http://www.w3.org/XML/1998/namespace" schemaLocation="http://www.w3.org/2001/xml.xsd"/>
  <xs:element name="calls"><xs:complexType><xs:sequence>
    <xs:element name="call" type="t:Call" maxOccurs="unbounded"/></xs:sequence></xs:complexType>
    <xs:key name="callKey"><xs:selector xpath="call"/><xs:field xpath="@id"/></xs:key></xs:element>
  <xs:complexType name="Base"><xs:sequence><xs:element name="eta" type="xs:dateTime"/></xs:sequence>
    <xs:attribute name="id" type="xs:int"/><xs:attribute ref="xml:lang"/></xs:complexType>
  <xs:complexType name="Call"><xs:complexContent><xs:extension base="t:Base"><xs:sequence>
    <xs:element name="fee" type="t:Fee" minOccurs="0" maxOccurs="3"/>
    <xs:element ref="t:head" minOccurs="0" maxOccurs="unbounded"/>
    <xs:element ref="o:seen" minOccurs="0"/><xs:element name="call" type="t:Call" minOccurs="0"/>
    </xs:sequence></xs:extension></xs:complexContent></xs:complexType>
  <xs:element name="head" abstract="true" type="xs:string"/>
  <xs:element name="pilot" substitutionGroup="t:head" type="xs:string"/>
  <xs:element name="tug" substitutionGroup="t:head" type="xs:string"/></xs:schema>"""
)
FEE = (
    HEAD
    + """ targetNamespace="urn:t"><xs:simpleType name="Fee"><xs:restriction base="xs:decimal">
  <xs:totalDigits value="7"/><xs:fractionDigits value="2"/></xs:restriction></xs:simpleType></xs:schema>"""
)
OTHER = HEAD + ' targetNamespace="urn:o"><xs:element name="seen" type="xs:date"/></xs:schema>'
CALLS = """<t:calls xmlns:t="urn:t" xmlns:o="urn:o"><call id="1"><eta>2026-01-01T00:00:00</eta><fee>1.25</fee><fee>7</fee>
<t:pilot>a</t:pilot><o:seen>2026-02-03</o:seen></call>
<call id="2"><eta>2026-01-01T10:00:00</eta><fee>1.255</fee></call>
<call id="3"><fee>1</fee><eta>2026-01-01T10:00:00</eta></call>
<call id="4"><eta>2026-01-01T12:00:00</eta><t:tug>b</t:tug><call id="5"><eta>2026-01-02T00:00:00</eta></call></call></t:calls>"""


class SchemasTest(FolderTest):
    def test_a_type_is_taken_where_it_gives_every_value_back(self):
        for declared, texts, wanted in (
            ("dateTime", ["2026-01-01T00:00:00", "2026-01-01T00:00:00.25"], "text"),
            ("dateTime", ["2026-01-01T00:00:00", "2026-01-02T00:00:00"], "timestamp"),
            ("dateTime", ["2026-01-01T24:00:00"], "text"),
            ("dateTime", ["2026-01-01T00:00:00Z", "2026-01-01T00:00:00+01:00"], "text"),
            ("dateTime", [], "timestamp"),
            ("decimal", ["1.0000000000001", "5"], "decimal(14,13)"),
            ("decimal", ["5"], "decimal(38,9)"),
            ("decimal", ["1.", "5"], "text"),
            ("integer", ["99999999999999999999", "1"], "decimal(20,0)"),
            ("integer", ["01", "1"], "text"),
            ("int", ["5"], "integer"),
            ("date", ["2026-01-01Z", "2026-01-01"], "text"),
            ("date", ["2026-01-01"], "date"),
            ("time", ["10:00:00+01:00"], "text"),
            ("boolean", ["1", "0"], "boolean"),
            ("boolean", ["true", "false"], "boolean"),
            ("boolean", ["1", "false"], "text"),
            ("double", ["1.5", "2"], "double"),
            ("double", ["1e5", "2"], "text"),
            ("double", ["INF", "2.5"], "double"),
            ("string", ["12", "13"], "text"),
            ("anyURI", [], "text"),
        ):
            with self.subTest(declared, texts=texts):
                xsd = self.write("r.xsd", ONE_FIELD % declared)
                records = "".join(f"<c><v>{text}</v></c>" for text in texts)
                source = self.write("r.xml", f"<r>{records}<c/></r>")
                target = self.folder / "tables"
                receipt = tessaron.export(
                    source, target, xsd=str(xsd), records="/r/c", replace=True, workers=1
                )
                self.assertEqual((receipt.records, receipt.rejected), (len(texts) + 1, 0))
                tables = tessaron.shred(source, xsd=str(xsd), records="/r/c", workers=1)
                (column,) = tables.layout.tables[0].columns
                self.assertEqual(column.type.spelled(), wanted)
                if wanted == "text" and declared not in ("string", "anyURI"):
                    self.assertIn("does not give back every value", column.note)
                found = tessaron.verify(target, source, workers=1)
                self.assertTrue(found.passed, found.to_json())

    def test_what_schemas_say_of_each_other(self):
        for name, text in (("call.xsd", CALL), ("fee.xsd", FEE), ("other.xsd", OTHER)):
            xsd = self.write(name, text)
        xsd = self.folder / "call.xsd"
        source = self.write("calls.xml", CALLS)
        options = {"xsd": str(xsd), "records": "/t:calls/call"}
        receipt = tessaron.export(source, self.folder / "tables", workers=1, **options)
        self.assertEqual((receipt.records, receipt.reasons), (2, {"schema": 2}))
        notes = {note.path: note.text for note in receipt.notes}
        self.assertIn("callKey", notes[f"constraints of {xsd}"])
        tables = tessaron.shred(source, workers=1, **options)
        self.assertEqual([(each.record, each.line) for each in tables.rejects], [(2, 3), (3, 4)])
        self.assertIn("fraction", tables.rejects[0].message)
        types = {
            f"{table.name}.{column.name}": str(column.type)
            for table in tables.layout.tables
            for column in table.columns
        }
        self.assertEqual(types["call_fee.value"], "decimal(7,2)")
        self.assertEqual(types["call.seen"], "date")
        self.assertEqual([row["value"] for row in tables["call_tug"].to_pylist()], ["b"])
        self.assertTrue(tessaron.verify(self.folder / "tables", source, workers=1).passed)
        tables = tessaron.shred(source.read_bytes(), chunk_bytes=1, workers=1, **options)
        self.assertEqual(len(tables.rejects), 2)

    def test_schemas_that_cannot_be_used(self):
        source = self.write("r.xml", "<r><c><v>1</v></c></r>")
        for text, path, message in (
            ("<a/>", "/r/c", "expected an XML Schema, found an element a"),
            (ONE_FIELD % "no-such-type", "/r/c", "is no schema that can be used"),
            (ONE_FIELD % "int", "/r/d", "no records at /r/d"),
            (ONE_FIELD % "int", "//c", "needs to know the record"),
            ((ONE_FIELD % "int").replace('"c"', '"d"'), "/r/c", "declares no element /r/c"),
            (ONE_FIELD.replace("><xs:element", '><xs:include schemaLocation="gone.xsd"/><xs:element', 1) % "int", "/r/c", "cannot be read"),
        ):  # fmt: skip
            with (
                self.subTest(message),
                self.assertRaisesRegex((tessaron.UsageError, tessaron.SourceError), message),
            ):
                tessaron.shred(source, xsd=str(self.write("r.xsd", text)), records=path, workers=1)


if __name__ == "__main__":
    unittest.main()
