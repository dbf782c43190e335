"""Every line of `docs/proof.md`: what counts as the same and what as another, with and without exact, and all ways back."""

import json
import re
import unittest
from pathlib import Path

import pyarrow.parquet as pq

import tessaron
from tests.harness import FolderTest, quick_command

PAGE = (Path(__file__).parent.parent / "docs" / "proof.md").read_text("utf-8")
# a record, another, whether they are the same, and the kind of difference with exact (None: the same too)
RECORDS = {
    "names in another order": ('{"a":1,"b":2}', '{"b":2,"a":1}', True, None),
    "names inside in another order": ('{"o":{"a":1,"b":[{"x":1,"y":2}]}}', '{"o":{"b":[{"y":2,"x":1}],"a":1}}', True, None),
    "null for nothing": ('{"a":1,"b":null}', '{"a":1}', True, "empty"),
    "an empty object for nothing": ('{"a":1,"b":{}}', '{"a":1}', True, "empty"),
    "an empty array for null": ('{"a":1,"b":[]}', '{"a":1,"b":null}', True, "empty"),
    "one empty array for another": ('{"a":1,"b":{"c":[]}}', '{"a":1,"b":{}}', True, "empty"),
    "an empty text for null": ('{"a":1,"b":""}', '{"a":1,"b":null}', False, "value|missing|empty"),
    "a space more": ('{"a":"x "}', '{"a":"x"}', False, "value"),
    "a zero at the end": ('{"a":1.5}', '{"a":1.50}', True, "digits"),
    "with an exponent": ('{"a":1500.0}', '{"a":1.5e3}', True, "digits"),
    "an integer with a point": ('{"a":2,"b":0.5}', '{"a":2.0,"b":0.5}', True, "digits"),
    "zero below zero": ('{"a":0.0,"b":-1.5}', '{"a":-0.0,"b":-1.5}', True, "digits"),
    "the thirtieth digit": ('{"a":123456789012345678901234567890}', '{"a":123456789012345678901234567891}', False, "value"),
    "the last of 17 digits": ('{"a":0.12345678901234567}', '{"a":0.12345678901234568}', False, "value"),
    "a number as a text": ('{"a":7}', '{"a":"7"}', False, "kind"),
    "true as a text": ('{"a":true}', '{"a":"true"}', False, "kind"),
    "capital and small": ('{"a":"É"}', '{"a":"é"}', False, "value"),
    "letters put together": ('{"a":"\\u00e9"}', '{"a":"e\\u0301"}', False, "value"),
    "an escape for its letter": ('{"a":"\\u00e9/"}', '{"a":"é\\/"}', True, None),
    "elements in another order": ('{"a":[1,2]}', '{"a":[2,1]}', False, "value"),
    "an element less": ('{"a":["x","y"]}', '{"a":["x"]}', False, "missing"),
    "an element more": ('{"a":["x"]}', '{"a":["x","y"]}', False, "extra"),
    "a null among elements": ('{"a":[1,null,2]}', '{"a":[1,2]}', False, "missing|value|empty"),
    "a name less": ('{"a":1,"b":2}', '{"a":1}', False, "missing"),
    "another name": ('{"a":1,"key b":2}', '{"a":1,"key_b":2}', False, "missing|extra"),
    "one object for an array of it": ('{"a":{"x":1}}', '{"a":[{"x":1}]}', False, "missing|extra|kind"),
    "white space around": ('{ "a" : [ 1 , 2 ] }', '{"a":[1,2]}', True, None),
}  # fmt: skip
MARKUP = {
    "attributes in another order": ('<c a="1" b="2"/>', '<c b="2" a="1"/>', True, None),
    "elements of other names in another order": ("<c><a>1</a><b>2</b></c>", "<c><b>2</b><a>1</a></c>", True, "order"),
    "elements of one name in another order": ("<c><a>1</a><a>2</a></c>", "<c><a>2</a><a>1</a></c>", False, "value"),
    "a comment": ("<c><a>1</a></c>", "<c><!-- quay --><a>1</a></c>", True, None),
    "an instruction": ("<c><a>1</a></c>", "<c><?tide high?><a>1</a></c>", True, None),
    "CDATA": ("<c><a>1 &lt; 2</a></c>", "<c><a><![CDATA[1 < 2]]></a></c>", True, None),
    "a character by its number": ("<c><a>é</a></c>", "<c><a>&#233;</a></c>", True, None),
    "another prefix": ('<c><p:a xmlns:p="urn:b">1</p:a></c>', '<c><q:a xmlns:q="urn:b">1</q:a></c>', True, None),
    "another namespace": ('<c><p:a xmlns:p="urn:b">1</p:a></c>', '<c><p:a xmlns:p="urn:d">1</p:a></c>', False, "missing|extra"),
    "an empty element for none": ("<c><a>1</a><b/></c>", "<c><a>1</a></c>", True, "empty|order"),
    "spaces at the ends of a text": ("<c><a> 1 </a></c>", "<c><a>1</a></c>", True, None),
    "an attribute as an element": ('<c a="1"/>', "<c><a>1</a></c>", False, "missing|extra"),
    "another text": ("<c><a>1</a></c>", "<c><a>2</a></c>", False, "value"),
}  # fmt: skip


class SameTest(FolderTest):
    def found(self, suffix, kept, other, exact):
        tessaron.export(self.write(f"kept.{suffix}", kept), self.folder / "t", replace=True, exact=exact)
        return tessaron.verify(self.folder / "t", self.write(f"other.{suffix}", other))

    def check(self, suffix, both, is_same, kind):
        # Tables are made of the second and compared with the first: "missing" is what only the first has.
        source, kept = both
        for exact in (False, True):
            found = self.found(suffix, kept, source, exact)
            if is_same and (kind is None or not exact):
                self.assertTrue(found.passed, (exact, found.differences))
            else:
                self.assertFalse(found.passed, exact)
                self.assertRegex(" ".join(each.kind for each in found.differences), kind)
            again = self.found(suffix, kept, kept, exact)
            self.assertTrue(again.passed, (exact, again.differences))

    def test_records(self):
        for name, (kept, other, is_same, kind) in RECORDS.items():
            with self.subTest(name):
                more = '\n{"z":0}'
                self.check("ndjson", (kept + more, other + more), is_same, kind)

    def test_markup(self):
        for name, (kept, other, is_same, kind) in MARKUP.items():
            with self.subTest(name):
                both = tuple(f"<calls>{each}<c><z>0</z></c></calls>" for each in (kept, other))
                self.check("xml", both, is_same, kind)


class KindsTest(FolderTest):
    def test_every_kind_of_the_table_is_one_that_is_told(self):
        table = PAGE.partition("| kind | meaning |")[2].partition("\n\n")[0]
        kinds = {
            kind
            for line in table.splitlines()
            for kind in re.findall(r"`([a-z ]+)`", line.split("|")[1] if "|" in line else "")
        }
        told = set()
        for suffix, (one, other, _, _) in [("ndjson", each) for each in RECORDS.values()] + [
            ("xml", each) for each in MARKUP.values()
        ]:
            wrap = "{}" if suffix == "ndjson" else "<calls>{}<c><z>0</z></c></calls>"
            tessaron.export(
                self.write(f"k.{suffix}", wrap.format(other)), self.folder / "t", replace=True, exact=True
            )
            told |= {
                each.kind
                for each in tessaron.verify(
                    self.folder / "t", self.write(f"o.{suffix}", wrap.format(one))
                ).differences
            }
        lines = '{"a":1}\n{"a":2}\n{"a":3}\n'
        for kept, source in ((lines, lines[:16]), (lines[:16], lines)):
            tessaron.export(self.write("k.ndjson", kept), self.folder / "t", replace=True)
            told |= {
                each.kind
                for each in tessaron.verify(self.folder / "t", self.write("o.ndjson", source)).differences
            }
        moved = "<r><s n='1'><c><a>1</a></c>{}</s><s n='2'>{}<c><a>3</a></c></s></r>"
        for kept, source in ((("<c><a>2</a></c>", ""), ("", "<c><a>2</a></c>")),):
            tessaron.export(
                self.write("k.xml", moved.format(*kept)), self.folder / "t", replace=True, records="/r/s/c"
            )
            told |= {
                each.kind
                for each in tessaron.verify(
                    self.folder / "t", self.write("o.xml", moved.format(*source))
                ).differences
            }
        self.assertEqual(told, kinds)


class RowRestTest(FolderTest):
    """What the column `row_rest` holds, and that nothing else is in it."""

    def rests(self, records, **options):
        tables = tessaron.shred([record.encode() for record in records], name="t", **options)
        return [json.loads(text) if text else None for text in tables["t"].column("row_rest").to_pylist()]

    def test_what_columns_do_not_tell(self):
        cases = (
            (['{"a":1}', '{"a":2,"b":null}'], [None, {"b": None}]), (['{"a":1,"s":[]}', '{"a":2,"s":[1]}'], [{"s": []}, None]),
            (['{"a":1,"o":{}}', '{"a":2,"o":{"x":1}}'], [{"o": {}}, None]), (['{"a":1.5}', '{"a":1.25}'], [None, None]),
            (['{"a":null}', '{"a":1}'], [{"a": None}, None]),
        )  # fmt: skip
        for records, rests in cases:
            with self.subTest(records):
                self.assertEqual(self.rests(records, exact=True), rests)

    def test_texts_that_are_no_strings_are_marked_without_being_asked(self):
        self.assertEqual(self.rests(['{"ref":7}', '{"ref":"7"}']), [{"ref": 0}, None])
        self.assertNotIn("row_rest", tessaron.shred([b'{"ref":7}', b'{"ref":8}'], name="t")["t"].column_names)


class FormsTest(FolderTest):
    def test_every_form_of_the_page(self):
        forms = re.findall(r"^\| `(\w+)` \|", PAGE.partition("| `--as` | |")[2], re.M)
        source = self.write("calls.json", '{"page":1,"calls":[{"id":1,"s":[{"x":1}]},{"id":2,"s":[]}]}')
        tessaron.export(source, self.folder / "t", exact=True)
        want = {
            "lines": ['{"id":1,"s":[{"x":1}]}', '{"id":2,"s":[]}'], "array": [[{"id": 1, "s": [{"x": 1}]}, {"id": 2, "s": []}]],
            "documents": [json.loads(source.read_text())], "files": [{"id": 1, "s": [{"x": 1}]}, {"id": 2, "s": []}],
        }  # fmt: skip
        self.assertEqual(set(forms), set(want))
        for form in forms:
            with self.subTest(form):
                target = self.folder / f"o_{form}"
                self.assertEqual(
                    quick_command("rebuild", self.folder / "t", "-o", target, "--as", form).returncode, 0
                )
                texts = (
                    [path.read_text() for path in sorted(target.iterdir())]
                    if form == "files"
                    else [target.read_text()]
                )
                got = texts[0].splitlines() if form == "lines" else [json.loads(text) for text in texts]
                self.assertEqual(got, want[form])

    def test_rows_in_another_order_are_brought_into_it(self):
        lines = [
            '{"id":1,"s":[{"x":"a"},{"x":"b"}]}',
            '{"id":2,"s":[{"x":"c"}]}',
            '{"id":3,"s":[{"x":"d"},{"x":"e"}]}',
        ]
        tessaron.export(self.write("calls.ndjson", "\n".join(lines)), self.folder / "t")
        for name in ("calls", "calls_s"):
            path = self.folder / "t" / f"{name}.parquet"
            rows = pq.read_table(path)
            pq.write_table(rows.take([2, 0, 1] if name == "calls" else [4, 1, 3, 0, 2]), path)
        tessaron.rebuild(self.folder / "t", self.folder / "o.ndjson")
        self.assertEqual((self.folder / "o.ndjson").read_text().splitlines(), [lines[2], lines[0], lines[1]])


class SumsTest(unittest.TestCase):
    def test_each_sum_adds_up(self):
        layout = tessaron.Layout(
            '[tables.t]\nrows = "$"\nkeep = "a != 3"\n[tables.t.columns]\n'
            'a = { path = "$.a", type = "integer", misfit = "record" }\n[tables.s]\nrows = "$.s[*]"\n'
            '[tables.s.columns]\nx = { path = "@.x", type = "integer", misfit = "value" }\n'
        )
        records = [
            b'{"a":1,"s":[{"x":1},{"x":"?"}]}',
            b'{"a":"?","s":[{"x":2}]}',
            b'{"a":3,"s":[{"x":3}]}',
            b'{"a":4}',
        ]
        tables = tessaron.shred(records, layout=layout)
        self.assertEqual((tables["t"].num_rows, tables["s"].num_rows), (2, 2))
        self.assertEqual([found.code for found in tables.findings if found.code == "misfit"], ["misfit"])
