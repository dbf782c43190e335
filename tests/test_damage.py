"""verify on tables that were changed, digests and counts of the receipt made to fit: every change that tells is noticed."""

import hashlib
import json
import random
import shutil
import unittest
from datetime import date, timedelta

import pyarrow as pa
import pyarrow.parquet as pq

import tessaron
from tests.harness import FolderTest
from tests.test_against_reference import records_of
from tests.test_recursion import documents


def changed(value, others, chance):
    """Return another value of the type; None where there is none."""
    if value is None:
        return next((each for each in others if each is not None), None)
    if isinstance(value, bool):
        return not value
    if isinstance(value, str):
        return chance.choice([value + " ", value + "x", value[1:]])
    step = chance.choice([1, -1])
    return value + (timedelta(step) if isinstance(value, date) else step)


def damaged(table, how, chance):
    """Return a table with one change; None where there is none of this kind."""
    row = chance.randrange(table.num_rows)
    if how == "repeat":
        return pa.concat_tables([table.slice(0, row + 1), table.slice(row)])
    if how == "append":
        last = table.slice(row, 1)
        key = pa.array([table.num_rows + 1], table.schema.field(0).type)
        return pa.concat_tables([table, last.set_column(0, table.schema.field(0), key)])
    index = chance.randrange(table.num_columns)
    before = table.column(index).to_pylist()
    values = list(before)
    if how == "null":
        values[row] = None
    elif how == "swap":
        other = chance.randrange(table.num_rows)
        values[row], values[other] = values[other], values[row]
    else:
        values[row] = changed(values[row], values, chance)
    # White space around the JSON of row_rest says nothing.
    is_blank = [str(each).strip() for each in values] == [str(each) for each in before]
    if values == before or (is_blank and table.column_names[index] == "row_rest"):
        return None
    field = table.schema.field(index)
    return table.set_column(index, field, pa.array(values, field.type))


class DamageTest(FolderTest):
    def with_fitting_receipt(self, folder):
        receipt = json.loads((folder / "receipt.json").read_text())
        for table in receipt["tables"]:
            data = (folder / table["file"]).read_bytes()
            table["sha256"] = hashlib.sha256(data).hexdigest()
            table["rows"] = pq.read_metadata(folder / table["file"]).num_rows
        (folder / "receipt.json").write_text(json.dumps(receipt | {"balance": []}))

    def test_every_change_of_content_is_noticed(self):
        tried = 0
        for seed in range(9):
            chance = random.Random(seed)
            records = documents(seed) if seed % 2 else records_of(seed)
            source, whole, target = (
                self.write("c.ndjson", "\n".join(map(json.dumps, records))),
                self.folder / "o",
                self.folder / "p",
            )
            options = {"exact": seed % 3 == 0, "origin": seed % 5 == 0}
            tessaron.export(source, whole, workers=1, sync=False, replace=True, **options)
            files = [path.name for path in whole.glob("*.parquet") if pq.read_metadata(path).num_rows]
            for how in ("cell", "null", "swap", "repeat", "append"):
                name = chance.choice(sorted(files))
                table = pq.read_table(whole / name)
                made = damaged(table, how, chance)
                if made is None:
                    continue
                shutil.rmtree(target, ignore_errors=True)
                shutil.copytree(whole, target)
                plain = pa.schema([pa.field(field.name, field.type) for field in made.schema])
                pq.write_table(made.cast(plain), target / name)
                self.with_fitting_receipt(target)
                what = [
                    n
                    for n in table.column_names
                    if made.column_names == table.column_names
                    and made.num_rows == table.num_rows
                    and made.column(n).to_pylist() != table.column(n).to_pylist()
                ]
                with self.subTest(seed=seed, how=how, table=name, columns=what):
                    tried += 1
                    try:
                        self.assertFalse(tessaron.verify(target, workers=1).passed)
                    except tessaron.DataError as error:
                        self.assertTrue(str(error))
        self.assertGreater(tried, 30)


if __name__ == "__main__":
    unittest.main()
