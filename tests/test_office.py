"""The stand-in harbour office that the demo serves: every address, every feed file, and what goes wrong there."""

import os
import re
import signal
import subprocess
import sys
import threading
from unittest import mock

import tessaron
from tessaron.sources.demo.office import ADDRESSES, FEEDS, OFFICE_CALLS, OFFICE_SECRET, OFFICE_TOKEN
from tessaron.sources.demo.office_server import OfficeServer, write_feeds
from tests.harness import FolderTest, quick_command


class OfficeTest(FolderTest):
    @classmethod
    def setUpClass(cls):
        cls.server = OfficeServer()
        threading.Thread(target=cls.server.serve_forever, daemon=True).start()
        cls.addClassCleanup(cls.server.server_close)
        cls.addClassCleanup(cls.server.shutdown)

    def records(self, source):
        return tessaron.survey(source).records

    def test_every_feed_file_brings_all_calls(self):
        feeds = write_feeds(self.folder, self.server.url)
        self.assertEqual([path.name for path in feeds], [f"{name}.feed.toml" for name in FEEDS])
        counts = {"details": 50, "manifests": 40}
        with mock.patch.dict(os.environ, OFFICE_TOKEN=OFFICE_TOKEN, OFFICE_SECRET=OFFICE_SECRET):
            for feed in feeds:
                with self.subTest(feed.name):
                    self.assertEqual(
                        self.records(feed), counts.get(feed.name.partition(".")[0], OFFICE_CALLS)
                    )
        with (
            mock.patch.dict(os.environ, OFFICE_TOKEN="high-tide"),
            self.assertRaisesRegex(
                tessaron.SourceError, "401 Unauthorized; the secret is not taken"
            ) as caught,
        ):
            self.records(self.folder / "signed.feed.toml")
        self.assertNotIn("high-tide", str(caught.exception))

    def test_every_plain_address(self):
        said = {
            "/calls": "", "/calls/limited": "", "/calls/broken": "", "/manifests": "", "/calls/slow": "", "/calls/packed": "",
            "/calls/brief": "exactly 50 records", "/moves/BRW-0000001": "", "/manifests/pages": "",
            "/calls/next": "next names another", "/calls/cursor": "meta.cursor names another",
            "/calls/number": "50 records of 230", "/calls/offset": "exactly 50 records",
        }  # fmt: skip
        wrong = {
            "/calls/private": "sign in",
            "/login": "403 Forbidden",
            "/token": "401 Unauthorized",
            "/calls/signed": "sign in",
            "/calls/html": "a page of HTML",
            "/nothing": "404 Not Found",
        }
        self.assertEqual(set(ADDRESSES), {*said, *wrong, "/"} - {"/nothing"} | {"/calls/wrong"})
        with mock.patch("tenacity.nap.time.sleep"):
            for path, expected in said.items():
                with self.subTest(path):
                    survey = tessaron.survey(self.server.url + path)
                    count = {"/manifests": 40, "/moves/BRW-0000001": 7, "/manifests/pages": 15}.get(
                        path, 50 if expected else OFFICE_CALLS
                    )
                    notes = " ".join(note.text for note in survey.notes if note.code == "source")
                    self.assertEqual(
                        (survey.records, expected in notes, bool(notes)), (count, True, bool(expected))
                    )
            for path, expected in wrong.items():
                with self.subTest(path), self.assertRaisesRegex(tessaron.SourceError, expected):
                    self.records(self.server.url + path)
        # What was cut off is one reject; what came before it is there.
        survey = tessaron.survey(self.server.url + "/calls/wrong")
        self.assertEqual(
            (survey.records, [note.code for note in survey.notes].count("rejected")), (OFFICE_CALLS - 1, 1)
        )

    def test_what_the_answers_say_beside_the_calls_is_kept(self):
        tables = tessaron.shred(write_feeds(self.folder, self.server.url)[0])
        self.assertEqual(tables["calls_documents"].column("page").to_pylist(), [1, 2, 3, 4, 5])
        self.assertEqual(tables["calls"].num_rows, OFFICE_CALLS)

    def test_a_sample_has_calls_and_no_pages(self):
        feeds = write_feeds(self.folder, self.server.url)
        for name, source in (("next", feeds[0]), ("links", self.server.url + "/calls")):
            with self.subTest(name):
                target = self.folder / f"{name}.ndjson"
                taken = tessaron.sample(source, target, first=20, mask=True)
                self.assertEqual((taken.records, taken.seen), (20, OFFICE_CALLS))
                self.assertEqual(tessaron.survey(target).records, 20)

    def test_the_command(self):
        done = quick_command("demo", "--serve", "--port", self.server.server_port, "--into", self.folder)
        self.assertEqual((done.returncode, done.stdout), (2, b""))
        self.assertRegex(done.stderr.decode(), r"port \d+: .*; --port 0 takes a free one")
        arguments = (
            sys.executable,
            "-m",
            "tessaron",
            "demo",
            "--serve",
            "--port",
            "0",
            "--into",
            self.folder,
        )
        with subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as serving:
            self.addCleanup(serving.kill)
            lines = []
            for line in serving.stdout:
                lines.append(line.decode())
                if "login.feed.toml" in lines[-1] and "export" in lines[-1]:
                    break
            text = "".join(lines)
            url = re.search(r"http://127\.0\.0\.1:\d+", text).group()
            for path in ADDRESSES:
                self.assertIn(url + path, text)
            self.assertEqual(self.records(self.folder / "number.feed.toml"), OFFICE_CALLS)
            serving.send_signal(signal.SIGINT)
            rest, said = serving.communicate(timeout=20)
        self.assertEqual((serving.returncode, rest, said), (0, b"closed\n", b""))
