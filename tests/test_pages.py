"""Pages: one file for browsers, as a command writes it and as a person uses it, in a real browser."""

import json
import re
import tempfile
import unittest
from pathlib import Path
from urllib.parse import quote

import tessaron
from tessaron.sources.demo.harbour_events import write_events
from tessaron.sources.demo.harbour_log import write_log
from tessaron.sources.demo.inspections import write_inspections
from tessaron.sources.demo.manifests import write_manifests
from tessaron.sources.demo.vessel_calls import iter_calls
from tessaron.views.survey_outline import percent
from tests.browser import BrowserTest, needs_browser
from tests.harness import FolderTest, quick_command

HOSTILE = "</script><img src=x onerror=alert(1)>&\"'\u202e\u2028"


def data_of(text):
    """Return the data of a page that is not packed."""
    return json.loads(
        re.search(r'<script type="application/json" id="data">(.*?)</script>', text, re.DOTALL)[1]
    )


class PageFileTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.feed = self.folder / "calls.ndjson"
        self.feed.write_text("".join(json.dumps(call) + "\n" for call in iter_calls(60)))

    def page(self, *arguments):
        file = self.folder / "page.html"
        done = quick_command(*arguments, "--page", file)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        self.assertIn(b"page.html: open it in a browser", done.stderr)
        return file.read_text("utf-8")

    def test_every_command_that_finds_something_writes_a_page_of_it(self):
        tables, base = self.folder / "t", f"sqlite:///{self.folder / 'c.db'}"
        for arguments, words in (
            (("survey", self.feed), ["60 records", "unique", "calls_stays_moves"]),
            (("draft", self.feed), ["would come out", "calls_stays"]),
            (
                ("export", self.feed, "-o", tables),
                ["nothing rejected", "Records through the steps", "tessaron verify"],
            ),
            (("load", self.feed, "--to", base), ["nothing rejected", "sqlite in"]),
            (
                ("load", tables, "--to", f"sqlite:///{self.folder / 'copy.db'}"),
                ["nothing rejected", "BRW-0000001"],
            ),
            (("verify", tables), ["identical: 60 records compared", "primary key", "BRW-0000001"]),
            (("compare", tables, self.feed), ["no change"]),
            (("history", base), ["1 run, 60 records in all", "create"]),
        ):
            with self.subTest(arguments[0]):
                text = self.page(*arguments)
                self.assertEqual([word for word in words if word not in text], [])
                self.assertNotRegex(text, r"(src|href)=\"?https?:")

    def test_a_page_counts_what_its_receipt_counts(self):
        layout = self.folder / "l.toml"
        quick_command("draft", self.feed, "-o", layout)
        layout.write_text(
            layout.read_text("utf-8").replace('rows = "$"', 'rows = "$"\nkeep = "status != \'cancelled\'"', 1)
        )
        text = self.page("export", self.feed, "--layout", layout, "-o", self.folder / "t")
        receipt = json.loads((self.folder / "t" / "receipt.json").read_text("utf-8"))
        shown = {table["name"]: table for table in data_of(text)["tables"]}
        self.assertEqual(
            {name: table["rows"] for name, table in shown.items()},
            {table["name"]: table["rows"] for table in receipt["tables"]},
        )
        filled = {each["name"]: each["written"] for each in receipt["balance"] if each["what"] == "values"}
        counted = {
            f"{name}.{column[0]}": column[5]
            for name, table in shown.items()
            for column in table["columns"]
            if column[5] is not None
        }
        self.assertEqual(counted, filled)
        self.assertEqual(
            [len(table["first"]) for table in shown.values()],
            [min(8, table["rows"]) for table in shown.values()],
        )

    def test_every_path_with_values_leads_to_its_column_and_back(self):
        for write in (write_inspections, write_manifests, write_events, write_log):
            source = write(self.folder)
            with self.subTest(source.name):
                data = data_of(self.page("survey", source))
                containers = {"object", "array", "null", "object | array"}
                leading = {column[3] for table in data["tables"] for column in table["columns"]}
                lost = [
                    row[1]
                    for place, row in enumerate(data["paths"])
                    if row[5] not in containers and place not in leading
                ]
                self.assertEqual(lost, [])
                tables = {table["name"]: table for table in data["tables"]}
                around = {name for name in tables if tables[name]["path"] == ""}
                for name in tables.keys() - around:
                    for column in tables[name]["columns"]:
                        if column[2] != "key" and column[3] < 0:
                            self.assertIn(column[0], {"document_key", "depth", "row_rest", "key"})
                self.assertEqual([len(table["first"]) > 0 for table in data["tables"]], [True] * len(tables))

    def test_paths_of_a_page_are_those_of_the_survey(self):
        for write in (write_inspections, write_manifests, write_events):
            source = write(self.folder)
            with self.subTest(source.name):
                rows = data_of(self.page("survey", source))["paths"]
                above, paths = [], []
                for row in rows:
                    del above[row[0] :]
                    whole = row[2][0] if isinstance(row[2], list) else (above[-1] if above else "") + row[2]
                    above.append(whole)
                    paths.append(whole)
                self.assertEqual(paths, [entry.path for entry in tessaron.survey(source).entries])

    def test_a_page_through_a_layout_tells_what_is_left_out(self):
        layout = self.folder / "l.toml"
        text = tessaron.draft(self.feed).remove_columns("calls", "status").text
        layout.write_text(text, "utf-8")
        data = data_of(self.page("survey", self.feed, "--layout", layout))
        status = next(place for place, row in enumerate(data["paths"]) if row[1] == "status")
        columns = [column for table in data["tables"] for column in table["columns"]]
        self.assertNotIn(status, [column[3] for column in columns])
        self.assertEqual([table["first"] for table in data["tables"]], [[]] * len(data["tables"]))
        exported = self.page("export", self.feed, "--layout", layout, "-o", self.folder / "t")
        self.assertIn("60 values left out by the layout", exported)
        self.assertRegex(exported, r'(?s)id="left-out".*\$\.status.*>60<')

    def test_rejects_and_differences_are_told_with_their_places(self):
        feed = self.write("odd.ndjson", '{"a":1,"b":"x"}\nnot json\n{"a":2,"b":"y"}\n')
        exported = self.page("export", feed, "-o", self.folder / "odd", "--key", "b")
        for words in ("1 record rejected", "odd.ndjson, line 2", "not json", "is a key"):
            self.assertIn(words, exported)
        feed.write_text('{"a":1,"b":"x"}\n{"a":3,"b":"y"}\n', "utf-8")
        verified = self.page("verify", self.folder / "odd", feed)
        for words in ("not identical", "record 2", "<code>3</code>", "<code>2</code>"):
            self.assertIn(words, verified)
        compared = self.page("compare", self.folder / "odd", self.write("new.ndjson", '{"a":"t","b":[1]}\n'))
        for words in ("would break the tables", "breaks", "$.b"):
            self.assertIn(words, compared)

    def test_what_stands_in_the_data_stays_text(self):
        self.feed.write_text(json.dumps({HOSTILE: HOSTILE, "list": [{HOSTILE: 1}]}) + "\n")
        for arguments in (
            ("survey", self.feed),
            ("export", self.feed, "-o", self.folder / "t"),
            ("compare", self.feed, self.feed),
        ):
            with self.subTest(arguments[0]):
                text = self.page(*arguments)
                self.assertNotIn("<img", text)
                self.assertNotIn("\u202e", text)

    def test_bad_places_and_wrong_uses_are_told(self):
        for arguments, said in (
            (("survey", self.feed, "--page", self.folder), "the page cannot be written"),
            (("survey", self.feed, "--page", self.folder / "no" / "p.html"), "the page cannot be written"),
            (("draft", self.feed, "--update", "x.toml", "--page", "p.html"), "survey --layout FILE --page"),
        ):
            with self.subTest(said):
                done = quick_command(*arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(said, done.stderr.decode())
        quick_command("export", self.feed, "-o", self.folder / "t", "--page", self.folder / "no" / "p.html")
        self.assertFalse((self.folder / "t").exists(), "told before anything is done")

    def test_a_growing_folder_and_a_ledger_have_pages_too(self):
        ledger, tables = self.folder / "ledger.db", self.folder / "grown"
        text = self.page("export", self.feed, "-o", tables, "--ledger", ledger)
        self.assertIn("60 records in", text)
        self.assertEqual(data_of(text)["tables"][0]["first"][0][1], "BRW-0000001")
        base = f"sqlite:///{self.folder / 'kept.db'}"
        arguments = ("load", self.feed, "--to", base, "--ledger", base, "--mode", "append")
        self.assertIn("60 records in", self.page(*arguments))
        (self.folder / "page.html").unlink()
        done = quick_command(*arguments, "--page", self.folder / "page.html")
        self.assertIn(b"no page was written", done.stderr)
        self.assertFalse((self.folder / "page.html").exists())

    def test_three_thousand_paths_are_less_than_a_megabyte(self):
        groups = {f"group_{g}": {f"field_{g}_{k}": f"value {k} of {g}" for k in range(50)} for g in range(60)}
        self.feed.write_text("".join(json.dumps({**groups, "odd": [n]}) + "\n" for n in range(5)))
        text = self.page("survey", self.feed)
        self.assertIn("3,063 paths", text)
        self.assertLess(len(text.encode()), 1_000_000)

    def test_a_page_says_how_many_rows_of_a_sheet_it_does_not_show(self):
        many = self.folder / "many"
        many.mkdir()
        for number in range(503):
            (many / f"c{number:03}.json").write_text(f'{{"a": {number}}}')
        text = self.page("export", many, "-o", self.folder / "t")
        self.assertIn("and 3 more, in receipt.json", text)
        self.assertIn("c499.json", text)
        self.assertNotIn("c502.json", text)


@needs_browser
class PageInBrowserTest(BrowserTest):
    """What a person does with a page, and what a checker for accessibility says of it."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        holder = tempfile.TemporaryDirectory(prefix="tessaron-pages-")
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        feed = cls.folder / "calls.ndjson"
        feed.write_text("".join(json.dumps(call) + "\n" for call in iter_calls(60)))
        (cls.folder / "odd.ndjson").write_text(json.dumps({HOSTILE: [HOSTILE], "n": 1}) + "\nnot json\n")
        fields = [{f"f{g}_{k}": [k, f"v{k}", k / 7][(k + g) % 3] for k in range(30)} for g in range(60)]
        many = {
            f"g{g}": [each] if g % 3 else {"inner": each, "list": [each]} for g, each in enumerate(fields)
        }
        (cls.folder / "many.ndjson").write_text((json.dumps(many) + "\n") * 3)
        for name, *arguments in (
            ("survey", "survey", feed),
            ("export", "export", cls.folder / "odd.ndjson", "-o", cls.folder / "t"),
            ("history", "history", cls.folder / "t"),
            ("many", "survey", cls.folder / "many.ndjson"),
        ):
            quick_command(*arguments, "--page", cls.folder / f"{name}.html")

    def shown(self, name, place="", **options):
        return self.open((self.folder / f"{name}.html").as_uri() + place, **options)

    def test_no_violation_at_any_size_by_day_and_night(self):
        for name, width, scheme in (
            ("survey", 1280, "light"),
            ("export", 1280, "dark"),
            ("export", 390, "light"),
            ("history", 390, "dark"),
        ):
            with self.subTest(name, width=width, scheme=scheme):
                self.assert_sound(self.shown(name, width=width, scheme=scheme))
        wide = "document.documentElement.scrollWidth - innerWidth"
        for name, width in (("survey", 768), ("many", 390), ("many", 1280)):
            self.assertLessEqual(self.shown(name, width=width).evaluate(wide), 0)

    def test_what_is_chosen_is_as_sound(self):
        for width, scheme in ((1280, "dark"), (390, "light")):
            place = "#path=" + quote("$.stays[*].moves[*].container")
            page = self.shown("survey", place, width=width, scheme=scheme)
            self.assertIn("almost unique", page.inner_text("#detail"))
            page.locator('.box[data-table="calls_stays"]').focus()
            page.keyboard.press("Enter")
            self.assert_sound(page)

    def test_search_finds_by_path_type_value_and_note(self):
        page = self.shown("survey")
        for text, found, told in (
            ("container", "container", "1 of"),
            ("timestamp", "eta", "of 43"),
            ("restow", "kind", "1 of"),
            ("almost unique", "container", "of 43"),
            ("moves crane", "crane", "1 of"),
            ("no such thing", None, "none of 43 paths has this"),
        ):
            with self.subTest(text):
                page.fill("#search", text)
                self.assertIn(told, page.inner_text("#found"))
                names = page.locator(".tree tbody tr td:first-child").all_inner_texts()
                self.assertTrue(found is None or any(name.strip(" ✱") == found for name in names), names)
        page.keyboard.press("Escape")
        self.assertEqual(page.inner_text("#found"), "43 paths")

    def test_shares_are_those_of_the_terminal(self):
        page = self.shown("survey")
        shares = [0, 0.0025, 0.0015, 0.0003, 1 / 3, 0.8975, 0.99949, 0.9996, 1]
        self.assertEqual(page.evaluate("(shares) => shares.map(percent)", shares), [*map(percent, shares)])

    def test_the_tree_goes_by_keys(self):
        page = self.shown("survey")
        page.click("#close-all")
        self.assertEqual(page.locator(".tree tbody tr").count(), 1)
        page.locator(".tree tbody tr").focus()
        for key in ("ArrowRight", "ArrowRight", "ArrowDown", "Enter"):
            page.keyboard.press(key)
        self.assertIn("$.status", page.inner_text("#detail"))
        self.assertEqual(page.evaluate("document.activeElement.getAttribute('aria-selected')"), "true")
        page.keyboard.press("Home")
        page.keyboard.press("ArrowLeft")
        self.assertEqual(page.locator(".tree tbody tr").count(), 1)
        page.keyboard.press("/")
        self.assertEqual(page.evaluate("document.activeElement.id"), "search")

    def test_paths_lead_to_columns_and_back(self):
        page = self.shown("survey")
        page.fill("#search", "container")
        page.locator(".tree tbody tr", has_text="container").last.locator("td").first.click()
        page.locator("#detail a", has_text="container").click()
        self.assertIn("#table=calls_stays_moves", page.url)
        self.assertIn("calls_stays_moves", page.inner_text("#table-detail h3"))
        self.assertEqual(page.locator(".box.chosen").get_attribute("data-table"), "calls_stays_moves")
        page.locator("#table-detail a", has_text="$.stays[*].moves[*].kind").click()
        self.assertIn("$.stays[*].moves[*].kind", page.inner_text("#detail h3"))

    def test_notes_lead_to_their_place_and_commands_are_copied(self):
        page = self.shown("survey", permissions=["clipboard-read", "clipboard-write"])
        page.locator("#notes a", has_text="$.call_id").first.click()
        self.assertIn("unique", page.inner_text("#detail"))
        page.click("text=Copy: find it")
        self.assertRegex(
            page.evaluate("navigator.clipboard.readText()"),
            r"^tessaron find '.*calls\.ndjson' '\$\.call_id'$",
        )
        page.locator("#next button").first.click()
        self.assertIn("tessaron draft", page.evaluate("navigator.clipboard.readText()"))

    def test_the_diagram_is_zoomed_and_dragged(self):
        page = self.shown("survey")
        width = "document.querySelector('#chart svg').getBoundingClientRect().width"
        before = page.evaluate(width)
        page.click("[data-zoom=in]")
        page.click("[data-zoom=in]")
        self.assertGreater(page.evaluate(width), 1.4 * before)
        page.locator("#chart").scroll_into_view_if_needed()
        box = page.locator("#chart").bounding_box()
        page.mouse.move(box["x"] + 500, box["y"] + 300)
        page.mouse.down()
        page.mouse.move(box["x"] + 300, box["y"] + 200, steps=4)
        page.mouse.up()
        self.assertGreater(page.evaluate("document.getElementById('chart').scrollLeft"), 100)

    def test_lines_of_the_diagram_pass_through_no_box(self):
        for name in ("survey",):
            crossed = self.shown(name).evaluate(
                """() => { const boxes = [...document.querySelectorAll('#chart .box rect')].map((each) => each.getBBox());
                const inside = (p) => boxes.some((b) => p.x > b.x + 1 && p.x < b.x + b.width - 1 && p.y > b.y + 1 && p.y < b.y + b.height - 1);
                return [...document.querySelectorAll('#chart g.link > path:first-child')].filter((way) => {
                  for (let at = 0; at <= way.getTotalLength(); at += 3) if (inside(way.getPointAtLength(at))) return true;
                  return false; }).length; }"""
            )
            self.assertEqual(crossed, 0, name)

    def test_many_columns_fold_to_names(self):
        page = self.shown("many")
        self.assertIn("only names are drawn", page.inner_text("#diagram-told"))
        self.assertEqual(page.locator("#chart [data-column]").count(), 0)
        page.locator('.box[data-table="many_g7"]').click()
        self.assertIn("f7_29", page.inner_text("#table-detail"))

    def test_day_and_night_change_by_hand(self):
        page = self.shown("survey")
        colour = "getComputedStyle(document.body).backgroundColor"
        before = page.evaluate(colour)
        page.click("#light")
        self.assertNotEqual(page.evaluate(colour), before)


if __name__ == "__main__":
    unittest.main()
