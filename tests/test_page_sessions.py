"""Sessions that stand in the docs: what stands below each command is what it says."""

import contextlib
import threading
import unittest
from pathlib import Path

from tessaron.sources.demo.office_server import OfficeServer
from tests.harness import FolderTest
from tests.page_sessions import make_world, run_page

DOCS = Path(__file__).parent.parent / "docs"
PAGES = ("recipes.md", "index.md")


class SessionsTest(FolderTest):
    def test_what_stands_there_is_what_comes_back(self):
        with OfficeServer() as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            self.addCleanup(server.shutdown)
            for name in PAGES:
                folder = self.folder / name
                folder.mkdir()
                with contextlib.chdir(folder):
                    make_world(folder, server.url)
                    text = (DOCS / name).read_text("utf-8")
                    again = run_page(text, folder)
                sections = zip(text.split("\n### "), again.split("\n### "), strict=True)
                for before, now in sections:
                    with self.subTest(page=name, recipe=before.split("\n")[0]):
                        self.assertEqual(now, before)
            server.shutdown()

    def test_there_are_recipes_for_the_everyday_and_each_runs(self):
        sections = (DOCS / "recipes.md").read_text("utf-8").split("\n### ")[1:]
        self.assertGreaterEqual(len(sections), 30)
        self.assertEqual([each.split("\n")[0] for each in sections if "```console\n$ " not in each], [])


if __name__ == "__main__":
    unittest.main()
