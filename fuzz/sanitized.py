"""Run the compiled code under sanitizers on random and broken bytes: `python fuzz/sanitized.py [SECONDS]`.

The kernels and passes are built with the address and undefined-behaviour sanitizers of gcc into a copy of the
package; a child process feeds them documents, the same with bytes changed, and tapes with numbers changed, and
compares what comes back with the Python kernels. Any find ends it with the sanitizer's report.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import time
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "tessaron"
_SECONDS = 20
_FLAGS = ("-g", "-O1", "-fPIC", "-shared", "-fsanitize=address,undefined", "-fno-sanitize-recover=undefined")
_SOURCES = ("core/compiled/_fastjson.c", "core/compiled/_passes.c", "core/compiled/_csv.c")
_NAMES = ("a", "b", "é", "2026-01-01", "7", "\\", '"')
_SCALARS: tuple[Any, ...] = (
    None, True, False, 0, -5, 2**63, -(2**64), 1.5, -0.0, 1e300, "", "x", "2026-01-01T10:00:00+02:00",
    "12:30", "INF", "no", "\ud800", "é" * 9, "12345678-1234-1234-1234-123456789abc", "9" * 40,
)  # fmt: skip


def main(arguments: list[str]) -> int:
    """Build, run the child, and return its exit status."""
    library = subprocess.run(
        ["gcc", "-print-file-name=libasan.so"], check=True, capture_output=True, text=True
    ).stdout.strip()
    if not Path(library).is_absolute():
        print("the address sanitizer of gcc is not installed: nothing was run")
        return 0
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "tessaron"
        shutil.copytree(PACKAGE, copy, ignore=shutil.ignore_patterns("*.so", "__pycache__"))
        include = sysconfig.get_path("include")
        for source in _SOURCES:
            made = (copy / source).with_suffix(sysconfig.get_config_var("EXT_SUFFIX"))
            subprocess.run(["gcc", *_FLAGS, f"-I{include}", str(copy / source), "-o", str(made)], check=True)
        environment = os.environ | {
            "LD_PRELOAD": library, "PYTHONPATH": os.pathsep.join((folder, str(ROOT))),
            "PYTHONMALLOC": "malloc",
            "ASAN_OPTIONS": "detect_leaks=0:abort_on_error=0",
        }  # fmt: skip
        seconds = arguments[0] if arguments else str(_SECONDS)
        done = subprocess.run([sys.executable, __file__, "--child", seconds], env=environment, check=False)
    return done.returncode


def child(seconds: float) -> None:
    """Feed the compiled code until the time is over."""
    from tessaron.core.cutting.separator import Separator
    from tessaron.core.kernel.fast_kernel import read_json_fast
    from tessaron.core.kernel.json_kernel import read_json
    from tessaron.core.tape.tape import Tape

    deadline, cases = time.monotonic() + seconds, 0
    while time.monotonic() < deadline:
        chance = random.Random(cases)
        records = [_value(chance, 5) for _ in range(chance.randint(1, 9))]
        data = "\n".join(map(json.dumps, records)).encode()
        for text in (data, _changed(chance, data)):
            made: list[Tape] = [read(text, Separator.LINE) for read in (read_json_fast, read_json)]
            assert made[0].arrays() == made[1].arrays(), (cases, text)
            assert made[0].faults == made[1].faults, (cases, text)
            _pass_over(chance, made[0])
        _read_markup(chance)
        cases += 1
    print(f"{cases:,} documents, each also with bytes and numbers changed: nothing found")


def _value(chance: random.Random, depth: int) -> Any:
    draw = chance.random()
    if depth and draw < 0.35:
        return {chance.choice(_NAMES): _value(chance, depth - 1) for _ in range(chance.randint(0, 4))}
    if depth and draw < 0.5:
        return [_value(chance, depth - 1) for _ in range(chance.randint(0, 4))]
    return chance.choice(_SCALARS)


def _changed(chance: random.Random, data: bytes) -> bytes:
    made = bytearray(data)
    for _ in range(chance.randint(1, 4)):
        at = chance.randrange(len(made))
        if chance.random() < 0.5:
            made[at] = chance.choice(b'{}[]",:\\u0123e.-tfn \n\xff\xc3')
        else:
            del made[at : at + chance.randint(1, 5)]
        if not made:
            return b"0"
    return bytes(made)


def _pass_over(chance: random.Random, tape: Any) -> None:
    """Learn and emit a tape, in several forms, and others that no kernel would make."""
    from tessaron.core.shape.learning import new_learner
    from tessaron.core.shape.shape_form import form_of
    from tessaron.core.shape.structure import settle
    from tessaron.core.tape.emission import emit

    learner = new_learner()
    learner.learn(tape)
    shape = learner.shape()[0]
    forms = [form_of(shape.record)]
    settle(shape)
    forms.append(form_of(shape.record))
    wanted = [_columns(chance, len(form.nodes)) for form in forms]
    for form, columns in zip(forms, wanted, strict=True):
        for column in emit(tape, form, wanted=columns).columns:
            if column is not None:
                column.validate(full=True)
    lane = chance.choice(("kinds", "names", "parents", "values", "data", "step_sizes", "step_data"))
    broken = bytearray(getattr(tape, lane))
    if not broken:
        return
    broken[chance.randrange(len(broken))] ^= 1 << chance.randrange(8)
    wrong = replace(tape, **{lane: bytes(broken)})
    uses = [new_learner().learn]
    for form, columns in zip(forms, wanted, strict=True):
        uses.append(partial(emit, form=form, wanted=columns))
    for use in uses:
        try:
            use(wrong)
        except (ValueError, KeyError, IndexError, UnicodeDecodeError):
            continue


def _read_markup(chance: random.Random) -> None:
    """Read a chunk of XML with the compiled kernel and the other; and one with bytes changed that lxml never saw."""
    from tests.random_markup import markup_chunk, named_values

    from tessaron.core.kernel.contract import XmlOptions
    from tessaron.core.kernel.fast_xml import read_xml_fast
    from tessaron.core.kernel.xml_kernel import read_xml

    chunk = markup_chunk(chance)
    options = XmlOptions(chance.choice(("trim", "collapse", "keep")), keeps_order=chance.random() < 0.5)
    made = [read_xml(chunk, replace(options, compiled=compiled)) for compiled in (True, False)]
    assert named_values(made[0]) == named_values(made[1]), (options, chunk)
    read_xml_fast(replace(chunk, data=_changed(chance, chunk.data)), options)


def _columns(chance: random.Random, place_count: int) -> list[Any]:
    """Return a column of each type that emission makes, each at some place of a form."""
    from tessaron.core.tape.typed_columns import CODES, WantedColumn
    from tessaron.core.types.column_types import parse_type

    kinds = [
        parse_type({"decimal": "decimal(20,3)", "timestamp": "timestamp(9)"}.get(name, name))
        for name in CODES
    ]
    return [
        WantedColumn(
            chance.randrange(place_count), kind.name, kind.arrow_type(), kind.precision or kind.second_digits,
            kind.scale, chance.random() < 0.5, ("no", "x") if kind.name == "boolean" else (),
            chance.random() < 0.5,
        )
        for kind in kinds
    ]  # fmt: skip


if __name__ == "__main__":
    if sys.argv[1:2] == ["--child"]:
        child(float(sys.argv[2]))
    else:
        sys.exit(main(sys.argv[1:]))
