"""Choosing on a page: each choice a line of the layout, in a browser, until the page is closed."""

import http.client
import json
import re
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from tessaron import Layout, LayoutError, UsageError, shred
from tessaron.choosing.choosing_server import ChoosingServer
from tessaron.choosing.layout_choices import LayoutChoices
from tessaron.choosing.live_draft import LiveDraft
from tessaron.decide.drafting_run import draft
from tessaron.look.charting import chart_source
from tessaron.sources.demo.manifests import write_manifests
from tessaron.sources.demo.vessel_calls import iter_calls
from tests.browser import BrowserTest, needs_browser
from tests.harness import FolderTest, quick_command

CALLS = list(iter_calls(30))
ALL = "vessel_calls"


def drafted():
    return draft(iter(CALLS), name=ALL)


class ChoicesTest(unittest.TestCase):
    """What each choice writes into the layout."""

    def chosen(self, *choices, layout=None):
        made = LayoutChoices(layout or drafted(), drafted())
        for choice in choices:
            made.make(choice)
        return made.layout

    def test_each_choice_changes_its_lines_only(self):
        for choice, gone, new in (
            ({"do": "leave_out", "table": ALL, "column": "status"}, ["status "], []),
            ({"do": "rename", "table": ALL, "column": "eta", "to": "due"}, ["eta "], ['due = { path = "$.eta", type']),
            ({"do": "type", "table": ALL, "column": "status", "type": "uuid"}, ['"$.status", type = "text"'], ['"$.status", type = "uuid"']),
            ({"do": "keep", "table": ALL, "keep": "customs_cleared"}, [], ['keep = "customs_cleared"']),
            ({"do": "key", "table": ALL, "key": "call_id"}, [], ['key = ["call_id"]']),
            ({"do": "fold", "table": f"{ALL}_stays", "column": "berth", "fold": "joined", "into": ALL}, [], ['stays_berth_joined = { path = "$.stays[*].berth", fold = "joined", type = "text" }']),
            ({"do": "fold", "table": f"{ALL}_stays_moves", "column": "teu", "fold": "sum", "into": f"{ALL}_stays"}, [], ['moves_teu_sum = { path = "@.moves[*].teu", fold = "sum", type = "integer" }']),
            ({"do": "as_json", "table": f"{ALL}_stays_moves"}, ["[tables.vessel_calls_stays_moves]", "[tables.vessel_calls_stays_moves_seals]", "2,232"], ['moves = { path = "@.moves", type = "json" }']),
            ({"do": "as_json", "table": ALL, "path": "$.vessel"}, ["$.vessel.number", "$.vessel.name"], ['vessel = { path = "$.vessel", type = "json" }']),
            ({"do": "leave_table_out", "table": f"{ALL}_services"}, ["_services"], []),
            ({"do": "rename", "table": f"{ALL}_stays", "to": "stays"}, ["[tables.vessel_calls_stays]"], ["[tables.stays]"]),
        ):  # fmt: skip
            with self.subTest(choice):
                before = drafted().text
                text = re.sub(r" +", " ", self.chosen(choice).text)
                self.assertEqual([each for each in gone if each in text], [])
                self.assertEqual([each for each in new if each not in text], [])
                kept = [
                    line for line in before.splitlines() if line.startswith("#") and "services" not in line
                ]
                lost = [line for line in kept if re.sub(r" +", " ", line) not in text]
                self.assertLessEqual(len(lost), 3)

    def test_a_choice_taken_back_leaves_the_same_bytes(self):
        choices = LayoutChoices(drafted(), drafted())
        before = choices.layout.text
        choices.make({"do": "leave_out", "table": ALL, "column": "status"})
        choices.make({"do": "as_json", "table": f"{ALL}_stays"})
        after = choices.layout.text
        choices.take_back()
        choices.take_back()
        choices.take_back()
        self.assertEqual((choices.layout.text, choices.steps), (before, 0))
        choices.make_again()
        choices.make_again()
        choices.make_again()
        self.assertEqual((choices.layout.text, choices.steps), (after, 2))

    def test_what_was_left_out_comes_back_as_the_draft_has_it(self):
        for out, back in (
            (
                {"do": "leave_out", "table": ALL, "column": "status"},
                {"do": "take_in", "table": ALL, "column": "status"},
            ),
            ({"do": "as_json", "table": f"{ALL}_stays"}, {"do": "as_tables", "path": "$.stays"}),
            (
                {"do": "leave_table_out", "table": f"{ALL}_services"},
                {"do": "take_in", "table": f"{ALL}_services"},
            ),
        ):
            with self.subTest(out):
                made = self.chosen(out, back)
                for table in drafted().tables:
                    missing = (
                        drafted().columns(table).items() - made.columns(table).items()
                        if False
                        else [
                            name
                            for name, keys in drafted().columns(table).items()
                            if made.columns(table).get(name) != keys
                        ]
                    )
                    self.assertEqual(missing, [])
                self.assertEqual(made.remark(ALL, "status"), drafted().remark(ALL, "status"))

    def test_a_column_of_a_table_left_out_brings_the_table_back(self):
        made = self.chosen(
            {"do": "leave_table_out", "table": f"{ALL}_services"},
            {"do": "take_in", "table": f"{ALL}_services", "column": "fee"},
        )
        self.assertEqual(list(made.columns(f"{ALL}_services")), ["fee"])

    def test_xml_is_kept_as_a_column_too(self):
        with tempfile.TemporaryDirectory() as folder:
            layout = draft(write_manifests(Path(folder), 5))
        table = next(name for name in layout.tables if name.endswith("consignment"))
        made = LayoutChoices(layout, layout)
        made.make({"do": "as_json", "table": table})
        column = next(
            keys
            for each in made.layout.tables
            for keys in made.layout.columns(each).values()
            if keys.get("type") == "xml"
        )
        self.assertTrue(str(column["path"]).endswith("consignment"), column)
        made.make({"do": "as_tables", "path": layout.part.tables[table].rows})
        self.assertIn(table, made.layout.tables)

    def test_what_cannot_be_chosen_is_told_and_changes_nothing(self):
        for choice, error, said in (
            ({"do": "dance"}, UsageError, "expected one of"),
            ({"do": "leave_out", "table": ALL}, UsageError, "'column' is not said"),
            ({"do": "leave_out", "table": ALL, "column": "nothing"}, UsageError, "no column 'nothing'"),
            ({"do": "rename", "table": ALL, "column": "eta", "to": "status"}, UsageError, "already"),
            ({"do": "rename", "table": ALL, "column": "eta", "to": " "}, UsageError, "not empty"),
            ({"do": "type", "table": ALL, "column": "eta", "type": "moon"}, LayoutError, "moon"),
            ({"do": "keep", "table": ALL, "keep": "status =="}, LayoutError, "keep"),
            ({"do": "as_json", "table": ALL}, UsageError, "no place of its own"),
            ({"do": "as_json", "table": ALL, "path": "$.nothing"}, UsageError, "no column"),
            ({"do": "as_tables", "path": "$.stays"}, UsageError, "that the layout has not"),
            ({"do": "take_in", "table": "moons"}, UsageError, "no table 'moons'"),
            ({"do": "take_in", "table": "moons", "column": "x"}, UsageError, "no table 'moons'"),
            ({"do": "take_in", "table": ALL, "column": "moons"}, UsageError, "no column 'moons'"),
            ({"do": "as_json", "table": "moons", "path": "$.x"}, UsageError, "no table 'moons'"),
            (
                {"do": "fold", "table": f"{ALL}_stays", "column": "berth", "fold": "joined", "into": "moons"},
                UsageError,
                "no table 'moons'",
            ),
            (
                {"do": "fold", "table": "moons", "column": "berth", "fold": "joined", "into": ALL},
                UsageError,
                "no table 'moons'",
            ),
            (
                {"do": "fold", "table": ALL, "column": "status", "fold": "joined", "into": f"{ALL}_stays"},
                UsageError,
                "does not stand below",
            ),
            ({"do": "flatten", "table": "moons"}, UsageError, "no table 'moons'"),
            ({"do": "text", "text": "not toml ["}, LayoutError, "line 1"),
        ):
            with self.subTest(choice):
                choices = LayoutChoices(drafted(), drafted())
                with self.assertRaises(error) as caught:
                    choices.make(choice)
                self.assertIn(said, str(caught.exception))
                self.assertEqual((choices.layout.text, choices.steps), (drafted().text, 0))

    def test_the_last_table_stays(self):
        flat = self.chosen({"do": "flatten", "table": f"{ALL}_services"})
        only = Layout('[tables.a]\nrows = "$"\n[tables.a.columns]\nx = { path = "$.x", type = "text" }\n')
        with self.assertRaisesRegex(UsageError, "the last table stays"):
            self.chosen({"do": "leave_table_out", "table": "a"}, layout=only)
        self.assertEqual(len(shred(iter(CALLS), layout=flat)), 1)

    def test_every_layout_on_the_way_runs(self):
        choices = LayoutChoices(drafted(), drafted())
        for choice in (
            {"do": "as_json", "table": f"{ALL}_stays_moves"},
            {"do": "keep", "table": ALL, "keep": "status != 'cancelled'"},
            {"do": "leave_out", "table": ALL, "column": "remarks"},
            {
                "do": "fold",
                "table": f"{ALL}_services",
                "column": "service",
                "fold": "count_distinct",
                "into": ALL,
            },
        ):
            choices.make(choice)
            tables = shred(iter(CALLS), layout=choices.layout)
            self.assertEqual(set(tables), set(choices.layout.tables))
        kept = [call for call in CALLS if call["status"] != "cancelled"]
        self.assertEqual(tables[ALL].num_rows, len(kept))
        self.assertEqual(
            json.loads(tables[f"{ALL}_stays"].column("moves")[0].as_py()), kept[0]["stays"][0]["moves"]
        )


class ServedTest(FolderTest):
    """What the server answers, and whom it does not."""

    def setUp(self):
        super().setUp()
        feed = self.write("calls.ndjson", "".join(json.dumps(call) + "\n" for call in CALLS))
        self.file = self.folder / "my.layout.toml"
        self.live = LiveDraft(chart_source(str(feed)), None, str(self.file), "calls.ndjson")
        self.server = ChoosingServer(self.live)
        self.thread = threading.Thread(target=self.server.serve_until_closed)
        self.thread.start()
        self.addCleanup(self.thread.join, 10)
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)

    def ask(self, method, path, body=None, **headers):
        link = http.client.HTTPConnection("127.0.0.1", self.server.server_port, timeout=10)
        self.addCleanup(link.close)
        link.request(method, path, None if body is None else json.dumps(body), headers)
        answer = link.getresponse()
        return answer.status, answer.read().decode()

    def test_only_who_has_the_token_is_answered(self):
        own = f"/{self.server.token}/"
        save = {"do": "save"}
        for method, path, body, headers, status in (
            ("GET", own, None, {}, 200),
            ("GET", "/", None, {}, 404),
            ("GET", f"/{'x' * len(self.server.token)}/", None, {}, 404),
            ("GET", own, None, {"Host": "office.example"}, 404),
            ("GET", own + "../../etc/passwd", None, {}, 404),
            ("POST", "/choose", save, {}, 404),
            ("POST", own + "choose", save, {"Origin": "http://office.example"}, 404),
            ("POST", own + "choose", save, {"Host": "office.example"}, 404),
            ("POST", own + "choose", [1], {}, 422),
            ("POST", own + "choose", {"do": "leave_out"}, {}, 422),
        ):
            with self.subTest(path, headers=headers):
                self.assertEqual(self.ask(method, path, body, **headers)[0], status)
        self.assertFalse(self.file.exists())
        self.assertEqual(self.server.server_address[0], "127.0.0.1")

    def test_a_choice_is_answered_with_all_that_it_changes(self):
        status, text = self.ask(
            "POST",
            f"/{self.server.token}/choose",
            {"do": "keep", "table": "calls", "keep": "status == 'cancelled'"},
        )
        state = json.loads(text)
        self.assertEqual(status, 200)
        cancelled = sum(call["status"] == "cancelled" for call in CALLS)
        self.assertEqual({each["name"]: each["rows"] for each in state["tables"]}["calls"], cancelled)
        lines = state["text"].splitlines()
        self.assertEqual([lines[number] for number in state["changed"]], ["keep = \"status == 'cancelled'\""])
        self.assertEqual((state["saved"], state["steps"], self.file.exists()), (False, 1, False))
        self.ask("POST", f"/{self.server.token}/choose", {"do": "save"})
        self.assertEqual(self.file.read_text("utf-8"), state["text"])

    def test_what_would_be_rejected_is_told(self):
        _, text = self.ask(
            "POST",
            f"/{self.server.token}/choose",
            {"do": "type", "table": "calls", "column": "status", "type": "date"},
        )
        self.assertIn("calls.status", json.loads(text)["problems"][0])

    @mock.patch("tessaron.choosing.choosing_server._GRACE_SECONDS", 0.2)
    @mock.patch("tessaron.choosing.choosing_server._BEAT_SECONDS", 0.1)
    def test_it_ends_when_the_page_is_closed(self):
        link = http.client.HTTPConnection("127.0.0.1", self.server.server_port, timeout=10)
        link.request("GET", f"/{self.server.token}/watch")
        answer = link.getresponse()
        self.assertEqual(answer.read(2), b": ")
        self.assertTrue(self.thread.is_alive())
        answer.close()
        link.close()
        self.thread.join(10)
        self.assertFalse(self.thread.is_alive())


class ServeCommandTest(FolderTest):
    def test_it_says_where_and_how_it_ended(self):
        feed = self.write("calls.ndjson", "".join(json.dumps(call) + "\n" for call in CALLS))
        arguments = [
            sys.executable,
            "-m",
            "tessaron",
            "draft",
            str(feed),
            "--serve",
            "-o",
            str(self.folder / "l.toml"),
        ]
        running = subprocess.Popen(arguments, stderr=subprocess.PIPE, text=True)
        self.addCleanup(running.stderr.close)
        first = running.stderr.readline()
        self.assertRegex(first, r"choose on http://127\.0\.0\.1:\d+/[\w-]{20,}/")
        running.stderr.readline()
        time.sleep(0.1)
        running.send_signal(signal.SIGINT)
        rest = running.stderr.read()
        self.assertEqual(running.wait(20), 0)
        self.assertIn("nothing was chosen, and nothing saved", rest)

    def test_wrong_uses_are_told_before_anything_is_read(self):
        there = self.write("there.toml", "")
        for arguments, said in (
            (("--serve",), "-o FILE, or --update FILE"),
            (("--serve", "-o", there), "is there already"),
            (("--serve", "-o", "x.toml", "--why"), "one of them at a time"),
            (("--serve", "--update", self.folder / "no.toml"), "cannot be read"),
            (("--serve", "-o", self.folder / "no" / "l.toml"), "there is no folder"),
            (("--serve", "-o", self.folder), "it is a folder"),
        ):
            with self.subTest(said):
                done = quick_command("draft", "no such source.json", *arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(said, done.stderr.decode())

    def test_a_port_that_is_taken_is_told(self):
        feed = self.write("calls.ndjson", json.dumps(CALLS[0]) + "\n")
        with socket.create_server(("127.0.0.1", 0)) as taken:
            port = taken.getsockname()[1]
            done = quick_command("draft", feed, "--serve", "-o", self.folder / "l.toml", "--port", port)
        self.assertEqual(done.returncode, 2)
        self.assertIn(f"port {port}: Address already in use; without --port".encode(), done.stderr)


@needs_browser
class ChoosingInBrowserTest(BrowserTest):
    def setUp(self):
        holder = FolderTest()
        holder.setUp()
        self.addCleanup(holder.doCleanups)
        feed = holder.write("calls.ndjson", "".join(json.dumps(call) + "\n" for call in CALLS))
        self.file = holder.folder / "my.layout.toml"
        self.live = LiveDraft(chart_source(str(feed)), None, str(self.file), "calls.ndjson")
        self.server = ChoosingServer(self.live)
        thread = threading.Thread(target=self.server.serve_until_closed)
        thread.start()
        self.addCleanup(thread.join, 10)
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)

    def test_a_person_chooses_and_saves(self):
        page = self.open(self.server.url)
        page.locator(".tree tbody tr", has_text="status").first.locator("td").first.click()
        page.locator("#detail").get_by_role("button", name="Leave out").click()
        self.eventually(page, "!document.querySelector('#live pre').textContent.includes('$.status')")
        page.locator("#detail").get_by_role("button", name="Take in").click()
        self.eventually(page, "document.querySelector('#live pre').textContent.includes('$.status')")
        page.locator("#detail").get_by_label("name").fill("state")
        page.locator("#detail").get_by_role("button", name="Rename").click()
        self.eventually(page, "document.querySelector('#live .changed').textContent.startsWith('state')")
        page.locator('.box[data-table="calls_stays"]').click()
        page.locator("#table-detail").get_by_label("rows where").fill("berth == 'N1'")
        page.locator("#table-detail").get_by_role("button", name="Filter").click()
        self.eventually(page, "document.querySelector('#live pre').textContent.includes('keep')")
        self.assert_sound(page)
        page.locator("#table-detail").get_by_role("button", name="Leave this table out").click()
        self.eventually(page, "!document.querySelector('.box[data-table=calls_stays]')")
        page.click("#take-back")
        page.wait_for_selector('.box[data-table="calls_stays"]')
        page.click("#save")
        self.eventually(page, "document.querySelector('#live .state').textContent.startsWith('saved in')")
        layout = Layout.read(self.file)
        self.assertEqual(layout.part.tables["calls_stays"].keep, "berth == 'N1'")
        self.assertIn("state", layout.columns("calls"))

    def test_the_text_is_edited_and_mistakes_are_told_beside_it(self):
        page = self.open(self.server.url + "#path=%24.eta", width=390)
        page.get_by_role("button", name="Edit the text").click()
        area = page.locator("#live textarea")
        area.fill(area.input_value().replace('"$.eta", type = "timestamp_tz"', '"$.eta", type = "text"'))
        page.get_by_role("button", name="Use this text").click()
        self.eventually(
            page,
            "document.querySelector('#live pre') && document.querySelector('#live .changed').textContent.startsWith('eta')",
        )
        self.assert_sound(page)


if __name__ == "__main__":
    unittest.main()
