"""Pages of a web API one after another and several at once, side by side: `python benchmarks/pages.py`.

The API stands on this machine and takes 50 ms for each of its 200 pages of 100 records.
"""

from __future__ import annotations

import json
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qsl, urlsplit

import tessaron

PAGES, SIZE, SECONDS, ROUNDS = 200, 100, 0.05, 3


class _Desk(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True

    def do_GET(self) -> None:
        page = int(dict(parse_qsl(urlsplit(self.path).query)).get("page", 1))
        calls = [{"call": page * SIZE + number, "stays": [{"berth": "N1"}]} for number in range(SIZE)]
        body = json.dumps({"total": PAGES * SIZE, "calls": calls}).encode()
        time.sleep(SECONDS)
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""


def seconds(feed: Path) -> float:
    """Return how long it takes to shred all pages."""
    begin = time.perf_counter()
    if tessaron.shred(feed)["calls"].num_rows != PAGES * SIZE:
        raise SystemExit("not all pages came")
    return time.perf_counter() - begin


def main() -> None:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Desk)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with tempfile.TemporaryDirectory() as folder:
        feeds = {}
        for at_once in (1, 8):
            feeds[at_once] = Path(folder) / f"{at_once}.feed.toml"
            feeds[at_once].write_text(
                f'url = "http://127.0.0.1:{server.server_port}/calls"\n'
                f'pages = {{ kind = "number", parameter = "page", total = "$.total", at_once = {at_once} }}\n',
                "utf-8",
            )
        for number in range(1, ROUNDS + 1):
            taken = {at_once: seconds(feed) for at_once, feed in feeds.items()}
            print(
                f"round {number}: one by one {taken[1]:.2f} s, 8 at once {taken[8]:.2f} s, {taken[1] / taken[8]:.1f} times"
            )


if __name__ == "__main__":
    main()
