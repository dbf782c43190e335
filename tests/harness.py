"""What several tests need: a folder, the command line, and a count of documents made without Tessaron."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import unittest
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any

from click.testing import CliRunner

from tessaron.cli import main
from tessaron.core.base.paths import ELEMENT, Origin
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel, is_compiled
from tessaron.core.kernel.contract import DEFAULT_OPTIONS
from tessaron.core.shape.learning import new_learner
from tessaron.core.tape.emission import emit

KERNELS = ("python", "compiled") if is_compiled() else ("python",)
"""The kernels that are there, the fastest last."""
needs_compiled = unittest.skipUnless(is_compiled(), "nothing was compiled")
"""Marks tests that compare the compiled code with its twin, or hold it to what only it has to do."""


class FolderTest(unittest.TestCase):
    """A test with a temporary folder, `self.folder`."""

    def setUp(self):
        holder = tempfile.TemporaryDirectory(prefix="tessaron-test-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def write(self, name: str, content: str | bytes) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path


def command(*arguments: object, stdin: bytes = b"", **environment: str) -> subprocess.CompletedProcess:
    """Run `tessaron` in a process of its own."""
    return subprocess.run(
        [sys.executable, "-m", "tessaron", *map(str, arguments)],
        input=stdin,
        capture_output=True,
        env={**os.environ, **environment},
        timeout=120,
        check=False,
    )


def quick_command(*arguments: object, stdin: bytes = b"", **environment: str) -> subprocess.CompletedProcess:
    """Run `tessaron` in this process: for what does not depend on having one of its own."""
    handler = signal.getsignal(signal.SIGTERM)
    try:
        done = CliRunner().invoke(main, [*map(str, arguments)], input=stdin, env=environment)
    finally:
        signal.signal(signal.SIGTERM, handler)
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        raise done.exception
    return subprocess.CompletedProcess(arguments, done.exit_code, done.stdout_bytes, done.stderr_bytes)


def walk(record: Any) -> Counter:
    """Count what stands in a record: (path, value) for scalars, (path, "rows") for elements of arrays."""
    found: Counter = Counter()
    pending = [((), record)]
    while pending:
        path, value = pending.pop()
        if isinstance(value, dict):
            pending.extend(((*path, name), item) for name, item in value.items())
        elif isinstance(value, list):
            found[(*path, ELEMENT), "rows"] += len(value)
            pending.extend(((*path, ELEMENT), item) for item in value)
        elif value is not None:
            found[path, _spelling(value)] += 1
    return found


def values_of(found: Counter) -> Counter:
    """Return the values counted, without their paths and without rows."""
    made: Counter = Counter()
    for (_, value), count in found.items():
        if value != "rows":
            made[value] += count
    return made


def _spelling(value: Any) -> str:
    if isinstance(value, (float, Decimal)):
        return format(Decimal(str(value)).normalize(), "f")
    return str(value).lower() if isinstance(value, bool) else str(value)


def tally(tables: Any) -> Counter:
    """Count the same things in the tables: cells with a value, and rows of child tables."""
    found: Counter = Counter()
    for table in tables.layout.tables:
        data = tables[table.name]
        if table.parent is not None and data.num_rows:
            found[table.rows, "rows"] += data.num_rows
        for column in table.columns:
            if column.path and isinstance(column.path[-1], Origin):
                continue
            for value in data.column(column.name).to_pylist():
                if value is not None:
                    found[column.path, _spelling(value)] += 1
    return found


def columns_of(data, separator=Separator.LINE, kernel="auto", continues=False, options=DEFAULT_OPTIONS):
    """Return the fragment of a chunk, every name a member of its own."""
    return emit(choose_kernel(kernel)(data, separator, continues, options), compiled=kernel != "python")


def learnt(*tapes, settled=None, compiled=True):
    """Return the shape of tapes, as one learner sees it."""
    learner = new_learner(settled, compiled)
    for tape in tapes:
        learner.learn(tape)
    return learner.shape()[0]
