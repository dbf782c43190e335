"""The command line as a whole: help, versions, streams, and what every command does with bad input."""

import contextlib
import json
import os
import pty
import shlex
import subprocess
import sys
import unittest
from typing import ClassVar

import tessaron
from tessaron.cli.command_examples import EXAMPLES
from tessaron.sources.demo.vessel_calls import write_calls
from tests.harness import FolderTest, command, quick_command
from tests.page_sessions import make_world

COMMANDS = [
    "fetch",
    "survey",
    "find",
    "values",
    "compose",
    "sample",
    "draft",
    "estimate",
    "preview",
    "export",
    "load",
    "ddl",
    "verify",
    "rebuild",
    "compare",
    "watch",
    "history",
    "trace",
    "demo",
    "completion",
]


_AS_INSTALLED = "import sys; sys.argv = ['tessaron']; from tessaron.__main__ import main; main()"


def on_terminal(*arguments, **environment):
    """Return what a command shows where standard output is a terminal."""
    main, child = pty.openpty()
    known = {name: value for name, value in os.environ.items() if name not in ("NO_COLOR", "TERM")}
    with open(main, "rb", buffering=0) as screen:
        running = subprocess.Popen(
            [sys.executable, "-m", "tessaron", *map(str, arguments)],
            stdout=child,
            stderr=subprocess.DEVNULL,
            env={**known, **environment},
        )
        os.close(child)
        parts = []
        try:
            while part := screen.read(65536):
                parts.append(part)
        except OSError:
            pass
        running.wait()
    return b"".join(parts).decode()


class HelpTest(unittest.TestCase):
    def test_commands_stand_in_the_order_of_the_work(self):
        shown = command("--help").stdout.decode()
        lines = shown.split("Get data:\n")[1].splitlines()
        self.assertEqual([line.split()[0] for line in lines if line.startswith("  ")], COMMANDS)
        self.assertNotIn("...", "".join(lines), "every command says what it does in one whole line")

    def test_every_command_says_what_it_does(self):
        for name in COMMANDS:
            with self.subTest(name):
                done = command(name, "--help")
                self.assertEqual((done.returncode, done.stderr), (0, b""))
                self.assertIn(f"Usage: python -m tessaron {name}".encode(), done.stdout)
                self.assertGreater(len(done.stdout.splitlines()), 8)

    def test_what_is_typed_wrongly_is_told_in_one_line_as_all_errors_are(self):
        for arguments, said in (
            (("draft",), "tessaron: draft: missing argument 'SOURCE...'; see tessaron draft --help"),
            (
                ("export", "x"),
                "tessaron: export: missing option '-o' / '--output'; see tessaron export --help",
            ),
            (("survey", "x", "--depht", "1"), "tessaron: survey: no such option '--depht'"),
            (
                ("survy", "x"),
                "tessaron: no such command 'survy'. Did you mean 'survey'?; see tessaron --help",
            ),
            (
                ("draft", "x", "--serve"),
                "tessaron: draft: --serve saves into a file: -o FILE, or --update FILE",
            ),
            (("survey", "no such file.json"), "tessaron: no such file.json: cannot be read"),
        ):
            with self.subTest(arguments):
                done = quick_command(*arguments)
                self.assertEqual((done.returncode, done.stdout), (2, b""))
                self.assertTrue(done.stderr.decode().startswith(said), done.stderr)
                self.assertEqual(len(done.stderr.decode().splitlines()), 1)

    def test_a_command_that_is_none_is_told_what_may_be_meant(self):
        done = quick_command("exprot")
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"Did you mean 'export'?", done.stderr)

    def test_the_version(self):
        self.assertEqual(command("--version").stdout.decode(), f"tessaron {tessaron.__version__}\n")


class BadInputTest(FolderTest):
    """Every command that reads: a message with the place, no traceback, exit status 2, nothing written."""

    INPUTS: ClassVar = {
        "empty.json": (b"", "the source is empty"),
        "blank.json": (b" \n\n", "the source is empty"),
        "cut.json": (b'{"a":1,"b":[1,2', "line 1, byte 15, record 1, $.b[*]: the input ends here"),
        "latin.json": (b'{"a":"\xe9"}', "byte 0xE9 is not UTF-8"),
        "hello.txt": (b"hello world", "expected a value, found 'hello'"),
        "cut.json.gz": (b"\x1f\x8b\x08\x00\x00\x00\x00\x00", "the compressed data is broken or cut off"),
    }

    def arguments(self, name, path):
        return {
            "survey": [path],
            "find": [path, "$.a"],
            "values": [path],
            "preview": [path],
            "sample": [path, "-o", self.folder / "out.json"],
            "draft": [path, "-o", self.folder / "out"],
            "export": [path, "-o", self.folder / "out"],
        }[name]

    def test_each(self):
        for name in ("survey", "find", "values", "preview", "sample", "draft", "export"):
            for file, (content, message) in self.INPUTS.items():
                with self.subTest(command=name, file=file):
                    done = quick_command(name, *self.arguments(name, self.write(file, content)))
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(message, done.stderr.decode())
                    self.assertTrue(done.stderr.startswith(b"tessaron: "), done.stderr)
                    self.assertNotIn(b"Traceback", done.stderr)
                    self.assertFalse((self.folder / "out").exists() or (self.folder / "out.json").exists())

    def test_places_that_are_not_there(self):
        for name in ("survey", "find", "values", "preview", "sample", "draft", "export"):
            with self.subTest(name):
                done = quick_command(name, *self.arguments(name, self.folder / "nothing.json"))
                self.assertEqual(done.returncode, 2)
                self.assertIn(b"nothing.json: cannot be read: No such file", done.stderr)


class StreamsTest(FolderTest):
    def test_standard_input(self):
        data = b'{"a":[1,2]}\n{"a":[3]}\n'
        cases = (
            (["survey", "-", "--match", "a"], b"2 records in <stdin>"),
            (["find", "-", "$.a[*]"], b"1\n2\n3\n"),
            (["values", "-"], b"$[0]['a'][0]\t1\n"),
            (
                ["preview", "-", "--table", "a", "--as", "csv"],
                b"row_key,parent_key,ordinal,value\r\n1,1,1,1\r\n",
            ),
        )
        for arguments, expected in cases:
            with self.subTest(arguments):
                done = command(*arguments, stdin=data)
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertTrue(done.stdout.startswith(expected), done.stdout)

    def test_a_reader_that_goes_away(self):
        """Nothing is complained of when `head` has seen enough."""
        source = self.write("l.ndjson", "\n".join(json.dumps({"a": "x" * 500}) for _ in range(20_000)))
        for arguments in (["find", source, "$.a"], ["values", source]):
            line = " ".join([sys.executable, "-m", "tessaron", *map(str, arguments)]).replace("$", r"\$")
            done = subprocess.run(
                f"{line} | head -n 1", shell=True, capture_output=True, timeout=60, check=False
            )
            with self.subTest(arguments[0]):
                self.assertEqual(len(done.stdout.splitlines()), 1)
                self.assertEqual(done.stderr, b"")

    def test_the_status_is_that_of_other_commands_whose_reader_went_away(self):
        source = self.write("l.ndjson", json.dumps({f"a{n}": "x" * 90 for n in range(1_200)}))
        for arguments in (["find", source, "$.*"], ["survey", source, "--json"], ["draft", source]):
            with self.subTest(arguments[0]):
                line = " ".join([sys.executable, "-m", "tessaron", *map(str, arguments)]).replace("$", r"\$")
                shell = ["bash", "-c", f"set -o pipefail; {line} | head -c 10 >/dev/null"]
                done = subprocess.run(shell, capture_output=True, timeout=60, check=False)
                self.assertEqual((done.returncode, done.stderr), (141, b""))

    def test_numbers_have_an_upper_bound_that_is_said(self):
        source = self.write("a.json", "[1]")
        huge = "9" * 30
        for arguments, said in (
            (("survey", source, "--first", huge), "1<=x<=1000000000000000"),
            (("survey", source, "--depth", huge), "0<=x<=1000000"),
            (("export", source, "-o", "o", "--depth-limit", "99999999999"), "1<=x<=1000000"),
            (("export", source, "-o", "o", "--workers", huge), "1<=x<=256"),
            (("export", source, "-o", "o", "--memory", "9" * 400), "expected a size of at most 1,000,000GB"),
            (("preview", source, "--rows", huge), "1<=x<="),
            (("compose", "--indent", huge), "0<=x<=100"),
        ):
            with self.subTest(arguments):
                done = quick_command(*arguments)
                self.assertEqual(done.returncode, 2)
                self.assertIn(said, done.stderr.decode())
        for name in ("workers", "memory", "depth_limit", "first", "stop_after", "chunk_bytes"):
            with (
                self.subTest(name),
                self.assertRaisesRegex(tessaron.UsageError, f"expected {name} of at most"),
            ):
                tessaron.shred([1], **{name: 10**30})

    def test_what_messages_quote_is_clipped(self):
        source = self.write("a.ndjson", '{"a": 1}\n')
        long = "x" * 10_000
        layout = f'[tables.t]\nrows = "$"\n[tables.t.columns]\na = {{ value = "{long} + 1" }}\n'
        for arguments in (
            ("find", source, "$." + long),
            ("find", source, "$[" + long),
            ("survey", source, "--match", long),
            ("preview", source, "--table", long),
            ("export", source, "-o", "o", "--only", "$[" + long),
            ("export", source, "-o", "o", "--layout", self.write("l.toml", layout)),
            ("export", long, "-o", "o"),
        ):
            with self.subTest(arguments[0]):
                done = quick_command(*arguments)
                self.assertIn(done.returncode, (1, 2))
                self.assertLess(len(done.stderr), 800)

    def test_examples_in_help_stand_on_lines_of_their_own(self):
        for name in COMMANDS:
            shown = quick_command(name, "--help").stdout.decode()
            self.assertNotIn("\\b", shown)
            for purpose, line in EXAMPLES.get(name, ()):
                self.assertIn(f"\n  # {purpose}\n  {line}\n", shown)

    def test_examples_run_on_the_data_of_the_demo(self):
        make_world(self.folder, "https://office.example")
        for name in COMMANDS:
            for _, line in EXAMPLES.get(name, ()):
                if name in ("demo", "watch", "fetch", "completion"):
                    continue
                with self.subTest(line), contextlib.chdir(self.folder):
                    if set(line) & {"|", ">"} and name != "find":
                        typed = line.replace("tessaron", f"{shlex.quote(sys.executable)} -m tessaron", 1)
                        done = subprocess.run(typed, shell=True, capture_output=True, check=False)
                    else:
                        done = quick_command(*shlex.split(line)[1:])
                    self.assertEqual(done.returncode, 0, done.stderr)

    def test_colours_only_on_a_terminal_that_wants_them(self):
        source = self.write("calls.json", json.dumps([{"a": None, "b": 1}, {"a": "x", "b": "y"}]))
        for environment, has_colours in (
            ({"TERM": "xterm"}, True),
            ({"TERM": "xterm", "NO_COLOR": "1"}, False),
            ({"TERM": "dumb"}, False),
        ):
            with self.subTest(environment):
                shown = on_terminal("preview", source, **environment)
                self.assertEqual("\033[38;5;31m" in shown, has_colours)
                self.assertEqual("\033[2mnull" in shown, has_colours)
        self.assertNotIn(b"\033[", command("preview", source, TERM="xterm").stdout)

    def test_warnings_are_no_grey_on_terminals_of_16_colours(self):
        old, new = self.write("old.json", '[{"a": 1}]'), self.write("new.json", '[{"a": 1, "b": 2}]')
        for term, code in (("xterm", "35"), ("xterm-256color", "38;5;164")):
            with self.subTest(term):
                self.assertIn(f"\033[{code}mwidens", on_terminal("compare", old, new, TERM=term))

    def test_shells_complete_names_out_of_a_layout_and_a_survey(self):
        write_calls(self.folder, 30)
        quick_command(
            "draft", self.folder / "vessel_calls.ndjson", "-o", self.folder / "vessel_calls.layout.toml"
        )
        kept = quick_command("survey", self.folder / "vessel_calls.ndjson", "--json").stdout
        self.write("kept.survey.json", kept)
        for words, found in (
            (["preview", "vessel_calls.ndjson", "--table", "vessel_calls_se"], ["vessel_calls_services"]),
            (["export", "vessel_calls.ndjson", "--key", "call"], ["call_id"]),
            (["find", "vessel_calls.ndjson", "$.vessel.n"], ["$.vessel.number", "$.vessel.name"]),
            (
                ["export", "vessel_calls.ndjson", "--layout", "vessel_calls.layout.toml", "--flat", "$.se"],
                ["$.services[*]", "$.services[*].service", "$.services[*].fee", "$.services[*].invoiced"],
            ),
            (
                ["survey", "elsewhere.json", "--records", "$.agent.contact.ph"],
                ["$.agent.contact.phones", "$.agent.contact.phones[*]"],
            ),
            (["survey", "vess"], []),
            (["ver"], ["verify"]),
        ):
            with self.subTest(words):
                done = subprocess.run(
                    [sys.executable, "-c", _AS_INSTALLED],
                    cwd=self.folder,
                    capture_output=True,
                    text=True,
                    check=False,
                    env={
                        **os.environ,
                        "_TESSARON_COMPLETE": "bash_complete",
                        "COMP_WORDS": " ".join(["tessaron", *map(shlex.quote, words)]),
                        "COMP_CWORD": str(len(words)),
                    },
                )
                plain = [
                    line.removeprefix("plain,")
                    for line in done.stdout.splitlines()
                    if line.startswith("plain,")
                ]
                self.assertEqual(plain, found, done.stderr)
        for shell in ("bash", "zsh", "fish"):
            self.assertIn(b"_TESSARON_COMPLETE", quick_command("completion", shell).stdout)

    def test_letters_of_all_scripts_in_any_locale(self):
        source = self.write("u.json", json.dumps({"port": "Ånd ⚓ Лоцман", "half": "\ud800"}))
        for environment in ({"LC_ALL": "C", "PYTHONIOENCODING": "utf-8"}, {"PYTHONUTF8": "1"}):
            with self.subTest(environment):
                done = command("find", source, "$.*", **environment)
                self.assertEqual(done.stdout.decode(), '"Ånd ⚓ Лоцман"\n"\\ud800"\n')
                raw = command("find", source, "$.*", "--raw", **environment)
                self.assertEqual(raw.stdout.decode(), "Ånd ⚓ Лоцман\n\\ud800\n")
                self.assertEqual(command("survey", source, **environment).returncode, 0)
                self.assertEqual(command("preview", source, **environment).returncode, 0)

    def test_several_sources_and_folders(self):
        for number in range(3):
            self.write(f"feeds/part-{number}.json", json.dumps([{"n": number}]))
        done = command("find", self.folder / "feeds", "$[*].n", "--where-found")
        self.assertEqual([line.split("\t")[3] for line in done.stdout.decode().splitlines()], ["0", "1", "2"])
        done = command("survey", self.folder / "feeds", self.folder / "feeds" / "part-1.json", "--json")
        self.assertEqual(json.loads(done.stdout)["records"], 4)
        done = command("find", "-", self.folder / "feeds", "$[*].n", stdin=b"[]")
        self.assertIn(b"standard input (-) cannot be mixed", done.stderr)

    def test_a_sink_that_is_full(self):
        if not os.path.exists("/dev/full"):
            self.skipTest("no /dev/full here")
        source = self.write("a.json", json.dumps([{"a": n} for n in range(50)]))
        with open("/dev/full", "wb") as full:
            done = subprocess.run(
                [sys.executable, "-m", "tessaron", "find", str(source), "$[*]"],
                stdout=full,
                stderr=subprocess.PIPE,
                check=False,
            )
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"standard output cannot be written", done.stderr)
        self.assertNotIn(b"Traceback", done.stderr)
