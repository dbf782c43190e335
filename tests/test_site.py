"""The docs as a site: built strictly, and every link in it leads somewhere, also within a page."""

import contextlib
import unittest
from pathlib import Path
from urllib.parse import unquote, urlsplit

from lxml import html
from mkdocs.commands.build import build
from mkdocs.config import load_config

import tessaron
from tests.harness import FolderTest

ROOT = Path(__file__).parent.parent


class SiteTest(FolderTest):
    @classmethod
    def setUpClass(cls):
        cls.holder = FolderTest()
        cls.holder.setUp()
        cls.addClassCleanup(cls.holder.doCleanups)
        cls.site = cls.holder.folder / "site"
        with contextlib.chdir(ROOT):
            # Strict: a link or an anchor that leads nowhere ends it.
            build(load_config(str(ROOT / "mkdocs.yml"), site_dir=str(cls.site)))
        cls.pages = {path: html.fromstring(path.read_text("utf-8")) for path in cls.site.glob("*.html")}

    def test_every_link_leads_to_a_place_that_is_there(self):
        anchors = {path: set(page.xpath("//@id | //a/@name")) for path, page in self.pages.items()}
        count = 0
        for path, page in self.pages.items():
            if path.name == "404.html":
                continue
            for link in page.xpath("//a/@href | //img/@src | //link/@href | //script/@src"):
                parts = urlsplit(link)
                if parts.scheme or parts.netloc:
                    continue
                target = (path.parent / unquote(parts.path)).resolve() if parts.path else path
                with self.subTest(page=path.name, link=link):
                    self.assertTrue(target.exists())
                    if parts.fragment and target in anchors and not parts.fragment.startswith("__"):
                        self.assertIn(unquote(parts.fragment), anchors[target])
                count += 1
        self.assertGreater(count, 500)

    def test_nothing_is_loaded_from_elsewhere(self):
        for path, page in self.pages.items():
            loaded = page.xpath("//img/@src | //script/@src | //link[@rel='stylesheet']/@href")
            with self.subTest(path.name):
                self.assertEqual([each for each in loaded if urlsplit(each).netloc], [])

    def test_the_pages_out_of_the_code_have_every_command_and_every_name(self):
        from tessaron.cli import main

        commands = self.pages[self.site / "commands.html"].text_content()
        self.assertEqual(
            [name for name in main.list_commands(None) if f"tessaron {name}" not in commands], []
        )
        names = set(self.pages[self.site / "api.html"].xpath("//@id"))
        left = {
            "Found",
            "XmlFound",
            "Place",
            "SampleTaken",
            "Rebuilt",
            "Fetched",
            "Grown",
            "KeptUp",
            "Traced",
            "__version__",
        }
        self.assertEqual(
            [name for name in tessaron.__all__ if f"tessaron.{name}" not in names and name not in left], []
        )

    def test_a_reader_finds_each_page_by_the_menu(self):
        menu = set(self.pages[self.site / "index.html"].xpath("//nav//a/@href"))
        self.assertEqual(
            {path.name for path in self.pages if path.name != "404.html"} - menu - {"index.html"}, set()
        )


if __name__ == "__main__":
    unittest.main()
