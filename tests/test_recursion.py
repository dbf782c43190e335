"""Structures that contain themselves, where dictionaries and single objects among arrays meet them."""

import json
import random
import unittest

import tessaron
from tessaron.core.base.paths import ELEMENT
from tessaron.core.kernel.tape_builder import TapeBuilder
from tessaron.core.shape.structure import settle
from tests.harness import KERNELS, FolderTest, learnt

NUMBERS = ["1", "2", "3", "40", "500", "2026-01-01"]
"""Names that are data: three of them make a dictionary."""
PARTS = ["stows", "holds", "bays", "others", "beside", "either"]


def compartment(chance, depth):
    """Return an object with others in it: by name, by number, alone, in arrays, or none of these."""
    made = {}
    if chance.random() < 0.5:
        made["kind"] = chance.choice(["tank", "hold", 3])
    for part in chance.sample(PARTS, chance.randint(0, 3)) if depth else ():
        draw = chance.random()
        if part == "stows":
            names = NUMBERS if chance.random() < 0.8 else ["a", "b", "kind", "no"]
            made[part] = {
                name: compartment(chance, depth - 1) for name in chance.sample(names, chance.randint(0, 4))
            }
        elif part in ("holds", "bays", "either"):
            several = [compartment(chance, depth - 1) for _ in range(chance.randint(0, 2))]
            made[part] = compartment(chance, depth - 1) if draw < 0.4 else several if draw < 0.9 else True
        else:
            made[part] = True if part == "others" and draw < 0.5 else compartment(chance, depth - 1)
    return made


def documents(seed, most_bytes=900):
    chance = random.Random(seed)
    while True:
        made = [
            {
                chance.choice(["ship", *PARTS[:3]]): chance.choice(
                    [
                        compartment(chance, 4),
                        [compartment(chance, 3)],
                        {name: compartment(chance, 3) for name in NUMBERS[: chance.randint(1, 4)]},
                    ]
                )
            }
            for _ in range(chance.randint(1, 4))
        ]
        if len(json.dumps(made)) < most_bytes:
            return made


def rows_of(data, **options):
    if "layout" not in options:
        options["name"] = "records"
    return {name: table.to_pylist() for name, table in tessaron.shred(data, workers=1, **options).items()}


def json_texts(text):
    """Return the JSON texts that stand one after another."""
    found, at = [], 0
    while text[at:].strip():
        value, end = json.JSONDecoder().raw_decode(text[at:].lstrip())
        at += len(text[at:]) - len(text[at:].lstrip()) + end
        found.append(value)
    return found


BY_HAND = {
    "a name that repeats, below what becomes a dictionary": [
        {"s": {"1": {"o": {"p": {"2026-01-01": {}, "2": {}, "1": {"o": {}}}}}}}
    ],
    "a dictionary on the way": [{"a": {"1": {"t": 3, "a": [{"p": {"40": {}, "1": {"t": "x"}, "3": {}}}]}}}],
    "a dictionary on the way, objects above": [
        {"s": {"1": {"t": "x", "o": {"a": [{"p": {"1": {"t": 3}, "2": {}, "40": {}}}]}}}}
    ],
    "ways through an array and through entries": [
        {"p": {"1": {"a": [{"p": {"2": {"p": {"2": {}}}}}]}, "2": {"p": {"500": {}}}}}
    ],
    "ways through two arrays, one of them single first": [
        {"d": {"a": [{"i": [{}]}]}},
        {"d": {"a": [{"t": 1, "i": {"a": [{"k": "x"}], "o": [{"a": [{"k": "y", "t": "t"}]}]}}]}},
        {},
    ],
    "a dictionary of which one entry is folded, and another is not alike": [
        {
            "all": [
                {
                    "p": {
                        **{f"n{number}": {"t": "x"} for number in range(40)},
                        "n0": {"t": "x", "p": {"n1": {"t": "y"}}},
                        "n1": {"t": "x", "p": {"q1": {"t": "z"}, "q2": {"u": "z"}}},
                    }
                }
            ]
        }
    ],
    "two that contain each other": [
        {"val": {"list": {"c": {"val": {"list": [{"list": [{"list": [{"list": [{"n": [None]}]}]}]}]}}}}}
    ],
    "empty arrays beside hollow objects": [{"a": []}, {"a": {}}],
    "empty arrays beside dictionaries": [{"a": []}, {"a": {"1": {}, "2": {}, "3": {}}}],
}


class RecursionTest(FolderTest):
    def check(self, records):
        """One record a chunk or all, either kernel, by the drafted layout, and back: all the same."""
        data = "\n".join(map(json.dumps, records)).encode()
        wanted = rows_of(data, kernel="python", chunk_bytes=1)
        self.assertEqual(rows_of(data, kernel=KERNELS[-1], chunk_bytes=1), wanted)
        self.assertEqual(rows_of(data, kernel=KERNELS[-1]), wanted)
        source, target = self.write("c.ndjson", data), self.folder / "out"
        tessaron.export(source, target, workers=1, replace=True, sync=False, name="records")
        found = tessaron.verify(target, workers=1)
        self.assertTrue(found.passed, found.to_json())
        self.assertEqual(rows_of(data, layout=tessaron.Layout.read(target / "layout.toml")), wanted)
        tessaron.export(source, target, workers=1, replace=True, sync=False, exact=True)
        self.assertTrue(tessaron.verify(target, workers=1).passed)
        tessaron.rebuild(target, self.folder / "back.ndjson", replace=True)
        self.assertEqual(json_texts((self.folder / "back.ndjson").read_text()), records)
        return wanted

    def test_by_hand(self):
        for name, records in BY_HAND.items():
            with self.subTest(name):
                self.check(records)

    def test_at_random(self):
        for seed in range(12):
            with self.subTest(seed=seed):
                self.check(documents(seed))

    def test_a_settled_shape_keeps_its_laws(self):
        for seed in range(200, 220):
            builder = TapeBuilder()
            for record in documents(seed):
                builder.add(record)
            shape = learnt(builder.finish())
            settle(shape)
            for node in shape.record.walk():
                with self.subTest(seed=seed):
                    self.assertFalse(node.is_dictionary and node.members())
                    self.assertFalse(node.is_lifted and set(node.children) - {ELEMENT})
                    self.assertFalse(node.fold is not None and node.children)

    def test_of_two_that_contain_each_other_the_outer_one_is_folded(self):
        rows = self.check(BY_HAND["two that contain each other"])
        self.assertEqual(
            {name: len(found) for name, found in rows.items()},
            {"records": 1, "records_val": 2, "records_val_list": 2, "records_val_list_list": 1,
             "records_val_list_list_list": 1, "records_val_list_list_list_list": 1,
             "records_val_list_list_list_list_n": 1},
        )  # fmt: skip
        within = [(row["within_key"], row["through_key"], row["depth"]) for row in rows["records_val"]]
        self.assertEqual(within, [(None, None, 1), (1, 1, 2)])

    def test_a_way_through_another_table_is_told_from_one_that_leads_through_none(self):
        text = b'<r><rec><a><n><i><a u="1"/></i></n><c><a u="2"><n/><n/></a></c></a></rec><rec/></r>'
        source, target = self.write("x.xml", text), self.folder / "out"
        wanted = rows_of(text)
        self.assertEqual(rows_of(text, chunk_bytes=1), wanted)
        self.assertEqual([(row["u"], row["within_key"], row["through_key"]) for row in wanted["records_a"]],
                         [(None, None, None), (1, 1, 1), (2, 1, None)])  # fmt: skip
        tessaron.export(source, target, name="records")
        self.assertTrue(tessaron.verify(target).passed)
        self.assertEqual(rows_of(text, layout=tessaron.Layout.read(target / "layout.toml")), wanted)


class TreesOfNamesTest(FolderTest):
    """Trees whose node names are data, and those that stand again under another name."""

    def zone(self, chance, depth, names, inner):
        made = {
            "depth": chance.randint(1, 9),
            "lit": chance.random() < 0.5,
            "note": chance.choice(["a", None]),
        }
        for name in names if depth else ():
            zones = {
                str(chance.randint(1, 60)): self.zone(chance, depth - 1, names, inner)
                for _ in range(chance.randint(0, 3))
            }
            made |= inner(name, zones) if chance.random() < 0.8 else {}
        return made

    def check(self, records, wanted, **options):
        source = self.write("z.ndjson", "\n".join(map(json.dumps, records)))
        for number, (exact, keys, chunk_bytes, kernel) in enumerate((
            (False, "sequence", 10**6, "auto"), (True, "sequence", 100, "auto"), (True, "digest", 100, "python"),
        )):  # fmt: skip
            target = self.folder / str(number)
            given = {
                "exact": exact,
                "keys": keys,
                "chunk_bytes": chunk_bytes,
                "kernel": kernel,
                "replace": True,
            }
            receipt = tessaron.export(source, target, name="t", **given, **options)
            self.assertTrue(receipt.passed)
            self.assertEqual({table.name for table in receipt.tables}, wanted)
            found = tessaron.verify(target, source)
            self.assertTrue(found.passed and not found.is_remade, found)
            if exact:
                tessaron.rebuild(target, self.folder / "back.ndjson", replace=True)
                back = [json.loads(line) for line in (self.folder / "back.ndjson").read_text().splitlines()]
                self.assertEqual(back, records)
        layout = tessaron.draft(source, name="t", **options)
        made, drafted = tessaron.shred(source, layout=layout), tessaron.shred(source, name="t", **options)
        for name, table in drafted.items():
            self.assertEqual(made[name].to_pylist(), table.to_pylist())

    def test_one_table_with_the_key_of_each_node(self):
        cases = (
            ("by itself", ["zones"], lambda name, zones: {name: zones}, {"t", "t_zones"}),
            ("in an object", ["zones"], lambda name, zones: {"more": {name: zones}}, {"t", "t_zones"}),
            ("in an array", ["zones"], lambda name, zones: {"more": [{"n": 1, name: zones}]},
             {"t", "t_zones", "t_zones_more"}),
        )  # fmt: skip
        for title, names, inner, wanted in cases:
            chance = random.Random(7)
            records = [
                {"id": n, "zones": {str(k): self.zone(chance, 3, names, inner) for k in range(n % 4)}}
                for n in range(20)
            ]
            with self.subTest(title):
                self.check(records, wanted)

    def test_rows_say_where_they_stand(self):
        zones = {
            "7": {"depth": 1, "zones": {"8": {"depth": 2, "zones": {}}, "9": {"depth": 3}}},
            "10": {"depth": 4},
        }
        made = tessaron.shred([{"zones": zones}], name="t", dictionaries=["$.zones"])["t_zones"].to_pylist()
        found = [
            (row["row_key"], row["within_key"], row["key"], row["t_zones_depth"], row["depth"])
            for row in made
        ]
        self.assertEqual(
            found, [(1, None, "7", 1, 1), (2, 1, "8", 2, 2), (3, 1, "9", 2, 3), (4, None, "10", 1, 4)]
        )

    def test_rows_that_are_the_same_under_another_name(self):
        def part(depth):
            made = {"name": f"p{depth}", "weight": depth, "kind": "k"}
            return made | ({"children": [part(depth - 1) for _ in range(2)]} if depth else {})

        self.check([{"id": n, "items": [part(3)]} for n in range(3)], {"t", "t_items"})
        other = [
            {
                "id": 1,
                "items": [{"name": "a", "weight": 1, "kind": "k", "children": [{"name": "b", "of": 1}]}],
            }
        ]
        self.check([other[0] | {"id": n} for n in range(3)], {"t", "t_items", "t_items_children"})

    def test_entries_that_are_objects_here_and_arrays_there(self):
        moves = [{"x": 1, "y": 2}]
        records = [
            {"id": n, "moves": {str(k): moves if k % 2 else moves[0] for k in range(5)}} for n in range(4)
        ]
        self.check(records, {"t", "t_moves", "t_moves_items"}, dictionaries=["$.moves"])

    def test_values_and_more_of_them_among_entries(self):
        codes = ["N1", "N2", "S1", "S2", "E1", "W3", "W4", "C7", "C8", "B1"]
        chance = random.Random(2)
        records = [
            {
                "id": n,
                "moves": {code: n if n % 2 else {"teu": n, "t": 2.5} for code in chance.sample(codes, 3)},
            }
            for n in range(20)
        ]
        self.check(records, {"t", "t_moves"})


if __name__ == "__main__":
    unittest.main()
