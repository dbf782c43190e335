"""The script an engineer writes by hand: standard library, recursive walk, a csv.DictWriter per table."""

import csv
import json
import sys
from pathlib import Path

source, target = Path(sys.argv[1]), Path(sys.argv[2])
target.mkdir(parents=True, exist_ok=True)


def walk(value, name, parent, rows, columns, prefix=""):
    if prefix == "":
        counters[name] = counters.get(name, 0) + 1
        row = {"row_key": counters[name], **parent}
        rows.append((name, row))
    else:
        row = columns
    for key, item in value.items():
        if isinstance(item, dict):
            walk(item, name, parent, rows, row, f"{prefix}{key}_")
        elif isinstance(item, list):
            child = f"{name}_{prefix}{key}"
            for ordinal, element in enumerate(item, 1):
                above = {"parent_key": row["row_key"], "ordinal": ordinal}
                walk(element if isinstance(element, dict) else {"value": element}, child, above, rows, None)
        else:
            row[prefix + key] = item


counters: dict = {}
tables: dict = {}
# Once over the file for the columns, once more to write: a DictWriter must know its fields.
for writing in (False, True):
    counters.clear()
    if writing:
        files = {name: open(target / f"{name}.csv", "w", newline="", encoding="utf-8") for name in tables}
        writers = {name: csv.DictWriter(files[name], list(fields)) for name, fields in tables.items()}
        for writer in writers.values():
            writer.writeheader()
    with open(source, encoding="utf-8") as lines:
        for line in lines:
            found: list = []
            walk(json.loads(line), "calls", {}, found, None)
            for name, row in found:
                if writing:
                    writers[name].writerow(row)
                else:
                    tables.setdefault(name, {}).update(dict.fromkeys(row))
