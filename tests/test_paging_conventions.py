"""Paging as many APIs have it: each convention is a few lines of a server, and what a feed file says of it."""

import json
import threading
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock
from urllib.parse import parse_qsl, urlsplit

import tessaron
from tests.harness import FolderTest

SHIPS = [{"id": number, "name": f"Tern {number}"} for number in range(1, 24)]
ALL = [ship["id"] for ship in SHIPS]


def part(start, size=5):
    return SHIPS[start : start + size]


def last_id(query, sent):
    """The cursor is the id of the last record; the last page is followed by one that is empty."""
    after = int(query.get("after", 0))
    return {"items": [ship for ship in SHIPS if ship["id"] > after][:5], "has_more": after < 18}


def number_of_next(query, sent):
    page = int(query.get("page", 1))
    return {"data": part(5 * page - 5), "paging": {"next_page": page + 1 if page < 5 else None}}


def nested_links(query, sent):
    page = int(query.get("p", 0))
    links = [{"rel": "self", "href": f"/nested_links?p={page}"}]
    links += [{"rel": "next", "href": f"/nested_links?p={page + 1}"}] if page < 4 else []
    return {"_links": links, "_embedded": {"ships": part(5 * page)}}


def false_at_the_end(query, sent):
    at = int(query.get("cursor", 0))
    return {"ships": part(at), "cursor": at + 5 if at + 5 < len(SHIPS) else False}


def pages_in_the_answer(query, sent):
    """Numbered from 0, with how many there are as a text."""
    page = int(query.get("n", 0))
    return {"meta": {"total": str(len(SHIPS))}, "ships": part(5 * page)}


def smaller_pages_than_asked(query, sent):
    start = int(query.get("start", 0))
    return {"total": len(SHIPS), "ships": part(start, min(int(query.get("count", 5)), 4))}


def cursor_in_the_body(query, sent):
    at = int((sent or {}).get("page_token") or 0)
    return {"ships": part(at), "page_token": str(at + 5) if at + 5 < len(SHIPS) else ""}


def number_in_the_form(query, sent):
    return {"ships": part(5 * int((sent or {}).get("page", 1)) - 5)}


def bare_array(query, sent):
    return part(5 * int(query.get("page", 1)) - 5)


def total_in_a_header(query, sent):
    return part(5 * int(query.get("page", 1)) - 5), {"X-Total-Count": str(len(SHIPS))}


def next_in_a_header(query, sent):
    page = int(query.get("page", 1))
    return part(5 * page - 5), {"X-Next-Page": str(page + 1) if page < 5 else "", "X-Total": "23"}


def address_in_a_header(query, sent):
    at = int(query.get("at", 0))
    return {"ships": part(at)}, {"X-More": f"?at={at + 5}"} if at + 5 < len(SHIPS) else {}


def links_and_a_total(query, sent):
    page = int(query.get("page", 1))
    following = {"Link": f'<?page={page + 1}>; rel="next"'} if page < 5 else {}
    return {"ships": part(5 * page - 5)}, {"Total": str(len(SHIPS)), **following}


def one_page(query, sent):
    return {"total": len(SHIPS), "ships": SHIPS}


def one_alone_at_the_end(query, sent):
    page = int(query.get("page", 1))
    return {"page": page, "ships": part(11 * page - 11, 11)}


# what answers, what the feed file says, in how many requests all ships come
CONVENTIONS = (
    (last_id, 'pages = { kind = "cursor", path = "$.items[-1:].id", parameter = "after" }', 6), (number_of_next, 'pages = { kind = "cursor", path = "$.paging.next_page", parameter = "page" }', 5),
    (nested_links, 'records = "$._embedded.ships[*]"\npages = { kind = "next", path = "$._links[?@.rel == \'next\'].href" }', 5), (false_at_the_end, 'pages = { kind = "cursor", path = "$.cursor", parameter = "cursor" }', 5),
    (pages_in_the_answer, 'pages = { kind = "number", parameter = "n", first = 0, total = "$.meta.total" }', 5), (smaller_pages_than_asked, 'pages = { kind = "offset", parameter = "start", size = 50, size_parameter = "count", total = "$.total" }', 6),
    (smaller_pages_than_asked, 'pages = { kind = "offset", parameter = "start", size = 50, size_parameter = "count" }', 7),
    (cursor_in_the_body, 'method = "POST"\nbody = { query = "{ ships { id } }" }\npages = { kind = "cursor", path = "$.page_token", parameter = "page_token", within = "body" }', 5),
    (number_in_the_form, 'method = "POST"\nform = { kind = "tern" }\npages = { kind = "number", parameter = "page", within = "body" }', 6), (bare_array, 'pages = { kind = "number", parameter = "page" }', 6),
    (total_in_a_header, 'pages = { kind = "number", parameter = "page", total_header = "X-Total-Count" }', 5), (total_in_a_header, 'pages = { kind = "number", parameter = "page" }', 6),
    (next_in_a_header, 'pages = { kind = "cursor", header = "x-next-page", parameter = "page", total_header = "x-total" }', 5),
    (address_in_a_header, 'pages = { kind = "next", header = "X-More" }', 5), (links_and_a_total, 'pages = { total_header = "total" }', 5),
    (one_page, 'pages = { kind = "number", parameter = "page", total = "$.total" }', 1), (one_alone_at_the_end, 'pages = { kind = "number", parameter = "page" }', 4),
)  # fmt: skip


class Registry(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        pass

    def do_GET(self, sent=None):
        parts = urlsplit(self.path)
        self.server.count += 1
        value = globals()[parts.path.strip("/")](dict(parse_qsl(parts.query)), sent)
        value, headers = value if isinstance(value, tuple) else (value, {})
        data = json.dumps(value).encode()
        # A network that drops connections: every third answer breaks off.
        is_cut = self.server.drops and self.server.count % 3 == 0
        self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        for header in headers.items():
            self.send_header(*header)
        self.end_headers()
        self.wfile.write(data[: len(data) // 2] if is_cut else data)
        self.close_connection = is_cut

    def do_POST(self):
        data = self.rfile.read(int(self.headers["Content-Length"])).decode()
        self.do_GET(json.loads(data) if "json" in self.headers["Content-Type"] else dict(parse_qsl(data)))


def ids_of(tables):
    return next(table for table in tables.values() if "name" in table.column_names).column("id").to_pylist()


class ConventionsTest(FolderTest):
    @classmethod
    def setUpClass(cls):
        cls.server = ThreadingHTTPServer(("127.0.0.1", 0), Registry)
        threading.Thread(target=cls.server.serve_forever, daemon=True).start()
        cls.addClassCleanup(cls.server.server_close)
        cls.addClassCleanup(cls.server.shutdown)

    def feed(self, answer, text):
        address = f"http://127.0.0.1:{self.server.server_port}/{answer.__name__}"
        return self.write(f"{answer.__name__}.feed.toml", f'url = "{address}"\n{text}\n')

    def ids(self, answer, text):
        self.server.count = 0
        return ids_of(tessaron.shred(self.feed(answer, text)))

    def test_all_ships_come(self):
        self.server.drops = False
        for answer, text, requests in CONVENTIONS:
            with self.subTest(answer.__name__, text=text):
                self.assertEqual(self.ids(answer, text), ALL)
                self.assertEqual(self.server.count, requests)

    def test_all_ships_come_over_a_network_that_drops_connections(self):
        self.server.drops = True
        with mock.patch("tenacity.nap.time.sleep"):
            for answer, text, _ in CONVENTIONS:
                with self.subTest(answer.__name__, text=text):
                    self.assertEqual(self.ids(answer, text), ALL)

    def test_kept_answers_say_what_their_headers_said(self):
        self.server.drops = False
        for answer, text, _ in (each for each in CONVENTIONS if "header" in each[1]):
            with self.subTest(answer.__name__):
                feed, kept = self.feed(answer, text), self.folder / answer.__name__
                tessaron.fetch(
                    tessaron.ApiFeed.read(feed, keep_answers=kept), self.folder / f"{kept.name}_all"
                )
                self.server.count = 0
                self.assertEqual(ids_of(tessaron.shred(tessaron.ApiFeed.read(feed, from_answers=kept))), ALL)
                self.assertEqual(self.server.count, 0)

    def test_totals_that_are_not_there_or_do_not_fit(self):
        self.server.drops = False
        cases = (
            (total_in_a_header, "", "only the first page, it seems: 5 records of 23"),
            (total_in_a_header, 'pages = { kind = "number", parameter = "page", total_header = "X-All" }', "no number of records at X-All"),
            (bare_array, 'pages = { kind = "number", parameter = "page", total = "$.total" }', "no number of records at $.total"),
        )  # fmt: skip
        for answer, text, said in cases:
            with self.subTest(text):
                notes = tessaron.shred(self.feed(answer, text)).notes
                self.assertIn(said, " ".join(note for _, note in notes))
        with self.assertRaisesRegex(tessaron.SourceError, "5 records came in 1 page, the answers tell of 23"):
            tessaron.shred(self.feed(total_in_a_header, 'pages = { total_header = "X-Total-Count" }'))


if __name__ == "__main__":
    unittest.main()
