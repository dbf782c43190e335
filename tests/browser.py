"""A real browser for the tests of pages: Debian's Chromium without a screen, driven by Playwright, with axe."""

from __future__ import annotations

import shutil
import unittest
from functools import cache
from importlib.util import find_spec
from pathlib import Path

_CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser")
_HAS_ALL = bool(_CHROMIUM and find_spec("playwright") and find_spec("axe_playwright_python"))
needs_browser = unittest.skipUnless(_HAS_ALL, "needs Chromium (apt-get install chromium) and Playwright")
_QUIET = (
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
)  # fmt: skip


@cache
def _axe() -> str:
    import axe_playwright_python

    return (Path(axe_playwright_python.__file__).parent / "axe.min.js").read_text("utf-8")


class BrowserTest(unittest.TestCase):
    """Tests with one browser; `open` gives a page, and what it complains of fails the test."""

    @classmethod
    def setUpClass(cls):
        from playwright.sync_api import sync_playwright

        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        cls.browser = playwright.chromium.launch(executable_path=_CHROMIUM, args=list(_QUIET))
        cls.addClassCleanup(cls.browser.close)

    def open(self, url, width=1280, height=800, scheme="light", **options):
        """Return an open page; anything that it says on the console, or asks of a network, fails the test."""
        context = self.browser.new_context(
            viewport={"width": width, "height": height}, color_scheme=scheme, **options
        )
        self.addCleanup(context.close)
        page = context.new_page()
        said: list[str] = []
        page.on("console", lambda message: said.append(message.text))
        page.on("pageerror", lambda error: said.append(str(error)))
        asked: list[str] = []
        page.on("request", lambda request: asked.append(request.url))
        page.goto(url)
        page.wait_for_selector("html[data-ready]")
        self.addCleanup(lambda: self.assertEqual(said, []))
        host = url.split("://", 1)[0] + "://" + url.split("://", 1)[1].split("/")[0]
        self.addCleanup(lambda: self.assertEqual([each for each in asked if not each.startswith(host)], []))
        return page

    def eventually(self, page, script):
        """Wait until a script says yes; the page's own policy forbids Playwright's way of waiting for that."""
        for _ in range(100):
            if page.evaluate(f"Boolean({script})"):
                return
            page.wait_for_timeout(50)
        self.fail(f"never came true: {script}")

    def assert_sound(self, page):
        """Check that nothing is wider than the window, and that axe finds no violation."""
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth - innerWidth"), 0)
        page.evaluate(_axe())
        found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")["violations"]
        self.assertEqual(
            [
                (each["id"], each["nodes"][0]["html"][:200], each["nodes"][0]["failureSummary"])
                for each in found
            ],
            [],
        )
