"""Feed files against an office with other habits: logins, tokens, details, searches, marks; answers kept and used again."""

import base64
import json
import os
import sys
import threading
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from unittest import mock
from urllib.parse import parse_qsl, urlsplit

import tessaron
from tessaron.core.base.parsed_values import NumberText
from tessaron.sources.web.answer_documents import document_of, part_at
from tessaron.sources.web.answers import PAGE_BYTES, Answer
from tessaron.sources.web.high_water import HighWater
from tessaron.sources.web.kept_answers import KeptAnswers
from tessaron.sources.web.secret_values import Hidden
from tessaron.sources.web.templates import filled, filled_address, filled_json, filled_xml
from tests.harness import FolderTest, quick_command

SECRET, REFRESH = "spring-flood", "ebb-and-flow"
BERTHS = [
    {"id": number, "quay": "NSW"[number % 3], "changed": f"2026-{number:02}-01"} for number in range(1, 13)
]
LOGIN = """
[secrets]
word = "env:BUREAU_SECRET"

[[before]]
url = "/session"
method = "POST"
form = { user = "clerk", word = "{word}" }
take.desk = "/session/desk/@no"
secrets.key = "/session/key"
"""
OAUTH = '[sign_in]\nkind = "oauth"\ntoken_url = "/token"\nclient = "clerk"\nsecret = "env:BUREAU_SECRET"\n'
KEYED = '[sign_in]\nkind = "parameter"\nname = "key"\nsecret = "{key}"\n'


class Bureau(BaseHTTPRequestHandler):
    """Answers by its own rules, and keeps what it was asked."""

    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def do_POST(self):
        data = self.rfile.read(int(self.headers.get("content-length", 0))).decode()
        is_json = "json" in self.headers.get("content-type", "")
        self.route("post", json.loads(data) if is_json else dict(parse_qsl(data)) or data)

    def do_GET(self):
        self.route("get", None)

    def route(self, method, sent):
        parts = urlsplit(self.path)
        query = dict(parse_qsl(parts.query))
        first, *rest = [part for part in parts.path.split("/") if part]
        self.server.asked.append((method, parts.path, query, sent, dict(self.headers)))
        if self.server.breaks_after is not None and len(self.server.asked) > self.server.breaks_after:
            self.close_connection = True
            return
        getattr(self, f"{method}_{first}")(query, sent, *rest)

    def answer(self, value, status=200, **headers):
        data = value if isinstance(value, bytes) else json.dumps(value).encode()
        self.send_response(status)
        for name, text in headers.items():
            self.send_header(name, text)
        self.send_header("content-length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def key(self):
        self.server.keys.append(f"key-number-{len(self.server.keys) + 1}")
        return self.server.keys[-1]

    def is_good(self, key):
        """A key is good for two answers, and only until the next is given out."""
        self.server.used.append(key)
        return self.server.keys[-1:] == [key] and self.server.used.count(key) <= self.server.uses

    def post_session(self, query, sent):
        if sent != {"user": "clerk", "word": SECRET}:
            return self.answer({}, 403)
        return self.answer(f"<session><key>{self.key()}</key><desk no='7'/></session>".encode())

    def post_token(self, query, sent):
        pair = "Basic " + base64.b64encode(f"clerk:{SECRET}".encode()).decode()
        in_form = sent.get("client_id") == "clerk" and sent.get("client_secret") == SECRET
        if self.headers.get("authorization") != pair and not in_form:
            return self.answer({"error": "invalid_client"}, 400)
        if sent["grant_type"] == "refresh_token" and not sent["refresh_token"].startswith(REFRESH):
            return self.answer({"error": "invalid_grant"}, 400)
        more = (
            {"refresh_token": f"{REFRESH}-{len(self.server.keys)}"}
            if sent["grant_type"] == "refresh_token"
            else {}
        )
        return self.answer({"access_token": self.key(), "expires_in": self.server.lasts, **more})

    def get_desks(self, query, sent, desk="", what="", *_):
        if desk != "7" or not self.is_good(query.get("key", "")):
            return self.answer({"error": "who are you?"}, 401)
        page = int(query.get("page", 1))
        return self.answer({"total": len(BERTHS), "berths": BERTHS[3 * page - 3 : 3 * page]})

    def get_berths(self, query, sent):
        if not self.is_good(self.headers.get("authorization", "").removeprefix("Bearer ")):
            return self.answer({"error": "who are you?"}, 401)
        return self.get_pages(query, sent)

    def get_pages(self, query, sent):
        page = int(query.get("page", 1))
        return self.answer({"total": len(BERTHS), "berths": BERTHS[3 * page - 3 : 3 * page]})

    def post_search(self, query, sent):
        start, quay = (
            int(sent.get("skip", 0)),
            sent.get("where", {}).get("quay") if isinstance(sent.get("where"), dict) else sent.get("quay"),
        )
        hits = [each for each in BERTHS if each["quay"] == quay]
        self.answer({"hits": hits[start : start + 2]})

    def post_xml(self, query, sent):
        self.answer([{"sent": sent}])

    def get_changed(self, query, sent):
        self.answer([each for each in BERTHS if each["changed"] > query["since"]][:4])

    def get_numbers(self, query, sent):
        self.answer([{"no": each["id"]} for each in BERTHS if each["id"] > int(query["after"])])

    def get_list(self, query, sent):
        self.answer(
            [
                {"id": each["id"], "at": f"/item/{each['id']}", "parts": [{"no": 1}, {"no": 2}]}
                for each in BERTHS[:4]
            ]
        )

    def get_item(self, query, sent, number, part=""):
        if number == "3" and self.server.lacks_one:
            return self.answer({}, 404)
        if part:
            return self.answer({"part": f"{number}.{part}"})
        return self.answer({"size": {"m": 100 + int(number)}, "notes": [f"n{number}"]})

    def get_fleet(self, query, sent):
        ships = "".join(f'<ship no="{number}"><name>Tern {number}</name></ship>' for number in (1, 2))
        self.answer(f'<f:fleet xmlns:f="urn:fleet" count="2">{ships}</f:fleet>'.encode())

    def get_ship(self, query, sent, number):
        self.answer(f"<log><entry>in {number}</entry><entry>out</entry></log>".encode())

    def get_echo(self, query, sent):
        given = self.headers.get("authorization", "")
        self.answer(
            [{"call": 1, "said": given, "again": base64.b64encode(given.encode()).decode()}],
            etag=given or "none",
        )

    def get_away(self, query, sent):
        self.answer({}, 307, location=f"http://localhost:{self.server.server_port}/echo")

    post_away = get_away

    def get_lead(self, query, sent):
        elsewhere = f"http://localhost:{self.server.server_port}/echo"
        self.answer({"items": [{"call": 1, "at": elsewhere}], "next": elsewhere})

    def get_typed(self, query, sent, *_):
        self.answer([{"path": self.path}])

    def get_long(self, query, sent):
        self.answer(json.dumps([{"n": number, "text": SECRET * 40} for number in range(36000)]).encode())


class FeedTest(FolderTest):
    @classmethod
    def setUpClass(cls):
        cls.server = ThreadingHTTPServer(("127.0.0.1", 0), Bureau)
        threading.Thread(target=cls.server.serve_forever, daemon=True).start()
        cls.addClassCleanup(cls.server.server_close)
        cls.addClassCleanup(cls.server.shutdown)
        cls.url = f"http://127.0.0.1:{cls.server.server_port}"

    def setUp(self):
        super().setUp()
        server = self.server
        server.asked, server.keys, server.used = [], [], []
        server.uses, server.lasts, server.breaks_after, server.lacks_one = 2, 3600, None, False
        patches = (
            mock.patch.dict(os.environ, BUREAU_SECRET=SECRET, BUREAU_REFRESH=REFRESH),
            mock.patch("tenacity.nap.time.sleep"),
        )
        for patch in patches:
            patch.start()
            self.addCleanup(patch.stop)

    def feed(self, path, more=""):
        return self.write("bureau.feed.toml", f'url = "{self.url}{path}"\n{more}\n')

    def rows(self, source, table, **options):
        return tessaron.shred(source, **options)[table].to_pylist()

    def asked(self, begin):
        return [each for each in self.server.asked if each[1].startswith(begin)]

    def test_logins_and_tokens(self):
        pages = '[pages]\nkind = "number"\nparameter = "page"\n'
        cases = (
            ("a login by a form, its answer XML, the key a parameter", "/desks/{desk}/berths", LOGIN + KEYED + pages, 3600),
            ("the same, pages at once", "/desks/{desk}/berths", LOGIN + KEYED + pages + 'total = "$.total"', 3600),
            ("OAuth", "/berths", OAUTH + pages, 3600),
            ("OAuth, the client in the form", "/berths", OAUTH + 'client_in = "form"\nscope = "all"\n' + pages, 3600),
            ("OAuth with a refresh token", "/berths", OAUTH + 'refresh = "env:BUREAU_REFRESH"\n' + pages, 3600),
            ("a token that is known to be too old", "/berths", OAUTH + pages, -1),
        )  # fmt: skip
        for name, path, more, lasts in cases:
            with self.subTest(name):
                self.setUp()
                self.server.lasts = lasts
                self.assertEqual(
                    [row["id"] for row in self.rows(self.feed(path, more), "berths")], list(range(1, 13))
                )
                self.assertGreater(len(self.server.keys), 1)
        with self.subTest("a header of the feed has what a step took"):
            self.setUp()
            headers = 'headers = { Authorization = "Bearer {key}" }\n'
            self.assertEqual(len(self.rows(self.feed("/berths", headers + LOGIN), "berths")), 3)

    def test_who_is_not_let_in_is_told_once_more_only(self):
        self.server.uses = 0
        with self.assertRaisesRegex(
            tessaron.SourceError, "401 Unauthorized; the secret is not taken"
        ) as caught:
            tessaron.shred(self.feed("/berths", OAUTH))
        self.assertEqual((len(self.asked("/berths")), len(self.asked("/token"))), (2, 2))
        self.assertNotIn(SECRET, str(caught.exception))
        with (
            mock.patch.dict(os.environ, BUREAU_SECRET="wrong-word"),
            self.assertRaisesRegex(tessaron.SourceError, "/token: 400") as caught,
        ):
            tessaron.shred(self.feed("/berths", OAUTH))
        self.assertNotIn("wrong-word", str(caught.exception))
        with self.assertRaisesRegex(
            tessaron.SourceError, r"no value at /session/door, which is to be \{key\}"
        ):
            tessaron.shred(self.feed("/berths", LOGIN.replace("/session/key", "/session/door") + KEYED))

    def test_what_a_post_sends_and_pages_in_it(self):
        pages = '[pages]\nkind = "offset"\nparameter = "skip"\nwithin = "body"'
        quay = '[values]\nquay = "S"\n'
        for name, more in (
            ("json", f'method = "POST"\nbody = {{ where = {{ quay = "{{quay}}" }} }}\n{quay}{pages}'),
            ("form", f'method = "POST"\nform = {{ quay = "{{quay}}" }}\n{quay}{pages}'),
        ):
            with self.subTest(name):
                self.server.asked.clear()
                self.assertEqual(
                    [row["id"] for row in self.rows(self.feed("/search", more), "hits")], [1, 4, 7, 10]
                )
                self.assertEqual([int(each[3]["skip"]) for each in self.server.asked], [0, 2, 4])
        more = 'method = "POST"\nxml = "<who>{who}</who>"\n[values]\nwho = "Salt & Sons"'
        self.assertEqual(self.rows(self.feed("/xml", more), "xml")[0]["sent"], "<who>Salt &amp; Sons</who>")

    def test_values_in_addresses(self):
        more = 'parameters = { day = "{day}", n = "{n}" }\n[values]\nname = "a/b c"\nway = "x/y?z=1"\nn = 7\nday = { days = -1, hours = 24, format = "%Y" }'
        found = self.rows(self.feed("/typed/{name}/{+way}&t={today}", more), "typed")[0]["path"]
        today = found.partition("t=")[2][:10]
        self.assertEqual(found, f"/typed/a%2Fb%20c/x/y?z=1&t={today}&day={today[:4]}&n=7")
        self.assertRegex(today, r"^20\d\d-\d\d-\d\d$")

    def test_details_stand_in_their_records(self):
        each = '[each]\npath = "$.at"\nunder = "size"\nrecords = "$.size"'
        rows = self.rows(self.feed("/list", each), "list")
        self.assertEqual([(row["id"], row["size_m"]) for row in rows], [(n, 100 + n) for n in (1, 2, 3, 4)])
        each = '[each]\npath = "$.parts[*].no"\nurl = "/item/{each}/x"\nunder = "found"'
        tables = tessaron.shred(self.feed("/list", each))
        self.assertEqual([row["part"] for row in tables["list_found"].to_pylist()], ["1.x", "2.x"] * 4)
        self.assertEqual(len(self.asked("/item/1/x")), 1)
        self.server.lacks_one = True
        each = '[each]\npath = "$.at"\nunder = "more"\n'
        with self.assertRaisesRegex(tessaron.SourceError, "/item/3: 404 Not Found; check the address"):
            tessaron.shred(self.feed("/list", each))
        rows = self.rows(self.feed("/list", each + 'if_missing = "null"'), "list")
        self.assertEqual([row["more_size_m"] for row in rows], [101, 102, None, 104])
        each = '[each]\npath = "@no"\nurl = "/ship/{each}"\nunder = "history"'
        tables = tessaron.shred(self.feed("/fleet", each), records="//ship")
        self.assertEqual(
            [row["value"] for row in tables["ship_entry"].to_pylist()], ["in 1", "out", "in 2", "out"]
        )
        for path, each, expected in (
            ("/list", '[each]\npath = "$.at"\nunder = "id"', "have a member id already"),
            ("/list", '[each]\npath = "$.parts"\nunder = "x"', "expected an address or id, got"),
            (
                "/list",
                'records = "$[*].id"\n[each]\npath = "$.x"\nunder = "x"',
                "expected records that are objects, got 1",
            ),
            (
                "/list",
                '[each]\npath = "$.at"\nurl = "/ship/{each}"\nunder = "x"\nrecords = "/log/entry"',
                None,
            ),
        ):
            with self.subTest(each):
                if expected is None:
                    self.assertIn("<entry>out</entry>", self.rows(self.feed(path, each), "list")[0]["x"])
                else:
                    with self.assertRaisesRegex(tessaron.UsageError, expected):
                        tessaron.shred(self.feed(path, each))

    def test_a_mark_moves_on_when_the_tables_are_there(self):
        mark = '[mark]\npath = "$.changed"\nfirst = "2026-02-15"'
        feed, kept = self.feed("/changed?since={mark}", mark), self.folder / "bureau.feed.mark"
        tessaron.survey(feed)
        self.assertFalse(kept.exists())
        self.write("taken/other.txt", "x")
        with self.assertRaises(tessaron.TargetError):
            tessaron.export(feed, self.folder / "taken")
        self.assertFalse(kept.exists())
        counts = [tessaron.export(feed, self.folder / f"t{number}").records for number in range(3)]
        self.assertEqual(counts, [4, 4, 2])
        self.assertIn('mark = "2026-12-01"', kept.read_text("utf-8"))
        other = self.write(
            "numbers.feed.toml",
            f'url = "{self.url}/numbers?after={{mark}}"\n[mark]\npath = "$.no"\nfirst = 9',
        )
        self.assertEqual(tessaron.fetch(other, self.folder / "f").mark, 12)
        self.assertIn("mark = 12", (self.folder / "numbers.feed.mark").read_text("utf-8"))
        for text, expected in (("mark = [1]", 'expected a line mark = "…"'), ("mark", "cannot be read")):
            kept.write_text(text, "utf-8")
            with self.subTest(text), self.assertRaisesRegex(tessaron.TessaronError, expected):
                tessaron.survey(feed)

    def test_a_ledger_keeps_the_mark(self):
        feed = self.feed("/changed?since={mark}", '[mark]\npath = "$.changed"\nfirst = "2026-02-15"')
        url = f"sqlite:///{self.folder / 'office.db'}"
        for ledger in (url, self.folder / "done.ledger"):
            with self.subTest(ledger=str(ledger)):
                (self.folder / "office.db").unlink(missing_ok=True)
                # What fails leaves the mark where it was.
                with self.assertRaises(tessaron.UsageError):
                    tessaron.keep_up(feed, url, ledger=ledger, mode="merge", name="calls")
                kept = [
                    tessaron.keep_up(feed, url, ledger=ledger, mode="append", name="calls").loads[0]
                    for _ in range(3)
                ]
                self.assertEqual([each.receipt.records for each in kept], [4, 4, 2])
                self.assertFalse((self.folder / "bureau.feed.mark").exists())
        with self.assertRaisesRegex(tessaron.UsageError, r"a feed that says what is new: \[mark\]"):
            tessaron.keep_up(self.feed("/list"), url, ledger=url)

    def test_secrets_stand_nowhere(self):
        more = 'headers = { Authorization = "Bearer {key}" }\n' + LOGIN
        feed = self.feed("/echo", more)
        done = quick_command(
            "export",
            feed,
            "-o",
            self.folder / "t",
            "--keep-answers",
            self.folder / "kept",
            "--verbose",
            "--keep-raw-rejects",
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn(b"/echo -> 200", done.stderr)
        written = (
            done.stdout
            + done.stderr
            + b"".join(path.read_bytes() for path in (self.folder / "kept").iterdir())
        )
        self.assertNotIn(SECRET.encode(), written)
        self.assertNotIn(b"key-number", written)
        self.assertIn(b"Bearer ***", written)
        long = self.feed("/long", '[secrets]\nword = "env:BUREAU_SECRET"')
        tessaron.survey(tessaron.ApiFeed.read(long, keep_answers=self.folder / "long"))
        kept = b"".join(path.read_bytes() for path in (self.folder / "long").glob("0*"))
        self.assertEqual((kept.count(SECRET.encode()), kept.count(b"***")), (0, 36000 * 40))

    def test_secrets_go_to_no_other_host(self):
        signed = '[sign_in]\nkind = "bearer"\nsecret = "env:BUREAU_SECRET"\n'
        headers = '[headers]\nX-Word = "{word}"\n[secrets]\nword = "env:BUREAU_SECRET"\n'
        for more in (signed, headers):
            with self.subTest(more):
                self.assertEqual(self.rows(self.feed("/away", more), "away")[0]["said"], "")
                self.assertNotIn(SECRET, json.dumps(self.asked("/echo")))
        body = 'method = "POST"\nbody = { word = "{word}" }\n[secrets]\nword = "env:BUREAU_SECRET"\n'
        with self.assertRaisesRegex(
            tessaron.SourceError, "another host, where a secret in the body is not sent"
        ):
            tessaron.shred(self.feed("/away", body))
        each = '[each]\npath = "$.at"\nunder = "more"\n{}\n[secrets]\nword = "env:BUREAU_SECRET"\n'
        lead = '[pages]\nkind = "next"\npath = "$.next"\n'
        for more in (
            'records = "$.items[*]"\n' + each.format('headers = { Authorization = "Bearer {word}" }'), 'records = "$.items[*]"\n' + each.format('parameters = { key = "{word}" }'),
            'headers = { Authorization = "Bearer {word}" }\n' + lead + '[secrets]\nword = "env:BUREAU_SECRET"\n',
        ):  # fmt: skip
            with self.subTest(more):
                self.server.asked.clear()
                tessaron.shred(self.feed("/lead", more))
                self.assertEqual(
                    (len(self.asked("/echo")), SECRET in json.dumps(self.asked("/echo"))), (1, False)
                )
        with mock.patch.dict(os.environ, BUREAU_SECRET="pin"):
            # Too short to be looked for, and still not told.
            self.server.asked.clear()
            tessaron.shred(
                self.feed("/lead", 'records = "$.items[*]"\n' + each.format('headers = { X-Pin = "{word}" }'))
            )
            self.assertNotIn("pin", json.dumps([asked[4] for asked in self.asked("/echo")]))
        with self.assertRaisesRegex(
            tessaron.SourceError, "another host, where a secret in the body is not sent"
        ):
            tessaron.shred(
                self.feed(
                    "/lead",
                    'records = "$.items[*]"\n' + each.format('method = "POST"\nform = { word = "{word}" }'),
                )
            )
        part = {"sign_in": {"kind": "bearer", "secret": "env:BUREAU_SECRET"}}
        with self.assertRaisesRegex(tessaron.UsageError, "only sent over https"):
            tessaron.shred(tessaron.ApiFeed.of("http://office.example/calls", **part))
        with self.assertRaisesRegex(tessaron.UsageError, "only sent over https"):
            tessaron.shred(
                tessaron.ApiFeed.of("http://office.example/{word}", secrets={"word": "env:BUREAU_SECRET"})
            )

    def test_kept_answers_are_run_from_and_gone_on_with(self):
        pages = LOGIN + KEYED + '[pages]\nkind = "number"\nparameter = "page"\ntotal = "$.total"\nat_once = 1'
        feed, kept = self.feed("/desks/{desk}/berths", "attempts = 2\n" + pages), self.folder / "kept"
        self.server.breaks_after = 3
        with self.assertRaisesRegex(tessaron.SourceError, "no whole answer"):
            tessaron.export(tessaron.ApiFeed.read(feed, keep_answers=kept), self.folder / "t")
        self.assertFalse((self.folder / "t").exists())
        with self.assertRaisesRegex(tessaron.SourceError, "no kept answer"):
            tessaron.shred(tessaron.ApiFeed.read(feed, from_answers=kept))
        # The last line was cut off with the run.
        with (kept / "answers.ndjson").open("a", encoding="utf-8") as stream:
            stream.write('{"asked": "GET ')
        self.server.breaks_after, before = None, len(self.asked("/desks"))
        receipt = tessaron.export(tessaron.ApiFeed.read(feed, keep_answers=kept), self.folder / "t")
        self.assertEqual(receipt.records, 12)
        self.assertIn(
            "goes on after a run that was broken off: 3 answers kept",
            " ".join(note.text for note in receipt.notes),
        )
        self.assertEqual(
            [each[2]["page"] for each in self.asked("/desks")[before:] if each[2]["page"] in "12"], []
        )
        with self.assertRaisesRegex(tessaron.UsageError, "has all answers of a run"):
            tessaron.shred(tessaron.ApiFeed.read(feed, keep_answers=kept))
        count = len(self.server.asked)
        with mock.patch.dict(os.environ):
            del os.environ["BUREAU_SECRET"]
            done = quick_command("verify", self.folder / "t", feed, "--from-answers", kept)
        self.assertEqual((done.returncode, len(self.server.asked)), (0, count), done.stderr)
        with self.assertRaisesRegex(tessaron.UsageError, "of another feed"):
            tessaron.shred(tessaron.ApiFeed.read(self.feed("/pages"), from_answers=kept))
        for made, expected in (
            ({"from_answers": self.folder / "none"}, "no kept answers"),
            ({"keep_answers": self.folder}, "not empty"),
        ):
            with self.subTest(expected), self.assertRaisesRegex(tessaron.TessaronError, expected):
                tessaron.shred(tessaron.ApiFeed.read(feed, **made))
        with self.assertRaisesRegex(tessaron.UsageError, "either kept or run from"):
            tessaron.ApiFeed.read(feed, keep_answers="a", from_answers="b")

    def test_fetch(self):
        pages = 'attempts = 1\n[pages]\nkind = "number"\nparameter = "page"\ntotal = "$.total"\nat_once = 1'
        feed, target = self.feed("/pages", pages), self.folder / "got"
        self.server.breaks_after = 2
        done = quick_command("fetch", feed, "-o", target)
        self.assertEqual((done.returncode, target.exists()), (2, False))
        self.server.breaks_after = None
        done = quick_command("fetch", feed, "-o", target, "--verbose")
        self.assertRegex(
            done.stdout.decode(), r"^4 documents, [\d,]+ bytes, from http://127.0.0.1:\d+/pages in "
        )
        self.assertIn(b"goes on after a run that was broken off: 2 answers", done.stderr)
        self.assertEqual([each[2]["page"] for each in self.server.asked], ["1", "2", "3", "3", "4"])
        names = ["00001.json", "00002.json", "00003.json", "00004.json", "fetch.receipt"]
        self.assertEqual(sorted(path.name for path in target.iterdir()), names)
        self.assertEqual([path.name for path in self.folder.iterdir() if path.name.startswith(".")], [])
        self.assertEqual(json.loads((target / names[0]).read_text("utf-8"))["berths"], BERTHS[:3])
        receipt = json.loads((target / "fetch.receipt").read_text("utf-8"))
        self.assertEqual(
            [each["bytes"] for each in receipt["documents"]],
            [(target / name).stat().st_size for name in names[:4]],
        )
        again = tessaron.export(target, self.folder / "t")
        self.assertEqual((again.records, "passed over" in str(again.notes)), (12, False))
        done = quick_command("fetch", feed, "-o", target)
        self.assertRegex(done.stderr.decode(), "is not empty; choose another folder, or replace")
        done = quick_command("fetch", self.url + "/fleet", "-o", target, "--replace", "--json")
        self.assertEqual([each["file"] for each in json.loads(done.stdout)["documents"]], ["00001.xml"])
        (target / "mine.txt").write_text("x", "utf-8")
        self.assertEqual(quick_command("fetch", feed, "-o", target, "--replace").returncode, 2)

    def test_secrets_from_a_keyring(self):
        held = {("bureau", "clerk"): SECRET}
        ring = mock.MagicMock(
            get_password=lambda *names: held.get(names), errors=mock.MagicMock(KeyringError=OSError)
        )
        more = '[sign_in]\nkind = "bearer"\nsecret = "keyring:bureau/{}"'
        with mock.patch.dict(sys.modules, keyring=ring):
            self.assertEqual(
                self.rows(self.feed("/echo", more.format("clerk")), "echo")[0]["said"], f"Bearer {SECRET}"
            )
            with self.assertRaisesRegex(
                tessaron.UsageError, "keyring:bureau/pilot: the keyring has no such secret"
            ):
                tessaron.shred(self.feed("/echo", more.format("pilot")))
        with (
            mock.patch.dict(sys.modules, keyring=None),
            self.assertRaisesRegex(tessaron.UsageError, r"tessaron\[keyring\]"),
        ):
            tessaron.shred(self.feed("/echo", more.format("clerk")))

    def test_mistakes(self):
        cases = (
            ('form = { a = 1 }', 'form needs method = "POST"'), ('method = "POST"\nform = { a = 1 }\nxml = "<a/>"', "one of body, form and xml, got form and xml"),
            ('parameters = { a = "{day}" }', r"line 2: parameters.a: \{day\} stands for nothing; did you mean today"), ('headers = { a = "{mark}" }', r"\{mark\} stands for nothing"),
            ('records = "$["', "line 2: records: "), ('records = "/a["', "line 2: records: expected JSONPath, which begins with .*, or XPath"),
            ('[each]\npath = "$.x"\nunder = "y"\nurl = "item/{each}"', "line 5: each.url: expected an address like .*, or /path at the host of the feed"),
            ('[[before]]\nurl = "/a"\ntake.t = "$.t"\n[[before]]\nurl = "/b/{u}"', r"line 6: before.2.url: \{u\} stands for nothing"), ('[[before]]\nurl = "/a"\ntake.today = "$.t"', "stands for something else already"),
            ('[sign_in]\nkind = "bearer"\nsecret = "{key}"', r"sign_in.secret: \{key\}: no step before takes such a secret"), ('[sign_in]\nkind = "oauth"\nsecret = "env:X"', "oauth needs token_url and client"),
            ('method = "POST"\nbody = { password = "tide" }', "line 3: body.password: a secret goes under"), ('[[before]]\nurl = "/a"\nheaders = { X-Token = "tide" }', "line 4: before.1.headers.X-Token: a secret goes under"),
            ('[pages]\nkind = "number"\nparameter = "p"\nwithin = "body"', 'pages by the body need method = "POST"'), ('[values]\nDay = 1', "values.Day"), ("values.day = { dasy = 1 }", "values.day.dasy: no such key; did you mean days"),
        )  # fmt: skip
        for more, expected in cases:
            with self.subTest(more), self.assertRaisesRegex(tessaron.UsageError, expected):
                tessaron.shred(self.feed("/pages", more))
        for keys, expected in (
            ({"record": "$"}, "feed: record: Extra inputs"),
            ({"records": "$["}, "feed: records: "),
            ({"pages": {"kind": "next"}}, "feed: pages: next needs path"),
        ):
            with self.subTest(keys), self.assertRaisesRegex(tessaron.UsageError, expected):
                tessaron.ApiFeed.of(self.url, **keys)
        for path, expected in (
            ("calls.json", "expected an address, or a feed file whose name ends in .feed.toml"),
            ("none.feed.toml", "cannot be read: No such file"),
            (self.write("odd.feed.toml", b"\xff\xfe"), r"no UTF-8 \(byte 0\)"),
        ):
            with self.subTest(path), self.assertRaisesRegex(tessaron.TessaronError, expected):
                tessaron.fetch(path, self.folder / "none")
        self.assertEqual(self.server.asked, [])
        for arguments, expected in (
            ((Path("a.json"), "--verbose"), "go with an address or a feed file"), ((self.url, self.url, "--keep-answers", "k"), "go with one feed"),
        ):  # fmt: skip
            done = quick_command("survey", *arguments)
            self.assertEqual((done.returncode, expected in done.stderr.decode()), (2, True), done.stderr)


# values in their order, and the largest; or what is wrong with them
MARKS = (
    ([3, 12, 7], 12), (["9", "12"], "12"), (["2026-01-02", "2026-01-10", None], "2026-01-10"), (["b", "a"], "b"), ([], None), ([None], None),
    (["2026-01-01T12:00:00+02:00", "2026-01-01T11:00:00Z"], "2026-01-01T11:00:00Z"), (["2026-01-01T12:00:00Z", "2026-01-01T13:30:00+02:00"], "2026-01-01T12:00:00Z"),
    ([1, "x"], "got 'x'"), (["2026-01-01", "2026-01-01T00:00:00Z"], "got"), ([True], "got 'True'"), ([NumberText("1.5")], "got '1.5'"), ([[1]], "got"),
)  # fmt: skip
# texts of requests, and what is filled in with the values below
VALUES = {"who": "Salt & Sons", "n": 7, "at": "https://h/a?b=c d"}
FILLED = (
    (filled_address, "https://h/{who}/{n}", "https://h/Salt%20%26%20Sons/7"), (filled_address, "{at}", "https://h/a?b=c%20d"), (filled_address, "{+at}&x={n}", "https://h/a?b=c%20d&x=7"),
    (filled, "to {who} {nobody} {}", "to Salt & Sons {nobody} {}"), (filled_xml, '<a b="{who}">{n}</a>', '<a b="Salt &amp; Sons">7</a>'),
    (filled_json, {"a": ["{n}", "{n}!", "{ id }"], "b": {"c": "{who}"}, "d": None, "e": 1.5}, {"a": [7, "7!", "{ id }"], "b": {"c": "Salt & Sons"}, "d": None, "e": 1.5}),
)  # fmt: skip


class PartsTest(FolderTest):
    def test_how_far_a_run_came(self):
        for values, expected in MARKS:
            with self.subTest(values):
                high = HighWater("$.at", None)
                if isinstance(expected, str) and expected.startswith("got"):
                    with self.assertRaisesRegex(tessaron.SourceError, r"mark: \$.at: expected .*" + expected):
                        high.see(values)
                else:
                    high.see(values)
                    self.assertEqual(high.largest, expected)

    def test_what_is_filled_in(self):
        for fill, template, expected in FILLED:
            with self.subTest(template):
                self.assertEqual(fill(template, VALUES), expected)

    def test_secrets_are_masked_wherever_they_are_cut(self):
        hidden = Hidden()
        hidden.add("spring-flood")
        hidden.add("spring-flood-2 +")
        hidden.add("abc")
        text = "x spring-flood y spring-flood-2 + abc spring-flood-2%20%2B spring-floo"
        wanted = "x *** y *** abc *** spring-floo"
        self.assertEqual(hidden.masked(text), wanted)
        for size in range(1, len(text) + 1):
            masker = hidden.masker()
            pieces = [masker.masked(text[at : at + size].encode()) for at in range(0, len(text), size)]
            self.assertEqual(b"".join([*pieces, masker.rest()]).decode(), wanted)

    def test_kept_answers_that_are_broken(self):
        feed = tessaron.ApiFeed.of("https://office.example/calls").part
        for name, text, said in (
            ("a", "nonsense\n", "not lines of JSON"), ("b", '{"x": 1}\n', "does not say of which feed"), ("c", "", "does not say of which feed"),
        ):  # fmt: skip
            self.write(f"{name}/answers.ndjson", text)
            with self.subTest(said), self.assertRaisesRegex(tessaron.SourceError, said):
                KeptAnswers(self.folder / name, feed, is_live=False)
        kept = KeptAnswers(self.folder / "d", feed, is_live=True)
        kept.begin({"today": "2026-01-01"})
        long = b"[" + b"1," * (PAGE_BYTES // 2) + b"1]"
        rest = kept.keep(
            "GET long", Answer("https://h/long", long[:PAGE_BYTES], iter((long[PAGE_BYTES:],))), Hidden()
        ).rest
        self.assertEqual(b"".join(rest), long[PAGE_BYTES:])
        kept.keep("GET next", Answer("https://h/next", b"<a/>", None, "/more"), Hidden())
        kept.complete()
        again = KeptAnswers(self.folder / "d", feed, is_live=False)
        found = again.answer("GET long")
        self.assertEqual((found.head + b"".join(found.rest), again.values), (long, {"today": "2026-01-01"}))
        self.assertEqual(
            (again.answer("GET next").head, again.answer("GET next").following), (b"<a/>", "/more")
        )
        (self.folder / "d" / "00002.xml").unlink()
        with self.assertRaisesRegex(tessaron.SourceError, "00002.xml: cannot be read"):
            again.answer("GET next")
        self.write("file", "x")
        with self.assertRaisesRegex(tessaron.TargetError, "cannot be written"):
            KeptAnswers(self.folder / "file" / "in", feed, is_live=True).begin({})

    def test_what_answers_say(self):
        json_answer, xml_answer = (
            document_of(b'{"a": [{"b": 1}, {"b": 2}], "c": 3}'),
            document_of(b'<x xmlns="urn:fleet"><y n="1"/><y n="2"/></x>'),
        )
        for document, path, expected in (
            (json_answer, "$.a[*].b", [1, 2]),
            (xml_answer, "/fleet:x/fleet:y/@n", ["1", "2"]),
            (xml_answer, "count(//fleet:y)", ["2"]),
        ):
            with self.subTest(path):
                self.assertEqual(document.all_at(path), expected)
        self.assertEqual(
            [part_at(json_answer, path).value for path in (None, "$.c", "$.a[*].b", "$.none")],
            [json_answer.value, 3, [1, 2], None],
        )
        self.assertEqual(
            [len(part_at(xml_answer, path).root) for path in ("/fleet:x", "//fleet:y", "//fleet:z")],
            [2, 2, 0],
        )
        self.assertEqual([document_of(data) for data in (b"<a>", b"{} {}", b'{"a":', b"")], [None] * 4)


if __name__ == "__main__":
    unittest.main()
