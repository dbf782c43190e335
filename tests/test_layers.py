"""The layers: who may import whom, and what a bare import may load."""

import ast
import subprocess
import sys
import unittest
from pathlib import Path

import tessaron

SOURCE = Path(tessaron.__file__).parent
ALLOWED = {
    "core": {"core"},
    "balance": set(),
    "rejecting": {"core", "receipt"},
    "rejected_records": {"core", "layouts", "options", "sources"},
    "proof": {
        "balance",
        "core",
        "feeds",
        "layout_options",
        "table_run",
        "layouts",
        "options",
        "pool",
        "proof",
        "reading",
        "receipt",
        "sinks",
        "sources",
        "spill",
        "uniqueness",
    },
    "sources": {"core", "sources"},
    "sinks": {"core", "sinks", "receipt"},
    "views": {"core", "views", "receipt", "demo", "surveying", "proof"},
    "demo": {"core", "demo", "receipt", "run", "matching", "surveying", "layouts"},
    "sampling": {"core", "matching", "sinks", "sources"},
    "surveying": {
        "core",
        "options",
        "pool",
        "feeds",
        "reading",
        "sources",
        "spill",
        "layout_view",
        "layouts",
    },
    "layouts": {"core", "sinks"},
    "layout_view": {"core", "layouts", "options"},
    "draft_facts": {"core", "_version", "options", "reading"},
    "layout_drafting": {
        "core",
        "draft_facts",
        "layouts",
        "options",
        "pool",
        "feeds",
        "reading",
        "sources",
        "spill",
    },
    "accounting": {"core", "receipt", "rejecting", "run_outcome"},
    "run_outcome": {"core", "receipt", "rejecting"},
    "drafted_tables": {"core", "draft_facts", "feeds", "layouts", "options", "reading", "run_outcome"},
    "layout_options": {"core", "options"},
    "watching": {"core", "receipt", "uniqueness"},
    "table_run": {
        "accounting",
        "core",
        "drafted_tables",
        "feeds",
        "options",
        "pool",
        "reading",
        "receipt",
        "rejecting",
        "run_outcome",
        "sources",
        "spill",
        "watching",
    },
    "receipt_text": set(),
    "receipt": {"balance", "core", "receipt_text"},
    "spill": {"core"},
    "options": {"core", "sources"},
    "pool": {"core"},
    "matching": {"core", "sources", "xml_matching"},
    "xml_matching": {"core", "sources"},
    "xml_lines": {"core", "sources"},
    "feeds": {"core", "spill"},
    "reading": {"rejecting", "core", "feeds", "sources", "receipt", "options", "matching", "xml_reading"},
    "xml_reading": {"core", "sources", "receipt", "options"},
    "uniqueness": {"core"},
    "run": {
        "balance",
        "rejected_records",
        "core",
        "sources",
        "sinks",
        "receipt",
        "_version",
        "options",
        "feeds",
        "reading",
        "run_outcome",
        "layout_options",
        "table_run",
        "layout_drafting",
        "layouts",
    },
    "__init__": {
        "proof",
        "core",
        "receipt",
        "run",
        "_version",
        "matching",
        "xml_matching",
        "sampling",
        "views",
        "layouts",
        "layout_drafting",
    },
}


def imported_rooms(path: Path) -> set[str]:
    names = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("tessaron."):
            names.add(node.module.split(".")[1])
        elif isinstance(node, ast.Import):
            names.update(a.name.split(".")[1] for a in node.names if a.name.startswith("tessaron."))
    return names


class LayersTest(unittest.TestCase):
    def test_imports_point_one_way(self):
        checked = 0
        for path in SOURCE.rglob("*.py"):
            room = path.relative_to(SOURCE).parts[0].removesuffix(".py")
            if room in ALLOWED:
                with self.subTest(module=str(path.relative_to(SOURCE))):
                    self.assertLessEqual(imported_rooms(path), ALLOWED[room])
                    checked += 1
        self.assertGreater(checked, 20)

    def test_core_has_no_files_network_or_terminal(self):
        for path in (SOURCE / "core").rglob("*.py"):
            tree = ast.parse(path.read_text("utf-8"))
            calls = {
                node.func.id
                for node in ast.walk(tree)
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
            }
            with self.subTest(module=path.name):
                self.assertFalse(calls & {"open", "print", "input"})
                self.assertNotRegex(
                    path.read_text("utf-8"), r"(?m)^\s*(import|from) (os|socket|rich|click)\b"
                )

    def test_bare_import_is_cheap(self):
        heavy = ("numpy", "pyarrow", "rich", "click")
        code = f"import sys, tessaron; print([name for name in {heavy} if name in sys.modules])"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "[]")

    def test_everything_public_is_there(self):
        for name in tessaron.__all__:
            with self.subTest(name=name):
                self.assertIsNotNone(getattr(tessaron, name))
        with self.assertRaises(AttributeError):
            _ = tessaron.no_such_name
