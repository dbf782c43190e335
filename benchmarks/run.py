"""Measures Tessaron side by side with what engineers have today. Prints a table of ratios.

    python benchmarks/run.py [--megabytes 100] [--rounds 2]

Every line is measured in processes of its own, the lines in turn within each round; the best round counts,
as other work on the machine only ever adds time.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from tessaron.sources.demo.manifests import MANIFESTS_HEAD, iter_manifests
from tessaron.sources.demo.vessel_calls import call_line, iter_calls

WORKED_OUT = Path(__file__).with_name("worked_out.layout.toml")
HAND_SCRIPT = Path(__file__).with_name("by_hand.py")
ITERPARSE = (
    "import sys\nfrom lxml import etree\n"
    "for _, element in etree.iterparse(sys.argv[1]):\n"
    "    element.clear()\n"
    "    while element.getprevious() is not None and element.getparent() is not None:\n"
    "        del element.getparent()[0]"
)
_LOADS = "import json, sys\nfor line in open(sys.argv[1], 'rb'): json.loads(line)"


@dataclass(slots=True)
class Measured:
    """Seconds by the wall, and the peak of memory of all processes of a line together, in MB."""

    seconds: float = float("inf")
    peak_mb: float = 0.0


def measure(command: list[str]) -> Measured:
    """Run a command once."""
    start = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    peak = 0
    while True:
        try:
            # Looking costs time of its own, so not too often.
            process.wait(0.1)
            break
        except subprocess.TimeoutExpired:
            peak = max(peak, sum(_resident(pid) for pid in _family(process.pid)))
    if process.returncode:
        raise SystemExit(f"{command} failed: {process.stderr.read().decode() if process.stderr else ''}")
    return Measured(time.perf_counter() - start, peak / 1e6)


def _family(pid: int) -> Iterator[int]:
    yield pid
    try:
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return
    for child in children:
        yield from _family(int(child))


def _resident(pid: int) -> int:
    """Return the memory a process has for itself, and its part of what it shares."""
    try:
        for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines():
            if line.startswith("Pss:"):
                return int(line.split()[1]) * 1024
    except OSError:
        pass
    try:
        return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
    except OSError:
        return 0


def export_command(source: Path, folder: Path, *options: str) -> list[str]:
    return [sys.executable, "-m", "tessaron", "export", str(source), "-o", str(folder), "--replace", *options]


def measure_all(lines: dict[str, Callable[[], list[str]]], rounds: int) -> dict[str, Measured]:
    """Measure every line `rounds` times, in turn; keep the best time and the largest peak."""
    results = {name: Measured() for name in lines}
    for _ in range(rounds):
        for name, command in lines.items():
            found = measure(command())
            results[name].seconds = min(results[name].seconds, found.seconds)
            results[name].peak_mb = max(results[name].peak_mb, found.peak_mb)
    return results


def write_calls_of_size(path: Path, megabytes: int) -> int:
    """Write vessel calls until the file is so large; return its size in bytes."""
    written = 0
    with open(path, "w", encoding="utf-8") as file:
        for call in iter_calls(10**9):
            written += file.write(call_line(call) + "\n")
            if written >= megabytes * 10**6:
                return written
    return written


def write_wide(path: Path, megabytes: int, fields: int = 2_000) -> None:
    """Write records of very many fields."""
    with open(path, "w", encoding="utf-8") as file:
        number = 0
        while file.tell() < megabytes * 10**6:
            record = {
                f"gauge_{n}": (n * number) % 997 if n % 3 else f"t{(n + number) % 50}" for n in range(fields)
            }
            file.write(json.dumps(record) + "\n")
            number += 1


def write_dictionary(path: Path, megabytes: int, keys: int = 100_000) -> None:
    """Write records with an object used as a dictionary, of very many keys."""
    with open(path, "w", encoding="utf-8") as file:
        number = 0
        while file.tell() < megabytes * 10**6:
            entries = {
                f"buoy-{(number * 41 + n * 7) % keys}": {
                    "lit": n % 2 == 0,
                    "depth_m": n % 400 / 10,
                    "note": f"n{n}",
                }
                for n in range(60)
            }
            file.write(json.dumps({"round": number, "buoys": entries}) + "\n")
            number += 1


def show(title: str, results: dict[str, Measured], base: str) -> None:
    print(f"\n{title}\n")
    width = max(map(len, results))
    print(f"{'':{width}}  seconds  ratio to {base!r}  peak MB")
    for name, found in results.items():
        ratio = found.seconds / results[base].seconds
        print(f"{name:{width}}  {found.seconds:7.2f}  {ratio:{len(base) + 11}.2f}  {found.peak_mb:7.0f}")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megabytes", type=int, default=100)
    parser.add_argument("--rounds", type=int, default=2)
    parser.add_argument("--xml", action="store_true", help="only XML")
    arguments = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="tessaron-bench-"))
    try:
        if not arguments.xml:
            run(folder, arguments.megabytes, arguments.rounds)
        run_xml(folder, arguments.megabytes, arguments.rounds)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def run(folder: Path, megabytes: int, rounds: int) -> None:
    sizes = {factor: folder / f"calls_{factor}x.ndjson" for factor in (1, 4, 16)}
    one = sizes[1]
    write_calls_of_size(one, megabytes)
    for factor in (4, 16):
        with open(sizes[factor], "wb") as larger:
            for _ in range(factor):
                with open(one, "rb") as same:
                    shutil.copyfileobj(same, larger)
    target = folder / "tables"

    def tessaron(source: Path, *options: str) -> Callable[[], list[str]]:
        return lambda: export_command(source, target, *options)

    lines: dict[str, Callable[[], list[str]]] = {
        "json.loads": lambda: [sys.executable, "-c", _LOADS, str(one)],
        "script by hand, CSV": lambda: [sys.executable, str(HAND_SCRIPT), str(one), str(folder / "by_hand")],
        "Parquet, 1 worker": tessaron(one, "--workers", "1"),
        "Parquet, 2 workers": tessaron(one, "--workers", "2"),
        "CSV, 1 worker": tessaron(one, "--workers", "1", "--format", "csv"),
        "CSV, 2 workers": tessaron(one, "--workers", "2", "--format", "csv"),
    }
    show(f"{megabytes} MB of vessel calls", measure_all(lines, rounds), "json.loads")

    looking = {
        "Parquet, all cores": tessaron(one),
        "survey, all cores": lambda: [sys.executable, "-m", "tessaron", "survey", str(one)],
        "Parquet, 1 worker": tessaron(one, "--workers", "1"),
        "survey, 1 worker": lambda: [sys.executable, "-m", "tessaron", "survey", str(one), "--workers", "1"],
        "find $.stays[*].berth": lambda: [
            sys.executable, "-m", "tessaron", "find", str(one), "$.stays[*].berth", "--count",
        ],
    }  # fmt: skip
    show("Looking", measure_all(looking, rounds), "Parquet, all cores")

    small = folder / "small.json"
    small.write_text('{"page": 1}', "utf-8")
    starting: dict[str, Callable[[], list[str]]] = {
        "import numpy": lambda: [sys.executable, "-c", "import numpy"],
        "tessaron --help": lambda: [sys.executable, "-m", "tessaron", "--help"],
        "tessaron find, small file": lambda: [sys.executable, "-m", "tessaron", "find", str(small), "$.page"],
    }
    show("Starting", measure_all(starting, 3 * rounds), "import numpy")

    growth = {
        f"{factor}x, {workers} worker{'s' * (workers > 1)}": tessaron(path, "--workers", str(workers))
        for workers in (1, 2)
        for factor, path in sizes.items()
    }
    show("Growth of the input, Parquet", measure_all(growth, max(1, rounds - 1)), "1x, 1 worker")

    write_wide(folder / "wide.ndjson", megabytes)
    write_dictionary(folder / "buoys.ndjson", megabytes)
    shapes = {
        "vessel calls": tessaron(one, "--workers", "1"),
        "2,000 columns": tessaron(folder / "wide.ndjson", "--workers", "1"),
        "dictionary of 100,000 keys": tessaron(folder / "buoys.ndjson", "--workers", "1"),
    }
    show(f"Shapes, {megabytes} MB each, Parquet", measure_all(shapes, rounds), "vessel calls")
    run_layouts(folder, one, megabytes, rounds, tessaron)


def run_layouts(
    folder: Path, calls: Path, megabytes: int, rounds: int, tessaron: Callable[..., Callable[[], list[str]]]
) -> None:
    """Measure what layouts save and cost."""
    fields = folder / "fields.ndjson"
    write_wide(fields, megabytes, 200)
    drafted, five = folder / "drafted.layout.toml", folder / "five.layout.toml"
    draft = [sys.executable, "-m", "tessaron", "draft", str(calls), "--first", "5000", "-o", str(drafted)]
    subprocess.run(draft, check=True, stderr=subprocess.DEVNULL)
    columns = "".join(
        f'gauge_{n} = {{ path = "$.gauge_{n}", type = "integer" }}\n' for n in (1, 50, 100, 151, 199)
    )
    five.write_text(f'[tables.gauges]\nrows = "$"\n[tables.gauges.columns]\n{columns}', "utf-8")
    choice = {
        "all 200 fields": tessaron(fields, "--workers", "1"),
        "5 of them, --only": tessaron(
            fields, "--workers", "1", *(f"--only=$.gauge_{n}" for n in (1, 50, 100, 151, 199))
        ),
        "5 of them, layout": tessaron(fields, "--workers", "1", "--layout", str(five)),
    }
    show(f"Choosing, {megabytes} MB, Parquet", measure_all(choice, rounds), "all 200 fields")
    work = {
        "no layout": tessaron(calls, "--workers", "1"),
        "drafted layout": tessaron(calls, "--workers", "1", "--layout", str(drafted)),
        "filters, 10 calculated columns, 3 folds": tessaron(
            calls, "--workers", "1", "--layout", str(WORKED_OUT)
        ),
        "the same, 2 workers": tessaron(calls, "--workers", "2", "--layout", str(WORKED_OUT)),
        "no layout, 2 workers": tessaron(calls, "--workers", "2"),
    }
    show(f"Layouts, {megabytes} MB of vessel calls, Parquet", measure_all(work, rounds), "no layout")


def write_manifests_of_size(path: Path, megabytes: int) -> None:
    """Write cargo manifests in one document until the file is so large."""
    with open(path, "w", encoding="utf-8") as file:
        written = file.write(MANIFESTS_HEAD)
        for manifest in iter_manifests(10**9):
            written += file.write(manifest)
            if written >= megabytes * 10**6:
                break
        file.write("</manifests>\n")


def run_xml(folder: Path, megabytes: int, rounds: int) -> None:
    """Measure XML beside a parser that only goes through it, several files, and one large document."""
    one, large, several = folder / "manifests.xml", folder / "large.xml", folder / "several"
    write_manifests_of_size(one, megabytes)
    write_manifests_of_size(large, 5 * megabytes)
    several.mkdir()
    for number in range(4):
        shutil.copy(one, several / f"manifests-{number}.xml")
    target = folder / "tables"

    def tessaron(source: Path, workers: int) -> Callable[[], list[str]]:
        return lambda: export_command(source, target, "--workers", str(workers))

    lines: dict[str, Callable[[], list[str]]] = {
        "lxml.etree.iterparse": lambda: [sys.executable, "-c", ITERPARSE, str(one)],
        "Parquet, 1 worker": tessaron(one, 1),
        "Parquet, 2 workers": tessaron(one, 2),
    }
    show(f"XML, {megabytes} MB of cargo manifests", measure_all(lines, rounds), "lxml.etree.iterparse")
    files = {"1 worker": tessaron(several, 1), "2 workers": tessaron(several, 2)}
    show(f"XML, 4 files of {megabytes} MB, Parquet", measure_all(files, 1), "1 worker")
    document = {"1 worker": tessaron(large, 1), "2 workers": tessaron(large, 2)}
    show(f"XML, one document of {5 * megabytes} MB, Parquet", measure_all(document, 1), "1 worker")


if __name__ == "__main__":
    main()
