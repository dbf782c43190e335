"""Measures hard feeds and the main commands beside what has to be paid anyway, and prints each with its bar.

    python benchmarks/bars.py [--scale 1.0] [--rounds 2] [--only TEXT]

Processor time of whole processes, start included, unless a line says otherwise. The two commands of a line run one
after the other within each round; the best round of each counts, as other work on the machine only ever adds time.
The package is compiled to bytecode before, as an installation does, and every export goes into a new folder. Where
orjson is installed (`pip install orjson`), vessel calls are measured beside it, too.
"""

from __future__ import annotations

import argparse
import compileall
import gzip
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path

from hard_feeds import HARD_FEEDS
from run import ITERPARSE, write_calls_of_size, write_manifests_of_size, write_wide

import tessaron

_LOADS = (
    "import json, os, sys\n"
    "for path in sys.argv[1:]:\n"
    "    for folder, _, names in os.walk(path) if os.path.isdir(path) else [(os.path.dirname(path), [], [os.path.basename(path)])]:\n"
    "        for name in names:\n"
    "            with open(os.path.join(folder, name), 'rb') as file:\n"
    "                if name.endswith('.ndjson'):\n"
    "                    for line in file: json.loads(line)\n"
    "                else: json.loads(file.read())\n"
)


@dataclass(slots=True)
class Cost:
    """What a process cost: seconds of processors and by the wall, and its largest memory in MB."""

    processor: float = float("inf")
    wall: float = float("inf")
    memory: float = 0.0

    def best_of(self, other: Cost) -> Cost:
        """Return the better of both in each."""
        return Cost(
            min(self.processor, other.processor), min(self.wall, other.wall), max(self.memory, other.memory)
        )


@dataclass(frozen=True, slots=True)
class Line:
    """Two commands beside each other: `own` may cost `bar` times what `other` costs, in the seconds of `clock`."""

    name: str
    own: list[str]
    other: list[str]
    bar: float
    clock: str = "processor"
    most_memory: float = 500.0
    before: list[str] | None = None


def cost_of(command: list[str], target: Path | None = None) -> Cost:
    """Run a command once; what stands in its target is removed before."""
    if target is not None:
        shutil.rmtree(target, ignore_errors=True)
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _, status, used = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"{command} failed: {process.stderr.read().decode() if process.stderr else ''}")
    return Cost(used.ru_utime + used.ru_stime, time.perf_counter() - started, used.ru_maxrss / 1000)


def command(name: str, *arguments: str | Path) -> list[str]:
    return [sys.executable, "-m", "tessaron", name, *map(str, arguments)]


def loads(path: Path, module: str = "json") -> list[str]:
    return [sys.executable, "-c", _LOADS.replace("import json", f"import {module} as json"), str(path)]


def lines(folder: Path, scale: float) -> Iterator[Callable[[], Line]]:
    """Yield what makes the lines, one after the other, so that no feed is made that is not wanted."""
    out = folder / "out"

    def export(path: Path, *options: str) -> list[str]:
        return command("export", path, "-o", out, *(options or ("--workers", "1")))

    def calls() -> Path:
        path = folder / "calls.ndjson"
        if not path.exists():
            write_calls_of_size(path, int(100 * scale))
        return path

    yield lambda: Line(
        "vessel calls, Parquet ÷ json.loads", export(calls()), loads(calls()), 1.0, most_memory=350
    )
    yield lambda: Line(
        "vessel calls, CSV ÷ json.loads",
        export(calls(), "--workers", "1", "--format", "csv"),
        loads(calls()),
        1.2,
        most_memory=350,
    )
    yield lambda: Line(
        "1 worker ÷ 2 workers, wall (at least)",
        export(calls()),
        export(calls(), "--workers", "2"),
        1.6,
        "wall",
        350,
    )
    if find_spec("orjson") is not None:
        yield lambda: Line(
            "vessel calls, Parquet ÷ orjson.loads",
            export(calls()),
            loads(calls(), "orjson"),
            0,
            most_memory=350,
        )
        yield lambda: Line(
            "the same, 2 workers, wall ÷ wall",
            export(calls(), "--workers", "2"),
            loads(calls(), "orjson"),
            1.3,
            "wall",
            350,
        )
    yield lambda: Line("survey ÷ export", command("survey", calls(), "--workers", "1"), export(calls()), 1.0)
    yield lambda: Line(
        "verify ÷ export",
        command("verify", out, "--workers", "1"),
        export(calls()),
        1.5,
        before=export(calls()),
    )

    def hard(name: str) -> Line:
        write, megabytes, bar = HARD_FEEDS[name]
        path = folder / (name.replace(" ", "_").replace(",", "") + _ENDINGS.get(name, ".json"))
        write(path, megabytes * scale)
        return Line(f"{name} ÷ json.loads", export(path), loads(path), bar)

    for name in HARD_FEEDS:
        yield lambda name=name: hard(name)

    def manifests() -> Line:
        path = folder / "manifests.xml"
        write_manifests_of_size(path, int(60 * scale))
        return Line(
            "XML manifests ÷ iterparse", export(path), [sys.executable, "-c", ITERPARSE, str(path)], 1.0
        )

    yield manifests

    def few_fields() -> Line:
        path, layout = folder / "fields.ndjson.gz", folder / "five.layout.toml"
        write_wide(folder / "fields.ndjson", int(100 * scale), 200)
        with open(folder / "fields.ndjson", "rb") as plain, gzip.open(path, "wb", 6) as packed:
            shutil.copyfileobj(plain, packed)
        columns = "".join(
            f'gauge_{n} = {{ path = "$.gauge_{n}", type = "integer" }}\n' for n in (1, 50, 100, 151, 199)
        )
        layout.write_text(f'[tables.gauges]\nrows = "$"\n[tables.gauges.columns]\n{columns}', "utf-8")
        own = export(path, "--workers", "2", "--layout", str(layout))
        return Line(
            "5 of 200 fields of gz ÷ gunzip, wall", own, ["gunzip", "-k", "-c", str(path)], 1.3, "wall", 350
        )

    yield few_fields


_ENDINGS = {
    "events of 60 kinds": ".ndjson",
    "events of 60 kinds, 100 MB": ".ndjson",
    "800 small files": "",
    "dictionaries of 97,000 keys": ".ndjson",
}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--rounds", type=int, default=2)
    parser.add_argument("--only", default="")
    arguments = parser.parse_args()
    compileall.compile_dir(Path(tessaron.__file__).parent, quiet=1)
    folder = Path(tempfile.mkdtemp(prefix="tessaron-bars-"))
    print(f"{'':44} {'own s':>7} {'other s':>8} {'ratio':>6} {'bar':>5} {'MB':>5} {'most':>5}")
    try:
        for make in lines(folder, arguments.scale):
            line = make()
            if arguments.only not in line.name:
                continue
            own, other = Cost(), Cost()
            out = folder / "out"
            for _ in range(arguments.rounds):
                if line.before is not None:
                    cost_of(line.before, out)
                made = out if str(out) in line.own and line.before is None else None
                own = own.best_of(cost_of(line.own, made))
                other = other.best_of(cost_of(line.other, out if str(out) in line.other else None))
            mine, theirs = getattr(own, line.clock), getattr(other, line.clock)
            print(
                f"{line.name:44} {mine:7.2f} {theirs:8.2f} {mine / theirs:6.2f} {line.bar or '-':>5} "
                f"{own.memory:5.0f} {line.most_memory:5.0f}",
                flush=True,
            )
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
