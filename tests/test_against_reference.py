"""Random documents through a second reading of the documentation and through the tool: the same tables."""

import itertools
import json
import random
import tempfile
import unittest
from pathlib import Path

import pyarrow.csv as pa_csv
import pyarrow.parquet as pq

import tessaron
from tessaron.core.base.paths import ELEMENT, Origin
from tests.harness import KERNELS
from tests.reference_flattener import EACH, Flattened, written

SCALARS = [
    None,
    True,
    False,
    0,
    1,
    -7,
    2**70,
    1.5,
    "x",
    "",
    "1",
    "true",
    "2026-01-01",
    "a,b",
    'q"\n',
    "ä",
    "NULL",
]
WORDS = ["a", "A", "row_key", "ordinal", "value", "call id", "n" * 70, "ä", "parent_key", "key", "item"]


def value(chance, depth):
    draw = chance.random()
    if depth >= 4 or draw < 0.4:
        return chance.choice(SCALARS)
    if draw < 0.7:
        return [value(chance, depth + 1) for _ in range(chance.choice([0, 1, 2, 3]))]
    return members(chance, depth)


def members(chance, depth):
    """Return an object whose names tell how deep it stands: so nothing contains itself."""
    return {
        f"{word} {depth}": value(chance, depth + 1)
        for word in chance.sample(WORDS, chance.choice([0, 1, 2, 4]))
    }


def records_of(seed):
    """Return records that share fields of several kinds: one, many, scalars and objects at one place."""
    chance = random.Random(seed)
    made = []
    for _ in range(chance.randint(2, 7)):
        record = members(chance, 0)
        for field in ("stays", "berth"):
            if chance.random() < 0.6:
                stay = members(chance, 9)
                record[field] = chance.choice([stay, [stay], [stay, stay], [], None, 5, "x", [1, stay], {}])
        made.append(record)
    return made


def path_of(steps):
    return tuple(EACH if step is ELEMENT else step for step in steps)


def made_by_the_tool(tables, data):
    """Return the tables in the form of the reference: by path, values by path, nulls left out."""
    found = {}
    for plan in tables:
        rows = []
        for row in data[plan.name]:
            values = {
                path_of(column.path): written(row[column.name])
                for column in plan.columns
                if not (column.path and isinstance(column.path[-1], Origin)) and row[column.name] is not None
            }
            ordinal = None if plan.ordinal is None else row[plan.ordinal]
            parent = None if plan.parent_key is None else row[plan.parent_key]
            rows.append((row[plan.row_key], parent, ordinal, values))
        found[path_of(plan.rows)] = rows
    return found


def wanted_of(records):
    return {
        path: [
            (key, parent, ordinal, {at: written(each) for at, each in values.items()})
            for key, parent, ordinal, values in rows
        ]
        for path, rows in Flattened(records).tables.items()
    }


class ReferenceTest(unittest.TestCase):
    maxDiff = 4000

    def test_tables_are_those_of_the_documentation(self):
        for seed in range(40):
            records = records_of(seed)
            wanted = wanted_of(records)
            data = "\n".join(map(json.dumps, records)).encode()
            for kernel, size in itertools.product(KERNELS, (1, 10**6)):
                with self.subTest(seed=seed, kernel=kernel, chunk_bytes=size):
                    tables = tessaron.shred(data, kernel=kernel, chunk_bytes=size, workers=1)
                    rows = {name: table.to_pylist() for name, table in tables.items()}
                    self.assertEqual(made_by_the_tool(tables.layout.tables, rows), wanted)

    def test_files_hold_the_same(self):
        for seed in range(150, 156):
            records = records_of(seed)
            wanted = wanted_of(records)
            with tempfile.TemporaryDirectory() as folder:
                source = Path(folder, "records.ndjson")
                source.write_text("\n".join(map(json.dumps, records)))
                plan = tessaron.shred(source).layout.tables
                for form, workers in (("parquet", 1), ("parquet", 2), ("csv", 1)):
                    with self.subTest(seed=seed, form=form, workers=workers):
                        target = Path(folder, f"{form}{workers}")
                        tessaron.export(source, target, format=form, workers=workers, sync=False)
                        rows = {table.name: read(target / f"{table.name}.{form}", table) for table in plan}
                        self.assertEqual(made_by_the_tool(plan, rows), wanted)


def read(path, table):
    if path.suffix == ".parquet":
        return pq.read_table(path).to_pylist()
    options = pa_csv.ConvertOptions(
        column_types={field.name: field.type for field in table.arrow_schema()},
        strings_can_be_null=True, quoted_strings_can_be_null=False, null_values=[""],
        true_values=["true"], false_values=["false"],
    )  # fmt: skip
    parse = pa_csv.ParseOptions(newlines_in_values=True)
    return pa_csv.read_csv(path, parse_options=parse, convert_options=options).to_pylist()


if __name__ == "__main__":
    unittest.main()
