"""The house: which room may import which, how rooms are kept, and what a bare import may load."""

import ast
import re
import subprocess
import sys
import unittest
from collections import Counter
from inspect import signature
from pathlib import Path
from typing import get_type_hints

import tessaron

SOURCE = Path(tessaron.__file__).parent
ROOMS = (
    "cli/repeating", "cli/making", "cli/looking", "cli", "cli/walkthrough", "choosing", "views/notebook", "views/figures", "views/page", "views/diagram", "views/repeating", "views", "repeat", "repeat/ledgers", "prove", "forecast", "write", "write/parted", "write/across", "write/books", "look", "decide", "engine/parts", "engine", "engine/aside", "sinks/lake", "sinks/database", "sinks/ddl", "sinks", "sources", "sources/web", "sources/remote", "sources/tables", "sources/database", "sources/exported", "sources/forms", "sources/demo",
    "core/changes", "core/lines", "core/sample", "core/rebuild", "core/tables", "core/rearrange", "core/plan", "core/layout/texts", "core/layout",
    "core/expressions", "core/model", "core/survey", "core/shape", "core/kernel", "core/cutting", "core/query", "core/markup", "core/tape",
    "core/types", "core/base", "core/compiled",
)  # fmt: skip
"""All rooms, from above to below: a room imports itself and those behind it."""
AT_THE_TOP = {"__init__", "__main__", "_version"}
MOST_MODULES = 15
NOT_IN_CORE = {
    "os", "io", "pathlib", "shutil", "tempfile", "glob", "socket", "ssl", "http", "httpx", "fsspec", "subprocess",
    "multiprocessing", "threading", "concurrent", "asyncio", "signal", "time", "rich", "click", "logging",
}  # fmt: skip
"""Files, network, processes, clock and terminal."""
HARMLESS = {"pathlib.PurePath", "io", "io.BytesIO", "io.StringIO"}
"""Of those what touches nothing outside: names of files as texts, and bytes in memory."""


def modules():
    """Yield every module with its room."""
    for path in sorted(SOURCE.rglob("*.py")):
        yield path, path.parent.relative_to(SOURCE).as_posix()


def room_of(name):
    """Return the room of a dotted name inside the package: the longest that is one."""
    parts = name.split(".")[1:]
    found = ["/".join(parts[:count]) for count in range(len(parts), 0, -1)]
    return next((room for room in found if room in ROOMS), ".")


def imported(path):
    """Yield the names that a module imports, also inside functions and for types only."""
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module:
            yield from (f"{node.module}.{each.name}" for each in node.names)
        elif isinstance(node, ast.Import):
            yield from (each.name for each in node.names)


class RoomsTest(unittest.TestCase):
    def test_every_room_is_known_and_none_is_crowded(self):
        counts = Counter(room for path, room in modules() if path.stem != "__init__")
        self.assertEqual({room for room in counts if room != "."} - set(ROOMS), set())
        self.assertEqual({room: count for room, count in counts.items() if count > MOST_MODULES}, {})
        self.assertEqual({path.stem for path, room in modules() if room == "."}, AT_THE_TOP)
        self.assertEqual([path.name for path in (SOURCE / "core").glob("*.py")], ["__init__.py"])

    def test_imports_point_down(self):
        order = {room: place for place, room in enumerate(ROOMS)}
        checked = 0
        for path, room in modules():
            if room not in order:
                continue
            with self.subTest(module=path.relative_to(SOURCE).as_posix()):
                for name in imported(path):
                    other = room_of(name) if name.startswith("tessaron.") else "."
                    if other != ".":
                        self.assertLessEqual(order[room], order[other], name)
                        checked += 1
        self.assertGreater(checked, 1_000)

    def test_no_rings_of_modules(self):
        names = {
            path: "tessaron." + ".".join(path.relative_to(SOURCE).with_suffix("").parts)
            for path, _ in modules()
        }
        known = set(names.values())
        arrows = {
            name: {each if each in known else each.rpartition(".")[0] for each in imported(path)} & known
            for path, name in names.items()
            if path.stem != "__init__"
        }
        # What leads to nothing that is left, or is led to by nothing, is in no ring.
        while free := {name for name, others in arrows.items() if not others & arrows.keys() - {name}} | (
            arrows.keys() - {each for name, others in arrows.items() for each in others - {name}}
        ):
            for name in free:
                del arrows[name]
        self.assertEqual(sorted(arrows), [])

    def test_no_two_modules_or_public_classes_have_one_name(self):
        stems = Counter(path.stem for path, _ in modules() if path.stem != "__init__")
        self.assertEqual([name for name, count in stems.items() if count > 1], [])
        classes = Counter(
            node.name
            for path, _ in modules()
            for node in ast.parse(path.read_text("utf-8")).body
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
        )
        self.assertEqual([name for name, count in classes.items() if count > 1], [])

    def test_every_room_says_what_it_is_for(self):
        for room in ROOMS:
            with self.subTest(room=room):
                said = ast.get_docstring(ast.parse((SOURCE / room / "__init__.py").read_text("utf-8")))
                self.assertGreaterEqual(len(said or ""), 60)

    def test_core_has_no_files_network_processes_clock_or_terminal(self):
        for path, room in modules():
            if not room.startswith("core"):
                continue
            tree = ast.parse(path.read_text("utf-8"))
            calls = {
                node.func.id
                for node in ast.walk(tree)
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
            }
            with self.subTest(module=path.name):
                self.assertFalse(calls & {"open", "print", "input"})
                names = set(imported(path)) - HARMLESS
                self.assertFalse({name.split(".")[0] for name in names} & NOT_IN_CORE)


class FrontTest(unittest.TestCase):
    def test_the_reference_tells_every_public_name_with_its_arguments(self):
        page = (Path(__file__).parent.parent / "docs" / "reference.md").read_text("utf-8")
        self.assertEqual([name for name in tessaron.__all__ if not re.search(rf"\b{name}\b", page)], [])
        told = dict(re.findall(r"`tessaron\.(\w+)\(([^`]*?)\)(?: -> \w+)?`", page))
        functions = {
            name: getattr(tessaron, name) for name in tessaron.__all__ if name.islower() and name[0] != "_"
        }
        self.assertEqual(set(told), set(functions))
        for name, function in functions.items():
            with self.subTest(name):
                known = [
                    each for each in signature(function).parameters if each not in ("options", "progress")
                ]
                listed = re.findall(r"(?:^|, )(\w+)", told[name])
                self.assertEqual([each for each in listed if each not in ("options", "progress")], known)

    def test_options_by_name_are_those_of_a_run(self):
        from tessaron.engine.options import Options
        from tessaron.engine.run_options import RunOptions

        taken = get_type_hints(RunOptions)
        known = {
            name: kind
            for name, kind in get_type_hints(Options).items()
            if name not in ("format", "as_documents")
        }
        self.assertEqual(taken, known)

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
