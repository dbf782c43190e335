"""The demo and the data it is made of."""

import json
import re
import shlex
import subprocess
import sys
import unittest
from pathlib import Path

import tessaron
from tessaron.demo.generator import call_line, iter_calls, write_calls
from tessaron.demo.walkthrough import answer_from_documents
from tests.harness import FolderTest, command


class DemoTest(FolderTest):
    def test_the_whole_example(self):
        done = command("demo", "--into", self.folder / "my demo")
        text = done.stdout.decode()
        self.assertEqual((done.returncode, done.stderr), (0, b""))
        self.assertIn("note: $.inspections[*]: envelope", text)
        self.assertIn("The tables and the documents give the same answer.", text)
        for number in range(1, 10):
            self.assertRegex(text, rf"(?m)^{number}\. ")
        self.assertNotRegex(text, r"(?m) $")
        self.check_next_steps(text.split("What to try next:\n")[1])

    def check_next_steps(self, text):
        for line in text.strip().splitlines():
            if "50000" in line or "large" in line:
                continue
            with self.subTest(line):
                done = subprocess.run(line, shell=True, capture_output=True, timeout=120, check=False)
                said = re.sub(
                    rb"(?m)^(tessaron: (read the first|\d+ of|.*mine.layout.toml:) .*|note: could be .*)\n", b"", done.stderr
                )
                self.assertEqual((done.returncode, said), (0, b""))

    def test_the_commands_to_paste_name_this_tessaron(self):
        done = command("demo", "--into", self.folder / "d")
        self.assertIn(f"{shlex.quote(sys.executable)} -m tessaron export", done.stdout.decode())

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
    def test_berth_hours_gives_the_answer_of_the_documents(self):
        calls = write_calls(self.folder, 120)
        script = Path(__file__).parents[1] / "examples" / "berth_hours.py"
        done = subprocess.run([sys.executable, script, calls], capture_output=True, text=True, check=True)
        expected = {berth: f"{hours:,.1f}" for berth, hours, _ in answer_from_documents(calls)}
        self.assertEqual(dict(line.split() for line in done.stdout.splitlines()), expected)


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
