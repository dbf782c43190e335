"""Hostile XML: nothing is fetched, nothing explodes, and what is refused is told."""

import unittest

import tessaron
from tests.harness import FolderTest, quick_command


def doctype(declarations, body="&e;", name="r"):
    return f"<!DOCTYPE {name} [{declarations}]><{name}><c><v>{body}</v></c><c><v>fine</v></c></{name}>"


LAUGHS = "".join(f'<!ENTITY e{n} "{f"&e{n - 1};" * 10 if n else "ha"}">' for n in range(10))


class HostileTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.secret = self.write("secret.txt", "the secret")
        self.types = self.write("types.dtd", '<!ENTITY e "the secret"><!ATTLIST v k CDATA "the secret">')

    def test_what_would_reach_out_or_explode_is_a_reject_and_the_rest_goes_on(self):
        blow_up = f'<!ENTITY e "{"x" * 50_000}">'
        cases = (
            ("entity from a file", doctype(f'<!ENTITY e SYSTEM "file://{self.secret}">'), "external ones are never fetched"),
            ("entity from a plain path", doctype(f'<!ENTITY e SYSTEM "{self.secret}">'), "external ones are never fetched"),
            ("entity by URL", doctype('<!ENTITY e SYSTEM "http://brackwater.example/e">'), "external ones are never fetched"),
            ("public entity", doctype('<!ENTITY e PUBLIC "x" "ftp://brackwater.example/e">'), "external ones are never fetched"),
            ("entity of an external subset", doctype("").replace("[]", f'SYSTEM "file://{self.types}"'), "external ones are never"),
            ("billion laughs", doctype(LAUGHS, "&e9;"), "expand to far more than was written"),
            ("quadratic blow-up", doctype(blow_up, "&e;" * 50_000), "expand to far more than was written"),
            ("entities that contain each other", doctype('<!ENTITY e "&f;"><!ENTITY f "&e;">'), ""),
            ("deep nesting", f"<r><c>{'<v>' * 5_000}{'</v>' * 5_000}</c><c><v>fine</v></c></r>", "nested deeper than 255 levels"),
            ("a huge attribute", f'<r><c v="{"x" * 10_000_100}"/><c><v>fine</v></c></r>', "more than 10,000,000 bytes"),
            ("a huge text", f"<r><c><v>{'x' * 10_000_100}</v></c><c><v>fine</v></c></r>", "more than 10,000,000 bytes"),
            ("a control character", "<r><c><v>&#1;</v></c><c><v>fine</v></c></r>", "expected XML"),
            ("an undeclared prefix", "<r><c><p:v/></c><c><v>fine</v></c></r>", "expected declared prefixes"),
            ("an attribute twice", '<r><c k="1" k="2"/><c><v>fine</v></c></r>', "redefined"),
        )  # fmt: skip
        for name, text, message in cases:
            with self.subTest(name):
                tables = tessaron.shred(text.encode(), records="/r/c", workers=1)
                self.assertEqual(tables["c"]["v"].to_pylist(), ["fine"])
                (reject,) = tables.rejects
                self.assertIn(message, reject.message)
                for command in (["find", "-", "//v", "--raw"], ["values", "-"]):
                    done = quick_command(*command, stdin=text.encode())
                    self.assertNotIn(b"the secret", done.stdout + done.stderr)
                    self.assertNotEqual(done.returncode, 0)
                    self.assertLess(len(done.stdout), 1_000_000)

    def test_what_is_declared_in_the_document_itself_is_used(self):
        text = doctype(
            '<!ENTITY e "<w>of the port</w>"><!ATTLIST v k CDATA "usual"><!-- "%no;" --><!ELEMENT r ANY>'
        )
        tables = tessaron.shred(text.encode(), records="/r/c", workers=1)
        rows = [(row["v_k"], row["v_w"], row["v"]) for row in tables["c"].to_pylist()]
        self.assertEqual(rows, [("usual", "of the port", None), ("usual", None, "fine")])
        outside = f'<!DOCTYPE r SYSTEM "file://{self.types}"><r><c><v>fine</v></c></r>'
        self.assertNotIn("the secret", str(tessaron.shred(outside.encode(), records="/r/c")["c"].to_pylist()))

    def test_parameter_entities_are_refused(self):
        for text in (
            doctype(f'<!ENTITY % p SYSTEM "file://{self.types}"> %p;'),
            doctype("<!ENTITY % p \"&#60;!ENTITY e 'the secret'>\"> %p;"),
        ):
            with self.assertRaises(tessaron.DataError) as caught:
                tessaron.shred(text.encode(), records="/r/c")
            self.assertEqual(caught.exception.code, "entity")
            self.assertIn("the parameter entity %p; is not read", str(caught.exception))

    def test_names_that_look_like_paths_stay_in_the_folder(self):
        text = b"<r><c><p><a..b/><a..b/></p></c><c/></r>"
        receipt = tessaron.export(text, self.folder / "out", records="/r/c")
        self.assertEqual([table.file for table in receipt.tables], ["c.parquet", "c_a_b.parquet"])

    def test_sources_that_are_no_xml(self):
        cases = (
            ("<", "expected an element, found '<'"), ("<a", "found '<a'"), ("<a>", "ends inside the record"),
            ("<!-- x", "expected an element"), ("<a></b>", "ends inside the record"), ("<a/><", "expected an element, found '<'"),
            ("<!DOCTYPE a [", "expected an element"), ("<?xml version='1.0'?>", "the source is empty"),
            ("<a/>text", "expected an element, found 'text'"), ("<>", "expected an element"), ("<a b=1/>", "AttValue"),
        )  # fmt: skip
        for text, message in cases:
            with self.subTest(text):
                done = quick_command(
                    "export", "-", "-o", self.folder / "out", "--replace", stdin=text.encode()
                )
                self.assertIn(done.returncode, (1, 2))
                said = done.stderr.decode()
                if done.returncode == 1:
                    said += (self.folder / "out/rejects.ndjson").read_text()
                self.assertIn(message, said)


if __name__ == "__main__":
    unittest.main()
