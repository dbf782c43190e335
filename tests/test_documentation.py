"""Every command that stands in the README and in the guide's pages is run as it stands there, on data of the harbour."""

import contextlib
import doctest
import gzip
import io
import json
import os
import re
import shlex
import shutil
import sqlite3
import subprocess
import sys
import tarfile
import threading
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq
from openpyxl import Workbook

import tessaron
from tessaron.sources.demo.harbour_events import write_events
from tessaron.sources.demo.harbour_log import write_log
from tessaron.sources.demo.inspections import write_inspections
from tessaron.sources.demo.manifests import write_manifests
from tessaron.sources.demo.office_server import OfficeServer, write_feeds
from tessaron.sources.demo.vessel_calls import call_line, iter_calls, write_calls
from tests.harness import FolderTest, quick_command

ROOT = Path(__file__).parent.parent
PAGES = (
    "guide",
    "layouts",
    "proof",
    "rejects",
    "xml",
    "databases",
    "stores",
    "web",
    "loading",
    "pages",
    "repeating",
)
ELSEWHERE = (
    "postgresql://",
    "everything.ndjson",
    "corrections.ndjson",
    "s3://",
    "curl …",
    "other-tool",
    "fetch-calls",
    "--serve",
    "/data/warehouse",
)
"""Lines with one of these need what only the reader has; each is tested where its subject is."""
STATUS = {
    "find calls.ndjson '$.stays[*].movs[*].teu'": 1, "diff": 1, "export feed.ndjson -o tables --stop-after 100": 1,
    "export feed.ndjson -o tables --stop-at-share": 2,
}  # fmt: skip
"""How commands end that do not end with 0, by what they begin with."""
SAID = {
    "survey calls.ndjson --first 1000": "400 records", "preview inbox.xlsx": "payload_call_id", "survey inbox.parquet": "20 records",
    "survey calls.tar.gz/day_1": "10 records", "export calls.zip -o tables": "30 records in", "export feeds/ -o tables": "20 records in",
    "export 'feeds/part-*.ndjson' -o tables": "20 records in", "export january.json": "20 records in", "survey https://": "230 records",
    "export calls.feed.toml": "230 records in", "fetch calls.feed.toml": "5 documents", "diff": "$['calls'][1]['status']", "export feed.json -o tables --dictionary": "calls_documents_tides",
    "draft visits.ndjson --why": "the same structure at 7 places",
    "export calls.ndjson -o flat": "1 table in flat", "sample calls.ndjson": "5 of 400 records", "verify tables": "identical: ", "survey sqlite": "20 records",
    "export --from-rejects": "1 record in", "export feed.ndjson -o tables --stop-after 100": "1 record left out", "find manifests.xml": "dried fish",
    "export feed.ndjson -o tables --stop-at-share": "1 of 61 records rejected, more than 1%", "draft newer.ndjson": "calls.layout.toml", "rebuild tables": "400 records",
}  # fmt: skip
"""What is among what a command says, by what it begins with."""


def commands_of(text):
    """Return the command lines of a page: those indented by four that run Tessaron, without remarks at their ends."""
    lines = re.findall(r"^    (?!tessaron: )(?:\$ )?((?:\S.*(?:\| |<\())?tessaron [a-z].*)$", text, re.M)
    return [re.sub(r"\s+# .*$|\s{4,}\S.*$", "", line) for line in lines if "tessaron." not in line]


def known(table, line):
    """Return what a table says of a command line, None if nothing."""
    line = line.removeprefix("tessaron ")
    return next(
        (table[begin] for begin in sorted(table, key=len, reverse=True) if line.startswith(begin)), None
    )


class DocumentationTest(FolderTest):
    @classmethod
    def setUpClass(cls):
        cls.server = OfficeServer()
        threading.Thread(target=cls.server.serve_forever, daemon=True).start()
        cls.addClassCleanup(cls.server.server_close)
        cls.addClassCleanup(cls.server.shutdown)

    def setUp(self):
        super().setUp()
        self.enterContext(contextlib.chdir(self.folder))
        self.enterContext(mock.patch.dict(os.environ, TESSARON_MASK_KEY="a secret"))

    def run_line(self, line):
        """Run a command line as a shell would; return its status and all that it said."""
        if not re.search(r"[|<>](?=[^']*(?:'[^']*'[^']*)*$)", line):
            done = quick_command(*shlex.split(line)[1:])
        else:
            setting = f'tessaron() {{ {shlex.quote(sys.executable)} -m tessaron "$@"; }}\n'
            done = subprocess.run(
                ["bash", "-c", setting + line], capture_output=True, timeout=60, check=False
            )
        return done.returncode, (done.stdout + done.stderr).decode()

    def test_the_pages(self):
        count = 0
        for page in PAGES:
            self.make_world()
            for line in commands_of((ROOT / "docs" / f"{page}.md").read_text("utf-8")):
                if any(word in line for word in ELSEWHERE):
                    continue
                with self.subTest(page=page, line=line):
                    self.make_way_for(line)
                    status, said = self.run_line(line.replace("https://office.example", self.server.url))
                    self.assertEqual(status, known(STATUS, line) or 0, said)
                    self.assertIn(known(SAID, line) or "", said)
                    count += 1
        self.assertGreater(count, 45)

    def test_python_of_the_pages_runs(self):
        count = 0
        for page in PAGES:
            blocks = re.findall(
                r"^```python\n(.*?)^```$", (ROOT / "docs" / f"{page}.md").read_text("utf-8"), re.M | re.S
            )
            if blocks:
                self.make_world()
                with self.subTest(page), contextlib.redirect_stdout(io.StringIO()):
                    exec(compile("\n".join(blocks), f"{page}.md", "exec"), {"tessaron": tessaron})
                    count += len(blocks)
        self.assertGreater(count, 2)

    def make_way_for(self, line):
        """Take away what an earlier command has made, but where this one is to read it."""
        if " -o " in line and "--update" not in line:
            target = Path(re.search(r" -o (\S+)", line)[1])
            shutil.rmtree(target, ignore_errors=True)
            target.unlink(missing_ok=True)
        if line.startswith(("tessaron verify", "tessaron rebuild")):
            tessaron.export("calls.ndjson", "tables", replace=True)
        if line.startswith(("tessaron load tables", "tessaron ddl")):
            tessaron.export("calls.ndjson", "tables", replace=True, name="visits")
        if "--from-rejects" in line:
            tessaron.export("feed.ndjson", "tables", layout=tessaron.draft("calls.ndjson"), replace=True)
            rejects = Path("tables/rejects.ndjson")
            rejects.write_text(rejects.read_text().replace('{\\"call_id\\"; ', '{\\"call_id\\": '))
        if "--layout" in line or "--update" in line:
            Path("calls.layout.toml").write_text(tessaron.draft("calls.ndjson").text, "utf-8")

    def make_world(self):
        """Write all the files that the pages speak of."""
        for leftover in (*Path().glob("*.db*"), *Path().glob("*.ledger")):
            leftover.unlink()
        lines = [call_line(call) for call in iter_calls(400)]
        texts = {
            "calls.ndjson": "\n".join(lines),
            "newer.ndjson": "\n".join([*lines[:50], '{"call_id":"x","pilot":"A"}']),
        }
        texts["feed.ndjson"] = "\n".join([*lines[:30], '{"call_id"; "BRW-9"}', *lines[30:60]])
        old = {"page": 1, "calls": [json.loads(line) for line in lines[:10]], "total": 10}
        new = {**old, "calls": [old["calls"][0], {**old["calls"][1], "status": "sunk"}]}
        texts |= {"old.json": json.dumps(old), "new.json": json.dumps(new), "january.json": json.dumps(old)}
        feed = {
            **old,
            "tides": {"high": 1.5, "low": 2},
            "totals": {"2026-01-01": 1, "2026-01-02": 2, "2026-01-03": 3},
        }
        texts["feed.json"] = json.dumps(
            feed | {"calls": [call | {"remarks": "calm"} for call in old["calls"]]} | {}
        )
        texts["visits.ndjson"] = "\n".join(map(json.dumps, self.visits()))
        for name, text in texts.items():
            self.write(name, text)
        for number in range(2):
            self.write(f"feeds/part-{number}.ndjson", "\n".join(lines[10 * number : 10 * number + 10]))
        for number, name in enumerate(("monday", "tuesday")):
            self.write(f"inbox/{name}.ndjson", "\n".join(lines[200 * number : 200 * number + 200]))
        self.write("delivery.ndjson", "\n".join([*lines[:5], '{"call_id":"x","stays":"none"}']))
        self.write("february.json.gz", gzip.compress(texts["old.json"].encode()))
        with zipfile.ZipFile("calls.zip", "w") as packed, tarfile.open("calls.tar.gz", "w:gz") as taken:
            for day in range(3):
                data = "\n".join(lines[10 * day : 10 * day + 10]).encode()
                packed.writestr(f"day_{day}/calls.ndjson", data)
                info = tarfile.TarInfo(f"day_{day}/calls.ndjson")
                info.size = len(data)
                taken.addfile(info, io.BytesIO(data))
        self.write_tables(lines[:20])
        write_manifests(self.folder)
        shutil.copy(
            next(path for path in write_feeds(self.folder, self.server.url) if path.name == "next.feed.toml"),
            "calls.feed.toml",
        )

    def write_tables(self, payloads):
        """Write the same inbox as CSV, Parquet, a spreadsheet and a database."""
        rows = [(number, f"2026-01-{number:02}", payload) for number, payload in enumerate(payloads, 1)]
        names = ("id", "seen_at", "payload")
        quoted = ['"' + payload.replace('"', '""') + '"' for payload in payloads]
        self.write(
            "inbox.csv",
            "id,seen_at,payload\n"
            + "".join(f"{row[0]},{row[1]},{text}\n" for row, text in zip(rows, quoted, strict=True)),
        )
        pq.write_table(pa.table(dict(zip(names, zip(*rows, strict=True), strict=True))), "inbox.parquet")
        book = Workbook()
        for row in (names, *rows):
            book.active.append(row)
        book.save("inbox.xlsx")
        for name in ("office.db", "office.sqlite"):
            Path(name).unlink(missing_ok=True)
            with contextlib.closing(sqlite3.connect(name)) as database, database:
                database.execute("CREATE TABLE inbox (id INTEGER PRIMARY KEY, seen_at TEXT, payload TEXT)")
                database.executemany("INSERT INTO inbox VALUES (?, ?, ?)", rows)

    def visits(self):
        """Give visits in which a berth stands at seven places."""
        places = ("arrival", "departure", "shift", "wait", "bunker", "repair", "survey")
        return [
            {"visit": n, **{place: {"berth": {"code": f"N{(n + k) % 9}", "depth": 40 + (n * k) % 17, "side": "NS"[n * k % 2]}} for k, place in enumerate(places)}}
            for n in range(60)
        ]  # fmt: skip


class ReadmeTest(DocumentationTest):
    """The walk through the demo in the README: what stands there is what comes back."""

    test_the_pages = None

    def test_the_walk(self):
        folder = self.folder / "harbour"
        folder.mkdir()
        (
            write_calls(folder, 400),
            write_inspections(folder),
            write_manifests(folder),
            write_events(folder),
            write_log(folder),
        )
        text = (ROOT / "README.md").read_text("utf-8")
        blocks = re.findall(r"^    \$ (tessaron .*)\n((?:    (?!\$ ).+\n|\n(?=    (?!\$ )\S))*)", text, re.M)
        self.assertGreater(len(blocks), 12)
        for line, shown in blocks:
            with self.subTest(line):
                status, said = self.run_line(line)
                self.assertEqual(
                    status, known(STATUS, line.replace("harbour/vessel_calls", "calls")) or 0, said
                )
                self.check_shown(re.sub(r"(?m)^    ", "", shown), said)

    def test_the_walk_in_python(self):
        (self.folder / "harbour").mkdir()
        write_calls(self.folder / "harbour", 400)
        said = io.StringIO()
        found = doctest.DocTestParser().get_doctest(
            (ROOT / "README.md").read_text("utf-8").replace("…", "..."), {}, "README.md", None, 0
        )
        self.assertGreater(len(found.examples), 3)
        doctest.DocTestRunner(optionflags=doctest.ELLIPSIS).run(found, out=said.write)
        self.assertEqual(said.getvalue(), "")

    def check_shown(self, shown, said):
        """Check that what stands in the README is what was said; `…` stands for any lines."""
        # Standard error comes after standard output here, in a terminal between its lines.
        wanted, got = (re.sub(r"\d+\.\d\d seconds", "some seconds", each) for each in (shown, said))
        for part in re.split(r"(?m)^ *…$\n?", wanted):
            self.assertIn(part.strip("\n"), got)


class CommandsOfTest(unittest.TestCase):
    def test_what_counts_as_a_command(self):
        cases = (
            ("    tessaron survey a   # look\n", ["tessaron survey a"]), ("    $ tessaron find a '$'\n", ["tessaron find a '$'"]),
            ("    tessaron: no command\n", []), ("run `tessaron survey a`\n", []), ("    tessaron.export(feed)\n", []),
            ("    x <(tessaron values a) b\n", ["x <(tessaron values a) b"]), ("    a | tessaron export -\n", ["a | tessaron export -"]),
        )  # fmt: skip
        for text, expected in cases:
            with self.subTest(text):
                self.assertEqual(commands_of(text), expected)
