"""Structures that stand at several places: one table for all of them, by a draft and by a layout, and back."""

import json
import random
import unittest
from unittest.mock import patch

import pyarrow.csv as pa_csv
import pyarrow.parquet as pq

import tessaron
from tests.harness import FolderTest, quick_command
from tests.test_drafted_parts import as_lines, element, full

PLACES = ("arrival", "departure", "shift", "refuge", "waiting", "layby")


def visits(count=12):
    """Return visits with a berth at six places of the record and one in an array; berths have cranes."""
    chance = random.Random(3)

    def berth():
        made = {
            "code": f"N{chance.randint(1, 9)}",
            "depth": chance.randint(50, 90),
            "side": chance.choice("PS"),
        }
        return made | (
            {"cranes": [{"no": n} for n in range(chance.randint(0, 2))]} if chance.random() < 0.5 else {}
        )

    made = []
    for number in range(count):
        record = {"id": number, "stays": [{"n": n, "berth": berth()} for n in range(number % 3)]}
        record |= {place: {"berth": berth(), "at": number} for place in PLACES if chance.random() < 0.7}
        made.append(record)
    return made


def moorings(count=40):
    """Return visits with a berth at seven places; each berth is one of 21, with one depth and one side."""
    chance = random.Random(4)

    def berth():
        number = chance.randrange(21)
        return {
            "code": f"Q{number}",
            "depth": 40 + number,
            "on": {"side": "PS"[number % 2], "lit": number % 3 > 0},
        }

    made = []
    for number in range(count):
        record = {"id": number, "stays": [{"n": n, "berth": berth()} for n in range(number % 3)]}
        made.append(record | {place: {"berth": berth()} for place in PLACES if chance.random() < 0.7})
    return made


def quays(count=60):
    """Return visits with a berth at seven places, which only its quay and its number tell from others."""
    chance = random.Random(6)

    def berth():
        quay, number = chance.choice("NSEW"), chance.randrange(6)
        told = ord(quay) * 7 + number
        return {
            "quay": quay,
            "number": number,
            "depth": told % 50,
            "side": "PS"[told % 2],
            "lit": told % 3 > 0,
        }

    return [
        {"id": n, "stays": [{"n": k, "berth": berth()} for k in range(n % 3)]}
        | {place: {"berth": berth()} for place in PLACES if chance.random() < 0.7}
        for n in range(count)
    ]


def nested(count=10):
    """Return records in which an agent stands at twelve places, at six of them within a notice."""
    agent = {"name": "a", "phone": "1", "desk": 2}
    notice = {"text": "t", "at": 5, "by": agent, "urgent": True}
    return [
        {"id": n, "owner": agent | {"phone": None}}
        | {f"agent{k}": agent for k in range(5)}
        | {place: notice | {"at": n} for place in PLACES}
        for n in range(count)
    ]


def rows_of(folder):
    return {path.stem: pq.read_table(path).to_pylist() for path in folder.glob("*.parquet")}


class SharedDraftTest(FolderTest):
    CASES = (
        ("occurrences", visits(), {"e", "e_stays", "berth", "berth_cranes"}),
        ("an identity", moorings(), {"e", "e_stays", "berth"}),
        ("an identity of two fields", quays(), {"e", "e_stays", "berth"}),
        ("one within another", nested(), {"e", "arrival", "by"}),
    )

    def check(self, source, target, records, **options):
        receipt = tessaron.export(source, target, name="e", **options)
        self.assertTrue(receipt.passed)
        self.assertEqual([each for each in receipt.balance if each.gap], [])
        found = tessaron.verify(target, source)
        self.assertTrue(found.passed and not found.is_remade, found)
        self.assertEqual(found.records, len(records))
        return receipt

    def test_tables_and_the_way_back(self):
        for title, records, wanted in self.CASES:
            source = self.write("e.ndjson", as_lines(records))
            for exact, keys, chunk_bytes, workers in (
                (False, "sequence", 10**6, 1), (True, "sequence", 300, 2), (False, "digest", 300, 1),
            ):  # fmt: skip
                target = self.folder / f"{title} {exact} {keys}"
                with self.subTest(title, exact=exact, keys=keys):
                    options = {"exact": exact, "keys": keys, "chunk_bytes": chunk_bytes, "workers": workers}
                    receipt = self.check(source, target, records, **options)
                    self.assertEqual({table.name for table in receipt.tables}, wanted)
                    tessaron.rebuild(target, target / "back.ndjson")
                    back = [json.loads(line) for line in (target / "back.ndjson").read_text().splitlines()]
                    self.assertEqual(back, [full(each, exact) for each in records])

    def test_xml(self):
        for title, records, wanted in self.CASES:
            text = "".join(element("visit", each) for each in records)
            source = self.write("log.xml", f"<log>{text}</log>")
            for keys in ("sequence", "digest"):
                with self.subTest(title, keys=keys):
                    target = self.folder / f"xml {title} {keys}"
                    receipt = self.check(source, target, records, keys=keys)
                    self.assertEqual({table.name for table in receipt.tables}, wanted)
                    said = [note.text for note in receipt.notes if "one table for all" in note.text]
                    what = {
                        "an identity": "a row for each code",
                        "an identity of two fields": "a row for each quay and number",
                    }.get(title, "with the place")
                    self.assertTrue(said[0].endswith(what), said)

    def test_the_split_changes_nothing(self):
        for title, records, _ in self.CASES:
            whole = tessaron.shred(as_lines(records), name="e", workers=1)
            for chunk_bytes, workers, kernel in ((200, 2, "auto"), (2_000, 1, "python")):
                with self.subTest(title, chunk_bytes=chunk_bytes):
                    parts = tessaron.shred(
                        as_lines(records), name="e", workers=workers, chunk_bytes=chunk_bytes, kernel=kernel
                    )
                    self.assertEqual(
                        {name: table.to_pylist() for name, table in parts.items()},
                        {name: table.to_pylist() for name, table in whole.items()},
                    )

    def test_a_drafted_layout_gives_the_same_tables(self):
        for title, records, _ in self.CASES:
            with self.subTest(title):
                layout = tessaron.draft(as_lines(records), name="e")
                made = tessaron.shred(as_lines(records), layout=layout)
                wanted = tessaron.shred(as_lines(records), name="e")
                self.assertEqual(list(made), list(wanted))
                for name, table in wanted.items():
                    self.assertEqual(made[name].to_pylist(), table.to_pylist())
                again, changes = tessaron.update(layout, as_lines(records))
                self.assertEqual((again.text, changes.new, changes.unmet), (layout.text, (), ()))

    def test_what_stands_in_the_rows(self):
        tables = tessaron.shred(as_lines(visits()), name="e")
        berths = tables["berth"].to_pylist()
        self.assertEqual(
            list(berths[0]), ["row_key", "place", "parent_key", "ordinal", "code", "depth", "side"]
        )
        wanted = [
            (f"$.{place}.berth", number + 1, record[place]["berth"]["code"])
            for number, record in enumerate(visits())
            for place in PLACES
            if place in record
        ]
        found = [
            (row["place"], row["parent_key"], row["code"]) for row in berths if "stays" not in row["place"]
        ]
        self.assertEqual(sorted(found), sorted(wanted))
        self.assertEqual([row["row_key"] for row in berths], list(range(1, len(berths) + 1)))
        by_key = {row["row_key"]: row for row in berths}
        for row in tables["berth_cranes"].to_pylist():
            self.assertEqual(row["place"], f"{by_key[row['parent_key']]['place']}.cranes[*]")
        self.assertEqual(tables.parents("berth"), ("e", "e_stays"))
        self.assertIsNone(tables.parent("berth"))
        self.assertEqual(tables.parent("berth_cranes"), "berth")

    def test_an_identity_has_one_row_and_is_referred_to(self):
        tables = tessaron.shred(as_lines(moorings()), name="e")
        self.assertEqual(tables["berth"].column_names, ["row_key", "code", "depth", "on_side", "on_lit"])
        codes = tables["berth"].column("code").to_pylist()
        self.assertEqual(sorted(codes), sorted({f"Q{n}" for n in range(21)}))
        referring = [name for name in tables["e"].column_names if name.endswith("_berth_code")]
        self.assertEqual(referring, [f"{place}_berth_code" for place in PLACES])
        for name in referring:
            self.assertLessEqual(set(tables["e"].column(name).drop_null().to_pylist()), set(codes))
        told = tessaron.draft(as_lines(quays()), name="e").text
        self.assertIn('once = ["quay", "number"]', told)
        self.assertIn("where quay and number decide all else", told)
        berths = tessaron.shred(as_lines(quays()), name="e")["berth"].to_pylist()
        self.assertEqual(len({(row["quay"], row["number"]) for row in berths}), len(berths))
        cases = {"an exception": moorings(), "too few values": moorings(6)}
        known = moorings()[2]["stays"][0]["berth"]
        cases["an exception"][0]["arrival"] = {"berth": known | {"on": {"side": "X", "lit": True}}}
        for title, records in cases.items():
            with self.subTest(title):
                self.assertIn("place", tessaron.shred(as_lines(records), name="e")["berth"].column_names)

    def test_options(self):
        few = [{"id": n, "a": {"x": 1, "y": n, "z": "s"}, "b": {"x": 2, "y": 3, "z": "t"}} for n in range(5)]
        wide = [{f"p{k}": {f"f{n}": n + k for n in range(20)} for k in range(3)} for _ in range(3)]
        for title, records, options, shared in (
            ("at two places", few, {}, False),
            ("asked for", few, {"shared": ["$.a"]}, True),
            (
                "asked for by the place of two fields",
                [{"a": {"x": 1}, "b": {"x": 2}}] * 3,
                {"shared": ["$.b"]},
                True,
            ),
            (
                "asked for by both names",
                [{"a": {"x": 1, "y": 2}, "b": {"x": 2, "z": 3}}] * 3,
                {"shared": ["$.a", "$.b"]},
                True,
            ),
            ("too wide", wide, {"most_columns": 40}, True),
            ("not shared", visits(), {"not_shared": True}, False),
            ("undivided", visits(), {"undivided": True}, False),
            ("undivided, but for one", visits(), {"undivided": True, "shared": ["$.stays[*].berth"]}, True),
        ):
            with self.subTest(title):
                source = self.write("o.ndjson", as_lines(records))
                receipt = self.check(source, self.folder / title, records, **options)
                self.assertEqual(any(table.places for table in receipt.tables), shared)
                self.assertEqual(any("one table for all" in note.text for note in receipt.notes), shared)
        with self.assertRaisesRegex(tessaron.UsageError, "shared does not go with flat"):
            tessaron.shred(as_lines(visits()), shared=["$.arrival.berth"], flat="$.stays[*]")
        for path, message in (
            (
                "$.arival.berth",
                "nothing stands at '$.arival.berth', so it cannot be shared; near it: $.arrival",
            ),
            ("$.stays", "'$.stays' is no structure that stands elsewhere too"),
            ("arrival", "expected a path"),
        ):
            with self.subTest(path), self.assertRaises(tessaron.UsageError) as caught:
                tessaron.shred(as_lines(visits()), shared=[path])
            self.assertIn(message, str(caught.exception))

    def test_why(self):
        source = self.write("e.ndjson", as_lines(visits()))
        told = quick_command(
            "draft", source, "--why", "--name", "e", "-o", self.folder / "l.toml"
        ).stdout.decode()
        count = sum(len(each["stays"]) + sum(place in each for place in PLACES) for each in visits())
        self.assertIn(
            f"berth\n  the same structure at 7 places, {count} rows; more than 5 places have it\n", told
        )
        self.assertIn("a table for each place: --not-shared", told)
        self.assertRegex(
            told, rf"berth_cranes\n  an array in \d+ of {count} rows, \d+ elements\n  as one column of berth:"
        )
        text = (self.folder / "l.toml").read_text()
        self.assertIn('[tables.berth]\nshared = [\n  "$.arrival.berth",', text)
        self.assertRegex(text, r'code += \{ path = "@\.code", type = "text" \} +# always; e\.g\. "N')
        told = tessaron.draft(as_lines(moorings()), name="e").text
        self.assertIn(
            "# the same structure at 7 places, where code decides all else; more than 5 places", told
        )

    def test_an_update_keeps_places_together(self):
        layout = tessaron.draft(as_lines(visits()), name="e")
        later = visits()
        for record in later:
            for held in [*(record.get(place) for place in PLACES), *record["stays"]]:
                if held:
                    held["berth"].pop("side")
                    held["berth"]["lit"] = True
        made, changes = tessaron.update(layout, as_lines(later))
        self.assertEqual([each.partition(":")[0] for each in changes.new], ["berth.lit"])
        self.assertEqual(changes.unmet, ("berth.side: @.side",))
        rows = tessaron.shred(as_lines(later), layout=made)["berth"].column("lit").to_pylist()
        self.assertTrue(all(rows) and rows)

    def test_random_documents_come_back(self):
        names, kinds = ("a", "b", "c", "d"), (1, 2, "t", "u", None, True, 1.5, "2026-01-01")
        known = [{"a": n, "b": f"n{n % 3}", "c": {"d": n * 7 if n % 2 else None}} for n in range(9)]

        def value(chance, depth):
            if depth and chance.random() < 0.2:
                return dict(chance.choice(known))
            if depth and chance.random() < 0.5:
                return {name: value(chance, depth - 1) for name in chance.sample(names, chance.randint(0, 4))}
            if depth and chance.random() < 0.3:
                return [value(chance, depth - 1) for _ in range(chance.randint(0, 3))]
            return chance.choice(kinds)

        for seed in range(10):
            chance = random.Random(seed)
            records = [
                {"id": n} | {f"p{k}": value(chance, 3) for k in chance.sample(range(6), 3)}
                for n in range(chance.randint(3, 16))
            ]
            source = self.write(f"{seed}.ndjson", as_lines(records))
            markup = self.write(
                f"{seed}.xml", f"<log>{''.join(element('r', each) for each in records)}</log>"
            )
            options = {
                "exact": chance.random() < 0.4,
                "keys": chance.choice(("sequence", "digest")),
                "chunk_bytes": chance.choice((60, 10**6)),
                "workers": 1,
            }
            with (
                patch("tessaron.core.model.sharing.HANDFUL", 1),
                patch("tessaron.core.model.sharing.LEAST_FIELDS", 1),
                patch("tessaron.core.model.likenesses.SAME_NAMES", chance.choice((0.3, 0.6))),
                patch("tessaron.core.model.identities.LEAST_VALUES", 1),
                patch("tessaron.core.model.identities.LEAST_REPEATS", 1),
            ):
                self.check(source, self.folder / f"j{seed}", records, **options)
                self.check(markup, self.folder / f"x{seed}", records, **options)


LAYOUT = """
[tables.visits]
rows = "$"
columns.id = { path = "@.id", type = "integer" }
[tables.stays]
rows = "$.stays[*]"
columns.n = { path = "@.n", type = "integer" }
[tables.berths]
shared = ["$.arrival.berth", "$.stays[*].berth"]
place = "where"
parent_key = "above"
[tables.berths.columns]
code = { path = "@.code", type = "text" }
depth = { path = "@.depth", type = "integer", most = 80 }
deep = { value = "depth > 70" }
"""


class SharedLayoutTest(FolderTest):
    def test_by_hand(self):
        source = self.write("v.ndjson", as_lines(visits()))
        receipt = tessaron.export(source, self.folder / "out", layout=tessaron.Layout(LAYOUT))
        (berths,) = (table for table in receipt.tables if table.name == "berths")
        self.assertEqual([(each.path, each.parent) for each in berths.places], [
            ("$.arrival.berth", "visits"), ("$.stays[*].berth", "stays"),
        ])  # fmt: skip
        self.assertEqual((berths.parent, berths.references), (None, ()))
        rows = rows_of(self.folder / "out")["berths"]
        self.assertEqual(list(rows[0])[:4], ["row_key", "where", "above", "ordinal"])
        self.assertTrue(all(row["deep"] == (row["depth"] > 70) for row in rows))
        too_deep = [
            each for each in visits()
            if any(held["berth"]["depth"] > 80 for held in [*each["stays"], *[each[p] for p in ["arrival"] if p in each]])
        ]  # fmt: skip
        self.assertEqual(receipt.rejected, len(too_deep))
        self.assertEqual({found.name for found in receipt.findings}, {"berths.depth"})
        self.assertTrue(tessaron.verify(self.folder / "out", source).is_identical)

    def test_mistakes(self):
        for old, new, message in (
            (
                'place = "where"',
                'rows = "$"',
                "line 9: tables.berths.shared: a table with shared has no rows",
            ),
            ('["$.arrival.berth", "$.stays[*].berth"]', "[]", "expected at least one path"),
            ('"$.stays[*].berth"]', '"$.arrival.berth"]', "$.arrival.berth stands there twice"),
            ('"$.stays[*].berth"]', '"@.berth"]', "@.berth: expected a path from the record"),
            (
                '"$.stays[*].berth"]',
                '"$.stays[0].berth"]',
                "a position names one element, rows are all of them",
            ),
            ('"@.code"', '"@.co["', "line 13: tables.berths.columns.code.path"),
            ('"depth > 70"', '"dept > 70"', "no column 'dept'"),
        ):
            with self.subTest(new), self.assertRaises(tessaron.LayoutError) as caught:
                tessaron.Layout(LAYOUT.replace(old, new)).compiled()
            text = str(caught.exception)
            self.assertIn(message, text)
            self.assertEqual(text.count(message), 1, text)
            self.assertNotIn("\0", text)

    def test_another_row_for_an_identity_is_a_reject(self):
        layout = tessaron.draft(as_lines(moorings()), name="e")
        changed = moorings()
        changed[20]["layby"] = {"berth": {"code": "Q1", "depth": 9, "on": {"side": "P", "lit": True}}}
        source = self.write("changed.ndjson", as_lines(changed))
        for chunk_bytes in (300, 10**6):
            receipt = tessaron.export(
                source, self.folder / str(chunk_bytes), layout=layout, chunk_bytes=chunk_bytes
            )
            self.assertEqual(receipt.rejected, 1)
            self.assertEqual(receipt.reasons, {"once": 1})
            self.assertTrue(tessaron.verify(self.folder / str(chunk_bytes), source).is_identical)

    def test_damage_is_found(self):
        source = self.write("v.ndjson", as_lines(visits()))
        for title, column, change, check in (
            ("a place", "place", lambda text: "$.nowhere", "records"),
            ("another place", "place", lambda text: "$.layby.berth", "identical"),
            ("a row above", "parent_key", lambda text: "9000", "foreign key"),
            ("a value", "code", lambda text: "X", "identical"),
        ):
            with self.subTest(title):
                target = self.folder / title
                tessaron.export(source, target, name="e", format="csv")
                path = target / "berth.csv"
                lines = path.read_text().splitlines()
                at = lines[0].replace('"', "").split(",").index(column)
                cells = lines[3].split(",")
                cells[at] = change(cells[at]) if column == "parent_key" else f'"{change(cells[at])}"'
                path.write_text("\n".join([*lines[:3], ",".join(cells), *lines[4:]]) + "\n")
                self.assertIsNotNone(pa_csv.read_csv(path))
                found = tessaron.verify(target, source)
                self.assertFalse(found.passed)
                names = {each.name for each in found.checks if not each.passed}
                self.assertTrue(check == "identical" or check in names, found)


if __name__ == "__main__":
    unittest.main()
