"""Trees whose node names are data, with the nodes inside a node right beside its fields."""

import json
import random
import unittest

import tessaron
from tests.harness import FolderTest

WORDS = ["north", "south", "quay", "basin", "mole", "pier", "lock", "gate", "dock", "ramp"]


def zone(chance, depth, make):
    """Return a node with others inside, each under a name of its own."""
    count = chance.randint(0, 3) if depth else 0
    made = make(chance, not count)
    for word in chance.sample(WORDS, count):
        made[f"{word}_{chance.randint(1, 12)}"] = zone(chance, depth - 1, make)
    parts = list(made.items())
    chance.shuffle(parts)
    return dict(parts)


def plain(chance, is_leaf):
    return {"depth": chance.randint(1, 9), "lit": True}


def rich(chance, is_leaf):
    made = {
        "depth": chance.choice([1, 2.5]),
        "at": {"x": chance.randint(1, 9)},
        "marks": [chance.choice("ab")],
    }
    return made if chance.random() < 0.9 else {**made, "note": None}


def bare(chance, is_leaf):
    return {"depth": chance.randint(1, 9), "lit": False} if is_leaf else {}


def strange(chance, is_leaf):
    odd = chance.choice(["deep", [1, 2], {"x": 1}, [{"y": 2}], None])
    return {"depth": odd if chance.random() < 0.1 else 3, "nodes": chance.randint(1, 4)}


def feed(make, count=40, depth=4, seed=5):
    chance = random.Random(seed)
    return [{"port": number, "plan": zone(chance, depth, make)} for number in range(count)]


def nodes_in(zone, fields):
    """Return how many nodes stand in one, by the plain way."""
    inside = [value for name, value in zone.items() if name not in fields]
    return sum(1 + (nodes_in(value, fields) if isinstance(value, dict) else 0) for value in inside)


class NameTreesTest(FolderTest):
    def export(self, records, **options):
        source = self.write("zones.ndjson", "\n".join(map(json.dumps, records)))
        receipt = tessaron.export(source, self.folder / "out", name="ports", replace=True, **options)
        self.assertTrue(receipt.passed)
        return source, {table.name: table.rows for table in receipt.tables}

    def check_way_back(self, source, records, is_exact):
        found = tessaron.verify(self.folder / "out", source)
        self.assertTrue(found.passed and not found.is_remade, found)
        if is_exact:
            tessaron.rebuild(self.folder / "out", self.folder / "back.ndjson", replace=True)
            lines = (self.folder / "back.ndjson").read_text().splitlines()
            self.assertEqual([json.loads(line) for line in lines], records)

    def test_one_table_and_the_same_documents_back(self):
        cases = (
            (plain, {"ports", "ports_plan"}, ("depth", "lit")),
            (
                rich,
                {"ports", "ports_plan", "ports_plan_marks", "ports_plan_marks_2"},
                ("depth", "at", "marks", "note"),
            ),
            (bare, {"ports", "ports_plan"}, ("depth", "lit")),
            (strange, None, ("depth", "nodes")),
        )
        ways = (
            {"exact": True},
            {"exact": True, "keys": "digest", "format": "csv", "chunk_bytes": 300},
            {"kernel": "python", "chunk_bytes": 2000},
            {"workers": 2, "format": "csv"},
        )
        for make, tables, fields in cases:
            records = feed(make)
            expected = sum(nodes_in(record["plan"], fields) for record in records)
            for options in ways:
                with self.subTest(make=make.__name__, **options):
                    source, rows = self.export(records, **options)
                    self.assertEqual(rows["ports_plan"], expected)
                    self.assertEqual(set(rows), tables or set(rows))
                    self.check_way_back(source, records, options.get("exact"))

    def test_the_layout_gives_the_same_tables(self):
        for make in (plain, rich, bare, strange):
            with self.subTest(make=make.__name__):
                records = feed(make)
                layout = tessaron.draft(records, name="ports")
                drafted, made = tessaron.shred(records, name="ports"), tessaron.shred(records, layout=layout)
                self.assertEqual(list(made), list(drafted))
                for name, table in drafted.items():
                    self.assertEqual(made[name].to_pylist(), table.to_pylist())
                updated, _ = tessaron.update(layout, records)
                self.assertEqual(updated.text, layout.text)

    def test_rows_say_where_nodes_stand(self):
        plan = {
            "depth": 9,
            **{f"quay_{n}": {"depth": n, f"berth_{n}": {"depth": 1, "b": {"depth": 0}}} for n in range(8)},
        }
        rows = tessaron.shred([{"plan": plan}], name="ports")["ports_plan"].to_pylist()
        keys = {row["row_key"]: row["key"] for row in rows}
        ways = {
            (row["key"], keys.get(row["within_key"]), row["ports_plan_depth"], row["depth"]) for row in rows
        }
        expected = {(f"quay_{n}", None, 1, n) for n in range(8)} | {
            (f"berth_{n}", f"quay_{n}", 2, 1) for n in range(8)
        }
        self.assertEqual(ways, expected | {("b", f"berth_{n}", 3, 0) for n in range(8)})

    def test_what_a_layout_leaves_out_is_counted_and_not_missed(self):
        records = feed(rich)
        source, _ = self.export(records)
        text = (self.folder / "out" / "layout.toml").read_text()
        lines = [line for line in text.splitlines() if "@.at.x" not in line]
        self.assertEqual(len(lines), len(text.splitlines()) - 1)
        receipt = tessaron.export(
            source, self.folder / "less", layout=tessaron.Layout("\n".join(lines), "less.toml"), replace=True
        )
        self.assertTrue(receipt.passed)
        self.assertTrue(tessaron.verify(self.folder / "less", source).passed)
        columns = tessaron.shred(source, layout=tessaron.Layout("\n".join(lines), "x"))[
            "ports_plan"
        ].column_names
        self.assertNotIn("at_x", columns)

    def test_places_of_trees(self):
        chance = random.Random(1)
        cases = (
            ("$.nodes", [zone(chance, 4, plain) for _ in range(30)]),
            (
                "$.plans[*].at.nodes",
                [{"plans": [{"at": zone(chance, 3, plain)} for _ in range(3)]} for _ in range(20)],
            ),
            (
                "$.years.*.at.nodes",
                [
                    {"years": {str(2000 + n): {"by": "x", "at": zone(chance, 4, plain)} for n in range(5)}}
                    for _ in range(9)
                ],
            ),
            ("$.plan.nodes", {"plan": zone(random.Random(3), 6, plain)}),
        )
        for path, records in cases:
            with self.subTest(path=path):
                text = tessaron.draft(records, name="ports").text
                self.assertIn(f'gathered."{path}" = ["depth", "lit"]', text)

    def test_ordinary_records_are_no_trees(self):
        agent = {"id": 1, "name": "a", "office": {"id": 2, "name": "b"}}
        parts = ("agent", "owner", "pilot", "berth", "tug", "crane", "line", "clerk", "gang")
        chance = random.Random(2)
        cases = {
            "the same parts in every record": [{"id": n, **dict.fromkeys(parts, agent)} for n in range(30)],
            "parts that some have": [
                {"id": n, **{part: agent for part in parts if chance.random() < 0.6}} for n in range(60)
            ],
            "a schema, whose names of fields are data": {
                "types": {
                    f"type_{n}": {"kind": "object", "title": "t", "properties": {
                        f"field_{n}_{k}": {"kind": "array", "title": "u", "properties": {"x": {"kind": "text", "title": "v"}}}
                        for k in range(4)
                    }}
                    for n in range(12)
                }
            },
            "told not to": feed(plain),
        }  # fmt: skip
        for name, records in cases.items():
            with self.subTest(name):
                options = {"not_dictionaries": ["$.plan"]} if name == "told not to" else {}
                self.assertNotIn("gathered", tessaron.draft(records, name="calls", **options).text)

    def test_it_is_said_and_explained(self):
        records = feed(plain)
        survey = tessaron.survey(records)
        notes = {note.code: note for note in survey.notes if note.path == "$.plan.nodes"}
        self.assertRegex(notes["tree"].text, r"^tree: \d+ names below \$\.plan are nodes")
        text = tessaron.draft(records, name="ports").text
        self.assertRegex(
            text, r"# a tree: \d+ names are nodes, [\d,]+ of them; as columns, drafted with --no-dict"
        )

    def test_mistakes_in_layouts(self):
        text = tessaron.draft(feed(plain), name="ports").text
        cases = (
            (
                '"$.plan.nodes" = ["depth", "lit"]',
                '"$.plan.depth" = ["depth"]',
                "gather them under another name",
            ),
            ('"$.plan.nodes" = ["depth", "lit"]', '"$.plan[*]" = ["depth"]', "a path that ends with a name"),
            ('"$.plan.nodes" = ["depth", "lit"]', '"$" = ["depth"]', "a path that ends with a name"),
        )
        for old, new, expected in cases:
            with self.subTest(new=new), self.assertRaisesRegex(tessaron.LayoutError, expected):
                tessaron.shred(feed(plain), layout=tessaron.Layout(text.replace(old, new), "x.toml"))


if __name__ == "__main__":
    unittest.main()
