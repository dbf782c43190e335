"""The docs lead where they say: every link between pages, every heading it names, every picture."""

import re
import unittest
from pathlib import Path

ROOT = Path(__file__).parent.parent
PAGES = sorted((*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")))
_LINK = re.compile(r"\[[^\]]*\]\(([^)\s]+)\)")
_CODE = re.compile(r"^(?: {4}|```).*?$", re.MULTILINE)


def anchors_of(page):
    """Return what headings of a page are called in links."""
    headings = re.findall(r"^#+ (.+)$", page.read_text("utf-8"), re.MULTILINE)
    return {re.sub(r"[^\w\- ]", "", heading.lower()).strip().replace(" ", "-") for heading in headings}


class LinksTest(unittest.TestCase):
    def test_every_link_leads_somewhere(self):
        count = 0
        for page in PAGES:
            for link in _LINK.findall(_CODE.sub("", page.read_text("utf-8"))):
                if link.startswith(("http:", "https:", "…")):
                    continue
                path, _, anchor = link.partition("#")
                target = (page.parent / path).resolve() if path else page
                with self.subTest(page=page.name, link=link):
                    self.assertTrue(target.exists())
                    if anchor:
                        self.assertIn(anchor, anchors_of(target))
                count += 1
        self.assertGreater(count, 40)

    def test_every_picture_and_every_page_is_named(self):
        text = "".join(page.read_text("utf-8") for page in PAGES)
        for path in (*(ROOT / "docs" / "screenshots").glob("*.png"), *(ROOT / "docs").glob("*.md")):
            with self.subTest(path.name):
                self.assertIn(path.name, text)


if __name__ == "__main__":
    unittest.main()
