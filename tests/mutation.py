"""Small changes of the code, one at a time, and which of them no test notices.

    python -m tests.mutation types --tests test_types,test_columns --sample 40 --seed 7

The first word is a room of `core`, or a path below `src/tessaron`. A change is made in a copy of the package, and the tests named
(or all) run on that; what they do not notice is printed with its line.
"""

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "tessaron"
COMPARES = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip
SUMS = {
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Mult: ast.FloorDiv,
    ast.BitAnd: ast.BitOr,
    ast.BitOr: ast.BitAnd,
}


def changes_of(tree):
    """Yield functions that each make one change in a tree, with the line and what it is."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and type(node.ops[0]) in COMPARES:
            yield (
                node.lineno,
                "comparison",
                lambda node=node: node.ops.__setitem__(0, COMPARES[type(node.ops[0])]()),
            )
        elif isinstance(node, ast.BoolOp):
            other = ast.Or if isinstance(node.op, ast.And) else ast.And
            yield node.lineno, "and or or", lambda node=node, other=other: setattr(node, "op", other())
        elif (
            isinstance(node, ast.BinOp) and type(node.op) in SUMS and not isinstance(node.left, ast.Constant)
        ):
            yield node.lineno, "operator", lambda node=node: setattr(node, "op", SUMS[type(node.op)]())
        elif isinstance(node, ast.Constant) and type(node.value) is int:
            yield node.lineno, "number", lambda node=node: setattr(node, "value", node.value + 1)
        elif isinstance(node, ast.Constant) and type(node.value) is bool:
            yield node.lineno, "truth", lambda node=node: setattr(node, "value", not node.value)
        elif isinstance(node, ast.IfExp):
            yield (
                node.lineno,
                "condition",
                lambda node=node: setattr(node, "test", ast.UnaryOp(ast.Not(), node.test)),
            )
        elif isinstance(node, ast.If):
            yield (
                node.lineno,
                "branch",
                lambda node=node: setattr(node, "test", ast.UnaryOp(ast.Not(), node.test)),
            )


def without_annotations(tree):
    """Take out what only types, so that no change is made there."""
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef):
            node.returns = None
            for each in (*node.args.args, *node.args.kwonlyargs, *node.args.posonlyargs):
                each.annotation = None
    return tree


def is_noticed(folder, tests, seconds):
    """Say whether a test fails on the package in a folder; one that never ends is noticed too."""
    command = [sys.executable, "-W", "error", "-m", "unittest", "-f", *tests]
    environment = {**os.environ, "PYTHONPATH": str(folder)}
    try:
        done = subprocess.run(
            command, cwd=ROOT, env=environment, capture_output=True, timeout=seconds, check=False
        )
    except subprocess.TimeoutExpired:
        return True
    return done.returncode != 0


def main():
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("part")
    parser.add_argument("--tests", default="")
    parser.add_argument("--sample", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--seconds", type=float, default=240)
    given = parser.parse_args()
    at = PACKAGE / given.part if (PACKAGE / given.part).exists() else PACKAGE / "core" / given.part
    files = [at] if at.is_file() else sorted(at.glob("*.py"))
    found = []
    for path in files:
        tree = without_annotations(ast.parse(path.read_text("utf-8")))
        found += [(path, number, line, what) for number, (line, what, _) in enumerate(changes_of(tree))]
    chosen = random.Random(given.seed).sample(found, min(given.sample, len(found)))
    tests = [f"tests.{name}" for name in given.tests.split(",") if name]
    left = 0
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        shutil.copytree(PACKAGE, folder / "tessaron")
        for path, number, line, what in sorted(chosen):
            target = folder / "tessaron" / path.relative_to(PACKAGE)
            tree = without_annotations(ast.parse(path.read_text("utf-8")))
            list(changes_of(tree))[number][2]()
            target.write_text(ast.unparse(ast.fix_missing_locations(tree)), "utf-8")
            if not is_noticed(folder, tests, given.seconds):
                left += 1
                print(
                    f"{path.relative_to(PACKAGE)}:{line}: {what}: {path.read_text().splitlines()[line - 1].strip()}",
                    flush=True,
                )
            shutil.copyfile(path, target)
    print(f"{len(chosen)} changes of {len(found)}, {left} not noticed")


if __name__ == "__main__":
    main()
