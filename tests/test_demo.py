"""The demo and the data it is made of."""

import json
import re
import shlex
import subprocess
import sys
import unittest
from datetime import datetime
from decimal import Decimal
from pathlib import Path

import tessaron
from tessaron.cli.walkthrough.demo_walkthrough import answer_from_documents, masked_by
from tessaron.sources.demo.harbour_log import CALLS_LAYOUT, LOG_LAYOUT, write_log
from tessaron.sources.demo.vessel_calls import call_line, iter_calls, write_calls
from tests.harness import FolderTest, command, quick_command
from tests.page_sessions import demo_in_short

ROOT = Path(__file__).parents[1]
EXAMPLES = ROOT / "examples"
PAGES = (ROOT / "README.md", *(ROOT / "docs").glob("*.md"))


class DemoTest(FolderTest):
    def test_the_whole_example(self):
        done = command("demo", "--all", "--into", self.folder / "my demo")
        text = done.stdout.decode()
        self.assertEqual((done.returncode, done.stderr), (0, b""))
        self.assertIn("note: $.inspections[*]: envelope", text)
        self.assertIn(f"{shlex.quote(sys.executable)} -m tessaron export", text)
        self.assertIn("The tables and the documents give the same answer.", text)
        for number in range(1, 18):
            self.assertRegex(text, rf"(?m)^{number}\. ")
        self.assertNotRegex(text, r"(?m) $")
        self.check_next_steps(text.split("What to try next:\n")[1])

    def check_next_steps(self, text):
        """Run the lines that can be pasted, in this process where they need no shell."""
        own = f"{shlex.quote(sys.executable)} -m tessaron "
        for line in text.strip().splitlines():
            if "50000" in line or "large" in line or "demo --step" in line:
                continue
            with self.subTest(line):
                if line.strip().startswith(own) and not set(line) & set("|>&"):
                    done = quick_command(*shlex.split(line.strip().removeprefix(own)))
                else:
                    done = subprocess.run(line, shell=True, capture_output=True, timeout=120, check=False)
                said = re.sub(
                    rb"(?m)^(tessaron: (read the first|not met in these records:|\d+ of|.*mine.layout.toml:) .*|note: could be .*)\n",
                    b"",
                    done.stderr,
                )
                self.assertEqual((done.returncode, said), (0, b""))

    def test_in_short_every_step_is_told_in_a_few_lines(self):
        text = demo_in_short()
        steps = re.split(r"(?m)^\d+\. ", text.split("Each step with all")[0])[1:]
        self.assertEqual(len(steps), 17)
        self.assertLess(max(len(step.strip().splitlines()) for step in steps), 9)
        self.assertIn("→ identical: 400 records compared", text)
        self.assertIn("tessaron demo --step 8 --into .", text.split("What to try next:\n")[1])

    def test_one_step_is_told_whole_and_nothing_else(self):
        text = command("demo", "--step", 12, "--into", self.folder / "d").stdout.decode()
        self.assertEqual(re.findall(r"(?m)^\d+\. ", text), ["12. "])
        self.assertIn("sums of the receipt", text)
        self.assertNotIn("What to try next", text)
        self.assertEqual(command("demo", "--step", 18).returncode, 2)

    def test_only_data(self):
        done = command("demo", "--records", 25, "--into", self.folder)
        self.assertIn(b"25 vessel calls", done.stdout)
        self.assertEqual([path.name for path in self.folder.iterdir()], ["vessel_calls.ndjson"])
        self.assertEqual(len((self.folder / "vessel_calls.ndjson").read_text("utf-8").splitlines()), 25)

    def test_the_data_has_what_the_harbour_has(self):
        lines = [call_line(call) for call in iter_calls(400)]
        self.assertEqual(lines, [call_line(call) for call in iter_calls(400)])
        calls = [json.loads(line) for line in lines]
        remarks = {str(call.get("remarks", "missing")) for call in calls}
        self.assertLessEqual({"missing", "None", ""}, remarks)
        self.assertRegex("".join(remarks), '"quiet"')
        self.assertTrue(any("\n" in text for text in remarks) and any("Лоцман" in text for text in remarks))
        self.assertTrue(re.search(r'"fee": \d+\.\d0\b', "".join(lines)), "amounts keep their digits")
        self.assertEqual([index for index, call in enumerate(calls) if "quarantine_flag" in call], [399])
        tables = tessaron.shred(calls, name="calls")
        self.assertEqual(len(tables), 7)
        self.assertEqual(tables.parent("calls_stays_moves_seals"), "calls_stays_moves")


class ExamplesTest(FolderTest):
    def test_each_program_does_what_it_says(self):
        for name, said in (
            ("berth_hours", "N1"),
            ("layout_in_python", "moves; filtered"),
            ("every_night", "again: 0 new, 3 known: nothing to do"),
            ("gate_before_loading", "wednesday.ndjson: refused\n  $.agent: "),
            ("proof_for_the_auditor", "after an accident: False, 1 record differs"),
        ):
            with self.subTest(name):
                script = EXAMPLES / f"{name}.py"
                done = subprocess.run([sys.executable, script], capture_output=True, text=True, check=False)
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertIn(said, done.stdout)
        self.assertEqual({path.stem for path in EXAMPLES.glob("*.py")} - set(self.named()), set())

    def named(self):
        """Return the examples that the docs name."""
        return re.findall(r"examples/(\w+)\.", "".join(page.read_text("utf-8") for page in PAGES))

    def test_notebooks_run_from_top_to_bottom_and_show_what_they_say(self):
        import nbformat
        from nbclient import NotebookClient

        for name, shown in (("first_look", 3), ("proof", 4)):
            with self.subTest(name):
                book = nbformat.read(EXAMPLES / f"{name}.ipynb", as_version=4)
                self.assertEqual(
                    [cell for cell in book.cells if cell.get("outputs")], [], "kept without outputs"
                )
                NotebookClient(book, timeout=120, kernel_name="python3").execute()
                outputs = [each for cell in book.cells for each in cell.get("outputs", ())]
                self.assertEqual([each for each in outputs if each["output_type"] == "error"], [])
                forms = [
                    each
                    for each in outputs
                    if 'class="tessaron"' in each.get("data", {}).get("text/html", "")
                ]
                self.assertGreaterEqual(len(forms), shown - 1)
                if name == "first_look":
                    self.assertTrue(any("image/png" in each.get("data", {}) for each in outputs))

    def test_berth_hours_gives_the_answer_of_the_documents(self):
        calls = write_calls(self.folder, 120)
        script = Path(__file__).parents[1] / "examples" / "berth_hours.py"
        done = subprocess.run([sys.executable, script, calls], capture_output=True, text=True, check=True)
        expected = {berth: f"{hours:,.1f}" for berth, hours, _ in answer_from_documents(calls)}
        self.assertEqual(dict(line.split() for line in done.stdout.splitlines()), expected)

    def test_the_layout_made_in_python_keeps_what_was_not_cancelled(self):
        calls = write_calls(self.folder, 120)
        script = Path(__file__).parents[1] / "examples" / "layout_in_python.py"
        done = subprocess.run([sys.executable, script, calls], capture_output=True, text=True, check=True)
        documents = [json.loads(line) for line in calls.read_text("utf-8").splitlines()]
        kept = [call for call in documents if call["status"] != "cancelled"]
        moves = sum(len(stay["moves"]) for call in kept for stay in call["stays"])
        self.assertIn(f"{moves:,} moves; filtered: {{'calls': {len(documents) - len(kept)}", done.stdout)


class ReadmeTest(unittest.TestCase):
    def test_the_commands_and_pictures_named_exist(self):
        root = Path(__file__).parents[1]
        readme = (root / "README.md").read_text("utf-8")
        links = re.findall(r"\]\(((?!http)[^)#]+)", readme)
        self.assertTrue(links)
        for link in links:
            with self.subTest(link):
                self.assertTrue((root / link).exists())
        for name in set(re.findall(r"tessaron ([a-z]+)", readme)) & {"export", "demo"}:
            self.assertEqual(command(name, "--help").returncode, 0)


def load_tests(loader, tests, pattern):
    import doctest

    tests.addTests(doctest.DocTestSuite(tessaron))
    return tests


class LayoutsOfTheDemoTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.calls, self.log = write_calls(self.folder), write_log(self.folder)

    def tables(self, source, layout):
        with masked_by("a secret"):
            return tessaron.shred(source, layout=tessaron.Layout.read(self.folder / layout))

    def test_the_calls_come_out_as_the_layout_says(self):
        tables = self.tables(self.calls, CALLS_LAYOUT)
        calls = [json.loads(line) for line in self.calls.read_text("utf-8").splitlines()]
        kept = [call for call in calls if call["status"] != "cancelled"]
        moves = [(c, s, m) for c in kept for s in c["stays"] for m in s["moves"] if m["kind"] != "restow"]
        rows = tables["calls"].to_pylist()
        self.assertEqual([row["call_id"] for row in rows], [call["call_id"] for call in kept])
        for row, call in zip(rows, kept, strict=True):
            teu = [m["teu"] for c, _, m in moves if c is call]
            phones = [*call["agent"]["contact"]["phones"], None, None]
            fees = sum(Decimal(str(service["fee"])) for service in call["services"])
            self.assertEqual(row["teu"], sum(teu) if teu else None)
            self.assertEqual(row["services"], len(call["services"]))
            self.assertEqual(row["fees"], fees)
            self.assertEqual([row["phone_1"], row["phone_2"]], phones[:2])
            self.assertEqual(row["berths"], " > ".join(stay["berth"] for stay in call["stays"]) or None)
            self.assertEqual(json.loads(row["ship"]), call["vessel"])
            self.assertEqual(row["weekday"], datetime.fromisoformat(call["eta"]).strftime("%A"))
        self.assertEqual(
            tables["moves"]["container"].to_pylist(), [move["container"] for _, _, move in moves]
        )
        self.assertEqual(
            tables["moves"]["berth"].to_pylist(), [stay["berth"].replace("007", "N7") for _, stay, _ in moves]
        )
        emails = {call["agent"]["contact"].get("email") for call in kept} - {None}
        self.assertEqual(len(set(tables["calls"]["email"].to_pylist()) - {None}), len(emails))
        self.assertEqual(tables.findings, ())

    def test_the_log_is_understood(self):
        tables = self.tables(self.log, LOG_LAYOUT)
        days = [json.loads(line) for line in self.log.read_text("utf-8").splitlines()]
        for row, day in zip(tables["days"].to_pylist(), days, strict=True):
            self.assertEqual(row["day"].strftime("%d/%m/%Y"), day["entry"]["written"]["day"])
            self.assertEqual(row["since"].strftime("%H%M"), day["watch"][1]["since"])
            self.assertEqual(row["dues"], Decimal(day["dues"].replace(".", "").replace(",", ".")))
            self.assertEqual(row["sealed"], day["sealed"] == "J")
            self.assertEqual(int(row["closed_at"].timestamp()), day["closed_at"])
            signals = day["signals"].split("|")
            self.assertEqual(
                [row[f"signal_{s}"] for s in ("fog", "gale", "ice")],
                [s in signals for s in ("fog", "gale", "ice")],
            )
            force = [name["name"] for name in day["wind"]["columns"]].index("force")
            strongest = max(wind[force] for wind in day["wind"]["rows"])
            self.assertEqual(
                (row["strongest"], row["rough"]), (strongest, strongest >= 8 or "gale" in signals)
            )
            seen = day["visibility"].strip().lower()
            self.assertEqual(row["visibility"], None if seen == "n/a" else seen)
        self.assertEqual(tables["tides"].num_rows, sum(len(day["tide"]["time"]) for day in days))
        notices = [json.loads(day["notice"]) for day in days if day["notice"] != "see the board"]
        self.assertEqual(tables["berth_closures"].num_rows, sum(len(notice["items"]) for notice in notices))
        self.assertEqual(tables["masters"]["role"].to_pylist(), ["relieved", "relieved_by"] * len(days))
        found = {each.code: each.count for each in tables.findings}
        self.assertEqual(found["embedded"], len(days) - len(notices))
        self.assertEqual(found["unequal_lengths"], sum(len(day["tide"]["level_m"]) < 4 for day in days))
        self.assertEqual(set(found), {"embedded", "beyond", "unequal_lengths"})

    def test_records_are_chosen_and_flat_tables_made_of_the_calls(self):
        calls = [json.loads(line) for line in self.calls.read_text("utf-8").splitlines()]
        feed = self.folder / "feed.json"
        feed.write_text(json.dumps({"office": "Brackwater", "calls": calls}), "utf-8")
        layout = '[reading]\nrecords = "{}"\n[tables.calls]\nrows = "$"\n[tables.calls.columns]\nid = {{ path = "$.call_id", type = "text" }}'
        for path, wanted in (
            ("$.calls[?@.status == 'departed']", [call for call in calls if call["status"] == "departed"]),
            ("$.calls[0:2]", calls[:2]),
        ):
            tables = tessaron.shred(feed, layout=tessaron.Layout(layout.format(path)))
            self.assertEqual(tables["calls"]["id"].to_pylist(), [call["call_id"] for call in wanted])
        stays = sum(max(len(call["stays"]), 1) for call in calls)
        pairs = sum(len(call["stays"]) * len(call["services"]) for call in calls)
        only = ["call_id", "berth", "service"]
        flat = tessaron.shred(self.calls, flat="$.stays[*]", with_empty=True, only=only)
        self.assertEqual(flat["vessel_calls_stays"].num_rows, stays)
        both = tessaron.shred(self.calls, flat="$.stays[*]", times=["$.services[*]"], only=only)
        self.assertEqual(both["vessel_calls_stays"].num_rows, pairs)
        self.assertEqual(both["vessel_calls_stays"].column_names, ["row_key", "call_id", "service", "berth"])
