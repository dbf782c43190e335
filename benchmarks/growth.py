"""How cost grows with what there is of one thing: processor time at n, 2n and 4n, and the exponent.

    python benchmarks/growth.py            # all
    python benchmarks/growth.py nesting    # those with this in their name

Each size runs in a process of its own; its start, measured on an empty source, is taken off. An
exponent near 1 is linear, near 2 quadratic. Below a tenth of a second nothing is said.
"""

from __future__ import annotations

import json
import math
import resource
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

Maker = Callable[[int, Path], list[str]]


def names_in_a_record(n: int, folder: Path) -> list[str]:
    # So many names alike would be taken for data.
    return [*_export(folder, "r.ndjson", json.dumps({f"c{i}": i for i in range(n)})), "--no-dictionary", "$"]


def names_in_a_record_csv(n: int, folder: Path) -> list[str]:
    return [*names_in_a_record(n, folder), "--format", "csv"]


def tables(n: int, folder: Path) -> list[str]:
    return _export(folder, "r.ndjson", json.dumps({f"t{i}": [{"a": i}] for i in range(n)}))


def files(n: int, folder: Path) -> list[str]:
    (folder / "d").mkdir()
    for i in range(n):
        (folder / "d" / f"{i}.json").write_text(json.dumps({"a": i}))
    return ["export", str(folder / "d"), "-o", str(folder / "o")]


def nesting_of_objects(n: int, folder: Path) -> list[str]:
    return _export(folder, "r.json", '{"a":{"b":' * n + "1" + "}}" * n)


def nesting_of_arrays(n: int, folder: Path) -> list[str]:
    return _export(folder, "r.json", "[" * n + "]" * n)


def namespaces(n: int, folder: Path) -> list[str]:
    records = "".join(f'<c xmlns:p{i}="urn:{i}"><p{i}:v>1</p{i}:v></c>' for i in range(n))
    return _export(folder, "r.xml", f"<r>{records}</r>")


def entities(n: int, folder: Path) -> list[str]:
    text = f'<!DOCTYPE r [<!ENTITY e "{"x" * 2000}">]><r>{"<c><v>&e;</v></c>" * n}</r>'
    return _export(folder, "r.xml", text)


def columns_of_a_layout(n: int, folder: Path) -> list[str]:
    columns = "".join(f'c{i} = {{ path = "$.c{i}", type = "integer" }}\n' for i in range(n))
    (folder / "l.toml").write_text(f'[tables.r]\nrows = "$"\n[tables.r.columns]\n{columns}')
    record = json.dumps({f"c{i}": i for i in range(n)})
    return [*_export(folder, "r.ndjson", record), "--layout", str(folder / "l.toml")]


def _export(folder: Path, name: str, text: str) -> list[str]:
    (folder / name).write_text(text)
    return ["export", str(folder / name), "-o", str(folder / "o"), "--depth-limit", "100000"]


SIZES: dict[Maker, int] = {
    names_in_a_record: 1_250,
    names_in_a_record_csv: 1_250,
    tables: 250,
    files: 1_000,
    nesting_of_objects: 500,
    nesting_of_arrays: 500,
    namespaces: 1_000,
    entities: 2_000,
    columns_of_a_layout: 500,
}


def seconds(arguments: list[str]) -> float:
    """Return the processor time of a run with one worker."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    command = [sys.executable, "-m", "tessaron", *arguments, "--workers", "1"]
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def measured(make: Maker, n: int) -> float:
    with tempfile.TemporaryDirectory() as folder:
        return seconds(make(n, Path(folder)))


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        start = min(seconds([*_export(Path(folder), "e.ndjson", "{}\n{}"), "--replace"]) for _ in range(3))
    print(f"start: {start:.2f} s, taken off below")
    print(f"{'':<24}{'n':>8}{'n':>9}{'2n':>9}{'4n':>9}   exponent")
    for make, n in SIZES.items():
        if len(sys.argv) > 1 and sys.argv[1] not in make.__name__:
            continue
        times = [max(0.0, measured(make, n * factor) - start) for factor in (1, 2, 4)]
        told = f"{math.log2(times[2] / times[1]):.1f}" if min(times[1:]) > 0.1 else "-"
        shown = "".join(f"{each:>8.2f}s" for each in times)
        print(f"{make.__name__.replace('_', ' '):<24}{n:>8,}{shown}   {told}")


if __name__ == "__main__":
    main()
