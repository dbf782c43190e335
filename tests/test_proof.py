"""rebuild and verify: documents made again of tables, and what is found where tables and source differ."""

import json
import re
import shutil
import unittest
from decimal import Decimal
from xml.etree import ElementTree

import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import tessaron
from tests.harness import FolderTest, command, quick_command
from tests.strategies import DOCUMENTS, ELEMENTS, xml_text

PLAIN = settings(
    max_examples=12,
    derandomize=True,
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large, HealthCheck.filter_too_much],
)
CALLS = (
    '{"id":1,"vessel":{"name":"Oriel","len":12.50},"stays":[{"berth":"N1","at":"2026-01-02 10:00:00+01:00"},'
    '{"berth":"N2"}],"ref":7,"tags":["a","b"],"by_day":{"2026-01-01":[1],"2026-01-02":[]},"gone":null}\n'
    '{"id":2,"vessel":{"name":"Sa\\"lt","len":8.00},"stays":{"berth":"N3"},"ref":"7","tags":[],"empty":{}}\n'
    '{"id":3,"parts":[{"no":1,"parts":[{"no":2},{"no":3,"parts":{"no":4}}]}],"big":123456789012345678901}\n'
)


def loaded(text):
    """Return JSON with its numbers as they are written."""
    return json.loads(text, parse_float=lambda digits: ("number", digits), parse_int=lambda d: ("number", d))


def without_hollow(value):
    """Return JSON in which null, empty and absent are one, and numbers of one value."""
    if isinstance(value, tuple):
        return Decimal(value[1]) + 0 if abs(Decimal(value[1]).adjusted()) < 300 else value[1]
    if isinstance(value, dict):
        found = {name: without_hollow(each) for name, each in value.items()}
        return {name: each for name, each in found.items() if each not in (None, {}, [])} or None
    if isinstance(value, list):
        return [without_hollow(each) for each in value] or None
    return value


class RebuildTest(FolderTest):
    def export(self, data, **options):
        tessaron.export(data, self.folder / "t", replace=True, **options)
        return self.folder / "t"

    def lines(self, folder):
        tessaron.rebuild(folder, self.folder / "out.ndjson", replace=True)
        return (self.folder / "out.ndjson").read_text("utf-8").splitlines()

    def test_records_come_back(self):
        for form in ("parquet", "csv"):
            for exact in (False, True):
                with self.subTest(form=form, exact=exact):
                    got = self.lines(self.export(CALLS.encode(), format=form, exact=exact, records="$"))
                    same = (lambda value: value) if exact else without_hollow
                    for want, text in zip(CALLS.splitlines(), got, strict=True):
                        self.assertEqual(same(loaded(text)), same(loaded(want)))

    def test_times_and_numbers_keep_their_spelling(self):
        cases = (
            ('"2026-01-02T03:04Z"', '"2026-12-31T23:59Z"'),
            ('"2026-01-02 03:04:05.120"', '"2026-01-02 03:04:05.000"'),
            ('"2026-06-02T03:04:05-05:30"', '"1969-12-31T00:00:00-05:30"'),
            ('"03:04"', '"23:59"'),
            ("1.50", "2.25"),
            ("1.0", "2.5"),
            ("1.5", "-0.25"),
            ("0.0000000001", "1.5"),
            ('"yes"', '"no"'),
            ("123456789012345678901234567890", "1"),
        )
        for values in cases:
            with self.subTest(values):
                got = self.lines(self.export("\n".join(f'{{"v":{each}}}' for each in values).encode()))
                self.assertEqual(got, [f'{{"v":{each}}}' for each in values])

    def test_forms(self):
        page = b'{"page":1,"calls":[{"id":1},{"id":2}],"total":2}'
        folder = self.export(page)
        for form, expected in (
            (None, '{"page":1,"total":2,"calls":[{"id":1},\n{"id":2}]}\n'),
            ("lines", '{"id":1}\n{"id":2}\n'),
            ("array", '[\n{"id":1},\n{"id":2}\n]\n'),
        ):
            with self.subTest(form):
                made = tessaron.rebuild(folder, self.folder / "o.json", form=form, replace=True)
                self.assertEqual((self.folder / "o.json").read_text(), expected)
                self.assertEqual(made.records, 2)
        done = quick_command("rebuild", folder, "-o", self.folder / "many", "--as", "files")
        self.assertEqual(done.stdout.decode(), f"2 records, a file for each: {self.folder / 'many'}\n")
        files = sorted((self.folder / "many").iterdir())
        self.assertEqual([path.read_text() for path in files], ['{"id":1}\n', '{"id":2}\n'])

    def test_xml_comes_back(self):
        document = (
            '<m:calls xmlns:m="urn:brackwater:m" port="B"><office>Quay</office>'
            '<call id="1"><vessel flag="X">Oriel &amp; Co</vessel><stay no="1"/><stay no="2"><m:kg>1.50</m:kg>'
            '</stay></call><call id="2"><note>see <b>this</b> page</note><stay no="3"/></call></m:calls>'
        )
        folder = self.export(self.write("calls.xml", document), exact=True, records="/m:calls/call")
        tessaron.rebuild(folder, self.folder / "o.xml")
        wanted, got = ElementTree.fromstring(document), ElementTree.parse(self.folder / "o.xml").getroot()

        def flat(element):
            own = (element.tag, dict(element.attrib), (element.text or "").strip("\n"))
            return own, [(flat(child), (child.tail or "").strip("\n")) for child in element]

        self.assertEqual(flat(got), flat(wanted))

    def test_records_stand_where_they_stood(self):
        document = (
            '<reg v="1"><ms><m>1</m><m>2</m></ms><list><l><n>1</n></l><l><n>2</n><!-- x --></l></list>'
            "<os><o>a</o><o>b</o></os></reg>"
        )
        folder = self.export(self.write("r.xml", document), exact=True, records="/reg/list/l")
        tessaron.rebuild(folder, self.folder / "o.xml")
        got = (self.folder / "o.xml").read_text().replace("\n", "")
        self.assertEqual(got.partition("?>")[2], document.replace("<!-- x -->", ""))
        self.assertTrue(tessaron.verify(folder).passed)

    def test_tables_that_tessaron_did_not_make(self):
        pq.write_table(
            pa.table(
                {"call": ["c2", "c1"], "ship": ["Saltmere", "Oriel"], "t": pa.array([5, 7], pa.int32())}
            ),
            self.folder / "calls.parquet",
        )
        self.write(
            "stays.csv", "stay,call,pos,berth,day\n1,c1,2,B2,2026-01-02\n2,c2,1,B9,\n3,c1,1,B1,2026-01-01\n"
        )
        layout = tessaron.Layout(
            '[reading]\nkeys = "digest"\n[tables.calls]\nrows = "$"\nrow_key = "call"\n[tables.calls.columns]\n'
            'ship = { path = "$.vessel.name", type = "text" }\nt = { path = "$.cargo.tons", type = "integer" }\n'
            '[tables.stays]\nrows = "$.visit.stays[*]"\nrow_key = "stay"\nparent_key = "call"\nordinal = "pos"\n'
            '[tables.stays.columns]\nberth = { path = "@.berth", type = "text" }\n'
            'day = { path = "@.day", type = "date" }\n'
        )
        tessaron.rebuild(self.folder, self.folder / "o.ndjson", layout=layout)
        self.assertEqual(
            (self.folder / "o.ndjson").read_text().splitlines(),
            [
                '{"vessel":{"name":"Saltmere"},"cargo":{"tons":5},"visit":{"stays":[{"berth":"B9"}]}}',
                '{"vessel":{"name":"Oriel"},"cargo":{"tons":7},"visit":{"stays":'
                '[{"berth":"B1","day":"2026-01-01"},{"berth":"B2","day":"2026-01-02"}]}}',
            ],
        )
        self.write("stays.csv", "stay,call,pos,berth,day\n1,c7,1,B2,\n")
        with self.assertRaisesRegex(
            tessaron.DataError, "stays: row 1 belongs to calls 'c7', which is not there"
        ):
            tessaron.rebuild(self.folder, self.folder / "o.ndjson", layout=layout, replace=True)
        self.write("stays.csv", "stay,call,pos\n")
        with self.assertRaisesRegex(
            tessaron.SourceError, "has no column 'berth', which the layout speaks of"
        ):
            tessaron.rebuild(self.folder, self.folder / "p.ndjson", layout=layout)

    def test_what_cannot_be_done(self):
        folder = self.export(CALLS.encode())
        (self.folder / "there.json").write_text("mine")
        cases = (
            ((self.folder / "none", "-o", "x"), "is not there; expected the folder of an export"),
            ((self.folder, "-o", self.folder / "x"), "the layout cannot be read"),
            ((folder, "-o", self.folder / "there.json"), "is there already; choose another name"),
            ((folder, "-o", self.folder / "x", "--as", "documents"), "nothing is known of what stood around"),
            ((folder, "-o", "/proc/nowhere/x"), "cannot be written"),
        )
        for arguments, message in cases:
            with self.subTest(message):
                done = quick_command("rebuild", *arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(message, done.stderr.decode())
        self.assertEqual((self.folder / "there.json").read_text(), "mine")
        next(folder.glob("*_stays.parquet")).unlink()
        done = quick_command("rebuild", folder, "-o", self.folder / "x")
        self.assertIn(b"no file records_stays.parquet or records_stays.csv; there are", done.stderr)
        self.assertFalse((self.folder / "x").exists())


class VerifyTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.source = self.write("calls.ndjson", CALLS)
        self.target = self.folder / "t"

    def damage(self, table, change):
        path = self.target / f"{table}.parquet"
        rows = pq.read_table(path)
        pq.write_table(change(rows), path)

    def set_cell(self, table, column, row, value):
        def change(rows):
            index = rows.column_names.index(column)
            values = rows.column(column).to_pylist()
            values[row] = value
            field = rows.schema.field(index).with_nullable(True)
            return rows.set_column(index, field, pa.array(values, field.type))

        self.damage(table, change)

    def test_identical(self):
        for options in ({}, {"exact": True}, {"keys": "digest"}, {"format": "csv"}, {"origin": True}):
            with self.subTest(options):
                tessaron.export(self.source, self.target, replace=True, **options)
                done = quick_command("verify", self.target)
                self.assertEqual(done.returncode, 0, done.stdout)
                self.assertIn(b"identical: 3 records compared", done.stdout)

    def test_every_damage_is_found(self):
        cases = (
            ("a value", lambda: self.set_cell("calls_stays", "berth", 1, "N9"),
             ("value", "$.stays[*].berth", "$['stays'][1]['berth']", '"N2"', '"N9"')),
            ("a lost value", lambda: self.set_cell("calls", "vessel_name", 1, None),
             ("missing", "$.vessel.name", "$['vessel']['name']", '"Sa\\"lt"', "")),
            ("an added value", lambda: self.set_cell("calls", "vessel_name", 2, "X"),
             ("extra", "$.vessel.name", "$['vessel']['name']", "", '"X"')),
            ("an element", lambda: self.damage("calls_tags", lambda rows: rows.slice(0, 1)),
             ("missing", "$.tags[*]", "$['tags'][1]", '"b"', "")),
            ("a record", lambda: self.damage("calls", lambda rows: rows.slice(0, 2)),
             ("record missing", "", "", "", "")),
        )  # fmt: skip
        for name, damage, expected in cases:
            with self.subTest(name):
                tessaron.export(self.source, self.target, replace=True)
                damage()
                found = tessaron.verify(self.target)
                self.assertFalse(found.passed)
                self.assertTrue(any(check.name == "file" and not check.passed for check in found.checks))
                if name != "a record":
                    first = found.differences[0]
                    got = (first.kind, first.path, first.place, first.in_source, first.in_tables)
                    self.assertEqual(got, expected)

    def test_broken_keys_are_found(self):
        cases = (
            ("primary key", lambda: self.set_cell("calls_stays", "row_key", 1, 1), "have the key of another row"),
            ("foreign key", lambda: self.set_cell("calls_stays", "parent_key", 2, 9), "9 in row 3 is not in calls"),
            ("ordinals", lambda: self.set_cell("calls_stays", "ordinal", 1, 5), "row 2 has 5 after 1"),
            ("rows", lambda: self.damage("calls_tags", lambda rows: rows.slice(1)), "the receipt says 2"),
            ("types", lambda: self.damage("calls_tags", lambda rows: rows.set_column(
                2, "ordinal", rows.column("ordinal").cast(pa.int32()))), "ordinal is int32, expected int64"),
        )  # fmt: skip
        for name, damage, message in cases:
            with self.subTest(name):
                tessaron.export(self.source, self.target, replace=True)
                damage()
                done = quick_command("verify", self.target)
                self.assertEqual(done.returncode, 1)
                self.assertRegex(done.stdout.decode(), f"failed: .*{name}: .*{message}")

    def test_files_that_cannot_be_read(self):
        for form, name, content in (
            ("parquet", "calls.parquet", b"PAR1"),
            ("parquet", "calls_tags.parquet", None),
            ("csv", "calls_stays.csv", b""),
            ("csv", "calls_tags.csv", b"row_key,parent_key,ordinal,value\r\nx,1,1,a\r\n"),
        ):
            with self.subTest(name, content=content):
                tessaron.export(self.source, self.target, format=form, replace=True)
                path = self.target / name
                path.unlink() if content is None else path.write_bytes(content)
                done = quick_command("verify", self.target)
                self.assertEqual(done.returncode, 1)
                self.assertIn(f"failed: {path.stem}: ", done.stdout.decode())
                self.assertIn("not identical: ", done.stdout.decode())

    def test_a_source_that_changed(self):
        tessaron.export(self.source, self.target)
        lines = CALLS.splitlines(keepends=True)
        cases = (
            ("".join([lines[0], lines[2]]), "record extra"),
            ("".join([*lines, '{"id":9}\n']), "record missing"),
            (CALLS.replace('"N3"', '"N4"'), "value"),
            (CALLS.replace('"ref":7', '"ref":"7"'), "kind"),
        )
        for text, kind in cases:
            with self.subTest(kind):
                other = self.write("other.ndjson", text)
                found = tessaron.verify(self.target, other)
                self.assertEqual([each.kind for each in found.differences], [kind])
                self.assertEqual(found.differing, 1)
        # The order of names, and null for what is absent, are no differences; with exact the latter is.
        turned = CALLS.replace('"id":2,', "").replace('"empty":{}', '"id":2,"more":null')
        self.assertTrue(tessaron.verify(self.target, self.write("turned.ndjson", turned)).is_identical)
        tessaron.export(self.source, self.target, replace=True, exact=True)
        found = tessaron.verify(self.target, self.folder / "turned.ndjson")
        self.assertEqual({each.kind for each in found.differences}, {"empty"})

    def test_layouts(self):
        plain = tessaron.draft(self.source)
        worked = plain.text.replace(
            'path = "$.vessel.name", type = "text"', 'path = "$.vessel.name", type = "text", case = "upper"'
        )
        fewer = "\n".join(line for line in plain.text.splitlines() if not line.startswith("vessel_len"))
        for name, text, left in (("plain", plain.text, 0), ("worked", worked, 0), ("fewer", fewer, 2)):
            with self.subTest(name):
                tessaron.export(self.source, self.target, layout=tessaron.Layout(text), replace=True)
                found = tessaron.verify(self.target)
                self.assertTrue(found.passed, found)
                self.assertEqual(sum(found.left_out.values()) >= left, True)
        self.assertEqual(list(found.worked_on), [])
        tessaron.export(self.source, self.target, layout=tessaron.Layout(worked), replace=True)
        self.assertEqual(list(tessaron.verify(self.target).worked_on), ["calls.vessel_name"])
        self.set_cell("calls", "vessel_name", 0, "oriel")
        done = quick_command("verify", self.target)
        self.assertIn(
            b"worked out again: vessel_name in row 1: 'ORIEL' worked out, 'oriel' in the table", done.stdout
        )

    def test_rejected_records_are_no_difference(self):
        broken = self.write("broken.ndjson", CALLS + '{"id":4,\n{"id":5}\n')
        receipt = tessaron.export(broken, self.target)
        self.assertEqual((receipt.records, receipt.rejected, receipt.gaps), (4, 1, []))
        self.assertTrue(tessaron.verify(self.target).passed)

    def test_records_that_a_layout_rejects_are_no_difference(self):
        plain = tessaron.draft(self.source).text
        self.assertIn('path = "$.id", type = "integer" }', plain)
        for rule in ("least = 2", "most = 2", "allowed = [1, 3]", "unique = true"):
            with self.subTest(rule):
                text = plain.replace(
                    'path = "$.id", type = "integer" }', f'path = "$.id", type = "integer", {rule} }}'
                )
                receipt = tessaron.export(
                    self.source, self.target, layout=tessaron.Layout(text), replace=True
                )
                self.assertEqual((receipt.rejected, receipt.gaps), (0 if "unique" in rule else 1, []))
                found = tessaron.verify(self.target)
                self.assertTrue(found.passed, found.differences)

    def test_arguments(self):
        tessaron.export(self.source, self.target)
        self.assertEqual(json.loads(quick_command("verify", self.target, "--json").stdout)["records"], 3)
        self.assertEqual(tessaron.verify(self.target, sample=2, kernel="python").records, 2)
        self.source.unlink()
        done = quick_command("verify", self.target)
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"calls.ndjson: the source is not there (any more); name it", done.stderr)
        (self.target / "receipt.json").write_text("{")
        self.assertIn(b"receipt.json: cannot be read", quick_command("verify", self.target).stderr)
        (self.target / "receipt.json").unlink()
        self.assertIn(
            b"has no receipt that names all its sources", quick_command("verify", self.target).stderr
        )

    def test_a_receipt_that_does_not_add_up(self):
        receipt = tessaron.export(self.source, self.target)
        self.assertEqual(receipt.gaps, [])
        self.assertGreater(len(receipt.balance), 10)
        path = self.target / "receipt.json"
        facts = json.loads(path.read_text())
        facts["balance"][1]["written"] -= 1
        path.write_text(json.dumps(facts))
        done = quick_command("verify", self.target)
        self.assertEqual(done.returncode, 1)
        self.assertRegex(done.stdout.decode(), r"failed: calls: sum: rows of calls: 3 read ≠ 2 written")


class RoundTripTest(FolderTest):
    """Arbitrary documents: export, rebuild, and the same again; verify says so too."""

    @PLAIN
    @given(DOCUMENTS)
    @example((['{"a":[null,{"b":[]}]}'], 10, "csv"))
    @example((['{"a":{"b":{"a":{"b":{},"a":1}}}}', '{"a":[{"b":{"b":2}}]}'], 10**6, "parquet"))
    def test_json(self, given_):
        lines, chunk_bytes, form = given_
        source, target, made = (
            self.write("s.ndjson", "\n".join(lines)),
            self.folder / "t",
            self.folder / "o.ndjson",
        )
        for exact in (True, False):
            tessaron.export(source, target, replace=True, records="$", envelope=False, exact=exact,
                            chunk_bytes=chunk_bytes, format=form, workers=1)  # fmt: skip
            tessaron.rebuild(target, made, replace=True, form="lines")
            got = [loaded(line) for line in made.read_text("utf-8").split("\n")[:-1]]
            want = [loaded(line) for line in lines]
            if exact:
                self.assertEqual(got, want)
            else:
                self.assertEqual(
                    [without_hollow(each) for each in got], [without_hollow(each) for each in want]
                )
            self.assertTrue(tessaron.verify(target, workers=1).passed)

    @PLAIN
    @given(ELEMENTS)
    def test_xml(self, elements):
        document = "<calls>" + "".join(map(xml_text, elements)) + "</calls>"
        source, target, made = self.write("s.xml", document), self.folder / "t", self.folder / "o.xml"
        tessaron.export(source, target, replace=True, records="/calls/call", exact=True, workers=1)
        tessaron.rebuild(target, made, replace=True)

        def flat(element):
            parts = [element.text or ""]
            for child in element:
                parts += [flat(child), child.tail or ""]
            return (
                element.tag,
                sorted(element.attrib.items()),
                [each for each in parts if each not in ("", "\n")],
            )

        self.assertEqual(flat(ElementTree.parse(made).getroot()), flat(ElementTree.fromstring(document)))
        self.assertTrue(tessaron.verify(target, workers=1).passed)

    def test_with_workers(self):
        line = json.loads(CALLS.splitlines()[0])
        source = self.write("big.ndjson", "".join(json.dumps(line | {"id": n}) + "\n" for n in range(90_000)))
        tessaron.export(source, self.folder / "t", workers=2)
        self.assertTrue(tessaron.verify(self.folder / "t", workers=2).passed)


class DemoTest(FolderTest):
    def test_the_demo_data_is_identical(self):
        command("demo", "--into", self.folder / "d")
        for name in ("vessel_calls.ndjson", "inspections.json", "harbour_log.ndjson", "manifests.xml"):
            for exact in (False, True):
                with self.subTest(name, exact=exact):
                    target = self.folder / "t"
                    tessaron.export(self.folder / "d" / name, target, replace=True, exact=exact)
                    self.assertTrue(tessaron.verify(target).passed)
                    shutil.rmtree(target)


TYPES = st.sampled_from(
    ["text", "integer", "decimal(9,2)", "double", "boolean", "date", "timestamp_tz(3)", "uuid"]
)


class ArbitraryLayoutsTest(FolderTest):
    """A drafted layout changed at random: it runs, or all its faults are said, and its receipt adds up."""

    def test_rows_that_are_worked_on_keep_no_rest(self):
        """Once every value of a table is cleaned, nothing of it goes back."""
        source = self.write("s.ndjson", '{"a":null,"b":[true,0]}')
        text = tessaron.draft(source).text.replace(
            'path = "@", type = "text"', 'path = "@", type = "text", trim = true'
        )
        tessaron.export(source, self.folder / "t", layout=tessaron.Layout(text))
        self.assertTrue(tessaron.verify(self.folder / "t").passed)

    @PLAIN
    @given(DOCUMENTS, st.data())
    def test_they_add_up(self, given_, data):
        lines, chunk_bytes, form = given_
        source = self.write("s.ndjson", "\n".join(lines))
        drafted = tessaron.draft(source, records="$", envelope=False, name="calls")
        kept = []
        for line in drafted.text.splitlines():
            chance = (
                data.draw(st.sampled_from(["keep", "keep", "drop", "type", "rule"]))
                if " = { " in line
                else "keep"
            )
            if chance == "type":
                kept.append(
                    re.sub(r'type = "[^"]*"(, written = "[^"]*")?', f'type = "{data.draw(TYPES)}"', line)
                )
            elif chance == "rule":
                rule = data.draw(st.sampled_from(['misfit = "record"', "required = true", "trim = true"]))
                kept.append(re.sub(r" \}", f", {rule} }}", line, count=1))
            elif chance == "keep":
                kept.append(line)
        try:
            layout = tessaron.Layout("\n".join(kept))
        except tessaron.LayoutError:
            return
        receipt = tessaron.export(source, self.folder / "t", layout=layout, replace=True, format=form,
                                  chunk_bytes=chunk_bytes, workers=1)  # fmt: skip
        self.assertEqual(receipt.gaps, [])
        self.assertTrue(
            all(not check.failures for check in tessaron.verify(self.folder / "t", workers=1).checks)
        )


if __name__ == "__main__":
    unittest.main()
