"""Drafts that divide rows: kinds of records, objects that few rows have, tables too wide; and the way back."""

import json
import random
import unittest

import pyarrow.parquet as pq

import tessaron
from tests.harness import FolderTest, quick_command
from tests.random_schemas import score_of


def as_lines(records):
    return "\n".join(map(json.dumps, records)).encode()


def events(count=120):
    """Return events of three kinds: with fields of their own, with an object and with both."""
    chance = random.Random(5)
    made = []
    for number in range(count):
        kind = chance.choice(("berthing", "crane", "bunkering"))
        record = {"id": number, "kind": kind, "at": f"2026-01-{1 + number % 28:02}T05:00:00Z"}
        if kind == "berthing":
            record |= {
                "berth": f"N{number % 5}",
                "draught": number / 4,
                "tugs": [{"name": "a"}] * (number % 3),
            }
        if kind == "berthing" and number % 2:
            record["pilot"] = f"p{number}"
        if kind == "crane":
            record |= {
                "crane_id": number,
                "load": {"t": number, "teu": None if number % 7 else 2},
                "note": "x",
            }
        if kind == "bunkering":
            record["fuel"] = {"grade": "MGO", "tonnes": number, "checks": [1, 2][: number % 3]}
        made.append(record)
    return made


def sparse(count=40):
    """Return records with ten fields, and an object with eight that few have."""
    made = [{f"f{n}": number + n for n in range(4)} for number in range(count)]
    for number in range(0, count, 10):
        made[number]["quarantine"] = {f"q{n}": n for n in range(12)}
    return made


def alternatives(count=30):
    """Return records that hold one of three objects each, without a word for which."""
    bodies = (
        {"berth": {"code": "N1", "side": 1}},
        {"crane": {"id": 4, "t": 2}},
        {"tug": {"name": "a", "hp": 3}},
    )
    return [{"n": number} | bodies[number % 3] for number in range(count)]


class DividedTest(FolderTest):
    TABLES = (
        ("kinds told by a field", events(), {"e": 4, "e_berthing": 5, "e_crane": 6, "e_fuel": 5, "e_tugs": 4,
                                             "e_fuel_checks": 4}),
        ("objects that exclude each other", alternatives(), {"e": 2, "e_berth": 5, "e_crane": 5, "e_tug": 5}),
        ("an object that few rows have", sparse(), {"e": 5, "e_quarantine": 15}),
        ("too few rows to tell", events(12), {"e": 12, "e_fuel_checks": 4, "e_tugs": 4}),
    )  # fmt: skip

    def test_tables_and_the_way_back(self):
        for title, records, wanted in self.TABLES:
            source = self.write("e.ndjson", as_lines(records).decode())
            for exact, keys in ((False, "sequence"), (True, "sequence"), (False, "digest")):
                target = self.folder / f"{title} {exact} {keys}"
                with self.subTest(title, exact=exact, keys=keys):
                    receipt = tessaron.export(source, target, name="e", exact=exact, keys=keys, format="csv")
                    heads = {
                        path.stem: path.read_text().splitlines()[0].count(",") + 1
                        for path in target.glob("*.csv")
                    }
                    rests = {
                        name: 1
                        for name in heads
                        if exact and '"row_rest"' in (target / f"{name}.csv").read_text()
                    }
                    self.assertEqual(
                        {name: count - rests.get(name, 0) for name, count in heads.items()}, wanted
                    )
                    self.assertTrue(receipt.passed)
                    found = tessaron.verify(target, source)
                    self.assertTrue(found.passed and not found.is_remade, found)
                    self.assertEqual(found.records, len(records))
                    tessaron.rebuild(target, target / "back.ndjson")
                    back = [json.loads(line) for line in (target / "back.ndjson").read_text().splitlines()]
                    self.assertEqual(back, [full(each, exact) for each in records])

    def test_the_split_changes_nothing(self):
        whole = tessaron.shred(as_lines(events()), name="e", workers=1)
        for chunk_bytes, workers, kernel in ((300, 2, "auto"), (5_000, 1, "python")):
            parts = tessaron.shred(
                as_lines(events()), name="e", workers=workers, chunk_bytes=chunk_bytes, kernel=kernel
            )
            self.assertEqual(
                {name: table.to_pylist() for name, table in parts.items()},
                {name: table.to_pylist() for name, table in whole.items()},
            )

    def test_undivided(self):
        for title, records, _ in self.TABLES:
            with self.subTest(title):
                tables = tessaron.shred(as_lines(records), name="e", undivided=True)
                arrays = [name for name in tables if name.endswith(("tugs", "checks"))]
                self.assertEqual(set(tables), {"e", *arrays})

    def test_elements_of_xml_come_in_kinds_too(self):
        text = "".join(element("event", each) for each in events())
        source = self.write("log.xml", f"<log>{text}</log>")
        tessaron.export(source, self.folder / "xml", format="csv")
        names = {path.stem for path in (self.folder / "xml").glob("*.csv")}
        self.assertEqual(
            names, {"event", "event_berthing", "event_crane", "event_fuel", "event_tugs", "event_fuel_checks"}
        )
        self.assertTrue(tessaron.verify(self.folder / "xml", source).passed)

    def test_no_table_is_wider_than_told(self):
        wide = [{"a": {f"x{n}": n for n in range(60)}, "b": {f"y{n}": n for n in range(20)}, "c": 1}] * 3
        tree = {"n": {f"f{n}": n for n in range(70)} | {"n": {f"f{n}": 1 for n in range(50)}}}
        for title, records in (("objects", wide), ("fields", [wide[0]["a"]]), ("contains itself", [tree])):
            source = self.write("w.ndjson", as_lines(records).decode())
            target = self.folder / title
            with self.subTest(title):
                tessaron.export(source, target, most_columns=40)
                widths = {path.stem: len(pq.read_schema(path)) for path in target.glob("*.parquet")}
                self.assertLessEqual(max(widths.values()), 40, widths)
                self.assertTrue(tessaron.verify(target, source).passed)

    def test_a_drafted_layout_gives_the_same_tables(self):
        for title, records, _ in self.TABLES:
            with self.subTest(title):
                layout = tessaron.draft(as_lines(records), name="e")
                made = tessaron.shred(as_lines(records), layout=layout)
                wanted = tessaron.shred(as_lines(records), name="e")
                self.assertEqual(
                    {name: table.to_pylist() for name, table in made.items()},
                    {name: table.to_pylist() for name, table in wanted.items()},
                )
                again, changes = tessaron.update(layout, as_lines(records))
                self.assertEqual((again.text, changes.new, changes.unmet), (layout.text, (), ()))

    def test_random_schemas_are_found_again(self):
        for in_markup, count in ((False, 15), (True, 6)):
            score, amiss = score_of(count, records=100, in_markup=in_markup)
            self.assertGreater(score.wanted, 25)
            for share in (
                score.matched / score.made,
                score.matched / score.wanted,
                score.in_place / score.columns,
            ):
                self.assertGreaterEqual(share, 0.97, (in_markup, str(score), amiss))

    def test_why(self):
        source = self.write("e.ndjson", as_lines(events()).decode())
        told = quick_command("draft", str(source), "--why", "--name", "e").stdout.decode()
        rows = sum(each["kind"] == "crane" for each in events())
        self.assertIn(f"e_crane\n  4 fields that only the {rows} rows of kind = crane have\n", told)
        self.assertIn("as columns of e: move their lines there, or draft with --undivided", told)
        self.assertIn('as one column of e: { path = "$.tugs", type = "json" }', told)
        self.assertIn("# the records, 120 of them\n[tables.e]", tessaron.draft(source, name="e").text)


def full(value, exact):
    """Return a record as it comes back: without what is null or empty, unless that is kept."""
    if exact:
        return value
    if isinstance(value, dict):
        return {name: full(each, exact) for name, each in value.items() if each not in (None, [])}
    return [full(each, exact) for each in value] if isinstance(value, list) else value


def element(name, value):
    if isinstance(value, dict):
        return f"<{name}>{''.join(element(*item) for item in value.items())}</{name}>"
    if isinstance(value, list):
        return "".join(element(name, each) for each in value)
    return "" if value is None else f"<{name}>{value}</{name}>"


def lodged(ships=25, calls=4, level="ship"):
    """Return calls of ships of which each has one name and flag; the last call has no ship."""
    made = []
    for number in range(ships * calls):
        ship = number % ships
        held = {"no": 700 + ship, "name": f"Tide {ship}", "flag": "NSEW"[ship % 4]}
        made.append({"call": number, level: held, "teu": number % 7})
    return [*made, {"call": -1, "teu": 3}]


class LookupsTest(FolderTest):
    def test_what_follows_has_one_row_for_each_value(self):
        arrays = [{"day": n, "calls": lodged()[n * 10 : n * 10 + 10]} for n in range(10)]
        for title, records, table, above in (
            ("records", lodged(), "ship", "e"),
            ("arrays", arrays, "ship", "e_calls"),
        ):
            source = self.write("lodged.ndjson", as_lines(records))
            layout = tessaron.draft(source, name="e", lookups=True)
            self.assertIn(f"[tables.{table}]\n", layout.text)
            for exact, keys, chunk_bytes, workers in (
                (False, "sequence", 10**6, 1), (True, "sequence", 400, 2), (False, "digest", 400, 1),
            ):  # fmt: skip
                target = self.folder / f"{title} {exact} {keys}"
                text = ("exact = true\n" * exact + layout.text).replace('"sequence"', f'"{keys}"')
                with self.subTest(title, exact=exact, keys=keys):
                    receipt = tessaron.export(
                        source, target, layout=tessaron.Layout(text), chunk_bytes=chunk_bytes, workers=workers
                    )
                    self.assertTrue(receipt.passed)
                    found = pq.read_table(target / f"{table}.parquet")
                    numbers = found.column("no").to_pylist()
                    self.assertEqual(sorted(numbers), [700 + n for n in range(25)])
                    self.assertEqual(found.column_names, ["row_key", "no", "name", "flag"])
                    if keys == "sequence":
                        self.assertEqual(found.column("row_key").to_pylist(), list(range(1, 26)))
                    names = pq.read_schema(target / f"{above}.parquet").names
                    self.assertIn("ship_no", names)
                    self.assertNotIn("ship_name", names)
                    verified = tessaron.verify(target, source)
                    self.assertTrue(verified.passed and not verified.is_remade, verified)
                    tessaron.rebuild(target, target / "back.ndjson")
                    back = [json.loads(line) for line in (target / "back.ndjson").read_text().splitlines()]
                    self.assertEqual(back, records)

    def test_a_record_that_says_otherwise_is_a_reject(self):
        layout = tessaron.draft(as_lines(lodged()), name="e", lookups=True)
        changed = lodged()
        changed[60]["ship"]["flag"] = "X"
        source = self.write("changed.ndjson", as_lines(changed))
        for chunk_bytes in (400, 10**6):
            target = self.folder / str(chunk_bytes)
            receipt = tessaron.export(source, target, layout=layout, chunk_bytes=chunk_bytes)
            self.assertEqual((receipt.passed, receipt.rejected), (False, 1))
            reject = json.loads((target / "rejects.ndjson").read_text())
            self.assertEqual((reject["code"], reject["record"]), ("once", 61))
            self.assertEqual(pq.read_table(target / "ship.parquet").num_rows, 25)
            self.assertEqual(pq.read_table(target / "e.parquet").num_rows, len(changed) - 1)
            self.assertTrue(tessaron.verify(target, source).is_identical)
            self.assertEqual([each for each in receipt.balance if each.gap], [])

    def test_what_has_exceptions_or_gaps_stays(self):
        cases = {"an exception": lodged(), "a gap": lodged(), "few": lodged(ships=10)}
        cases["an exception"][50]["ship"] |= {"flag": "X", "name": "X"}
        cases["a gap"][50]["ship"] = {"no": 700}
        for title, records in cases.items():
            with self.subTest(title):
                self.assertNotIn("once", tessaron.draft(as_lines(records), name="e", lookups=True).text)

    def test_mistakes(self):
        for line, message in (
            ('once = "numer"', "no column 'numer' with a path in ships; did you mean number"),
            ('once = "number"\nonly_filled = true', "a table with once has no only_filled"),
        ):
            text = f"""[tables.calls]\nrows = "$"\n[tables.ships]\nrows = "$"\n{line}
[tables.ships.columns]\nnumber = {{ path = "$.ship.no", type = "integer" }}\n"""
            with self.subTest(line), self.assertRaisesRegex(tessaron.LayoutError, message):
                tessaron.Layout(text)


if __name__ == "__main__":
    unittest.main()
