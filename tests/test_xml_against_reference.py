"""Random XML through a second reading of the documentation and through the tool: the same tables, and back."""

import random
import tempfile
import unittest
from pathlib import Path

import tessaron
from tessaron.core.base.paths import ELEMENT, MARKUP, Origin
from tests.reference_flattener import written
from tests.xml_reference_flattener import FlattenedXml, parsed, without_records

TEXTS = [
    "",
    "",
    "x",
    "007",
    "12",
    "-3",
    "0",
    "true",
    "false",
    "a  b",
    "ä",
    " 5 ",
    "<![CDATA[1<2]]>",
    "&amp;",
    "y<!-- -->z",
]
WORDS = ["a", "b", "A", "row_key", "value", "text", "ordinal"]


def attributes(chance, names):
    return "".join(f' {name}="{chance.choice(["x", "12", "", "007", "true"])}"' for name in names)


def element(chance, depth, name=""):
    """Return an element whose names tell how deep it stands: so nothing contains itself."""
    name = name or f"{chance.choice(WORDS)}{depth}"
    own = attributes(chance, chance.sample("pq", chance.choice([0, 0, 0, 1, 2])))
    if depth >= 3 or chance.random() < 0.45:
        inner = chance.choice(TEXTS)
    else:
        parts = [element(chance, depth + 1) for _ in range(chance.choice([0, 1, 2, 3]))]
        parts += [chance.choice(TEXTS)] * (chance.random() < 0.3)
        inner = chance.choice(["", "\n  "]).join(chance.sample(parts, len(parts)))
    return f"<{name}{own}>{inner}</{name}>" if inner or chance.random() < 0.5 else f"<{name}{own}/>"


def filled(chance, levels):
    """Return what stands in the root, or in one of the elements between it and the records."""
    if not levels:
        return "".join(element(chance, 0, "rec") for _ in range(chance.choice([0, 1, 1, 3])))
    made = ""
    for _ in range(chance.choice([0, 1, 1, 2, 3])):
        own = attributes(chance, "w" * (chance.random() < 0.4))
        made += f"<{levels[0]}{own}>{filled(chance, levels[1:])}</{levels[0]}>"
        made += element(chance, 7, "side") * (chance.random() < 0.3)
    return made


def documents_of(seed):
    """Return documents, and the names from their root to the records."""
    chance = random.Random(seed)
    levels = list("xyz"[: chance.randint(0, 3)])
    ports = (
        attributes(chance, ["port"] * (chance.random() < 0.5)) for _ in range(chance.choice([1, 1, 2, 3]))
    )
    return [f"<root{port}>{filled(chance, levels)}</root>" for port in ports], [*levels, "rec"]


def plain(path):
    steps = tuple(step.removeprefix(MARKUP) for step in path if step is not ELEMENT)
    return steps[:-1] if steps[-1:] == ("text()",) else steps


def made_by_the_tool(plans, tables):
    """Return tables in the form of the reference: by path, values by path, nulls left out."""
    found = {}
    for plan in plans:
        columns = [each for each in plan.columns if not isinstance(each.path[-1:] and each.path[-1], Origin)]
        found[plain(plan.rows)] = [
            (
                row[plan.row_key],
                row.get(plan.parent_key),
                row.get(plan.ordinal),
                {plain(each.path): written(row[each.name]) for each in columns if row[each.name] is not None},
            )
            for row in tables[plan.name].to_pylist()
        ]
    return found


class Wanted:
    """What the documentation says of some documents."""

    def __init__(self, texts, way):
        parts = [without_records(parsed(text), way) for text in texts]
        around = FlattenedXml([root for root, _, _ in parts], tuple(way[:-1]))
        self.records = FlattenedXml([record for _, records, _ in parts for record in records]).tables
        self.around = around.tables
        self.is_any_around = any(row[3] for rows in around.tables.values() for row in rows)
        self.places = [
            (number, self._enclosing(place, root, around))
            for number, (root, _, places) in enumerate(parts, 1)
            for place in places
        ]

    def _enclosing(self, place, root, around):
        while place is not root:
            if place in around.rows_of:
                return around.rows_of[place]
            place = place.getparent()
        return None


class XmlReferenceTest(unittest.TestCase):
    maxDiff = 4000

    def check(self, tables, wanted):
        plans = tables.layout.tables
        own = [plan for plan in plans if plan.name == "rec" or plan.name.startswith("rec_")]
        self.assertEqual(made_by_the_tool(own, tables), wanted.records)
        if len(own) == len(plans):
            self.assertFalse(wanted.is_any_around)
            return
        self.assertEqual(made_by_the_tool([each for each in plans if each not in own], tables), wanted.around)
        rows = tables["rec"].to_pylist()
        found = [(row[own[0].document_key], row.get(own[0].enclosing_key)) for row in rows]
        self.assertEqual(found, wanted.places)

    def test_tables_are_those_of_the_documentation(self):
        for seed in range(60):
            texts, way = documents_of(seed)
            wanted = Wanted(texts, way)
            if not wanted.records[()]:
                continue
            with tempfile.TemporaryDirectory() as folder:
                sources = [Path(folder, f"{number}.xml") for number in range(len(texts))]
                for source, text in zip(sources, texts, strict=True):
                    source.write_text(text)
                records = "/root/" + "/".join(way)
                for kernel, size in (("auto", 1), ("auto", 10**6), ("python", 10**6)):
                    with self.subTest(seed=seed, kernel=kernel, chunk_bytes=size):
                        tables = tessaron.shred(
                            sources, records=records, kernel=kernel, chunk_bytes=size, workers=1
                        )
                        self.check(tables, wanted)
                if seed % 4:
                    continue
                with self.subTest(seed=seed, what="proof"):
                    target = Path(folder, "tables")
                    tessaron.export(
                        sources,
                        target,
                        records=records,
                        exact=bool(seed % 8),
                        format="csv",
                        workers=1,
                        sync=False,
                    )
                    self.assertTrue(tessaron.verify(target, sources).is_identical)


if __name__ == "__main__":
    unittest.main()
