"""Serves the stand-in harbour office on this machine, and on this machine only."""

from __future__ import annotations

import json
import sys
import time
from collections import Counter
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Lock
from urllib.parse import parse_qsl, urlsplit

from tessaron.sources.demo.office import FEEDS, Passes, Question, reply


class OfficeServer(ThreadingHTTPServer):
    """The office at a port of the loopback address; 0 takes a free one.

    Raises:
        OSError: When the port is taken.
    """

    daemon_threads = True

    def __init__(self, port: int = 0):
        super().__init__(("127.0.0.1", port), _Desk)
        self._asked: Counter[str] = Counter()
        self._lock = Lock()
        self.passes = Passes()

    @property
    def url(self) -> str:
        """Where it is."""
        return f"http://127.0.0.1:{self.server_port}"

    def handle_error(self, request: object, client_address: object) -> None:
        """Say nothing of those who go before they have their answer."""
        if not isinstance(sys.exception(), ConnectionError):
            super().handle_error(request, client_address)  # type: ignore[arg-type]

    def turn(self, address: str) -> int:
        """Return how often an address was asked for, this time included."""
        with self._lock:
            self._asked[address] += 1
            return self._asked[address]


class _Desk(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server: OfficeServer

    def do_POST(self) -> None:
        data = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        try:
            if "json" in self.headers.get("Content-Type", ""):
                sent = {name: str(value) for name, value in json.loads(data).items()}
            else:
                sent = dict(parse_qsl(data.decode()))
        except (ValueError, AttributeError):
            sent = {}
        self._answer(sent)

    def do_GET(self) -> None:
        self._answer({})

    def _answer(self, sent: dict[str, str]) -> None:
        parts = urlsplit(self.path)
        answer = reply(
            parts.path,
            Question(
                dict(parse_qsl(parts.query)),
                self.headers.get("Authorization", ""),
                self.server.turn(self.path),
                sent,
                self.server.passes,
                parts.path,
            ),
        )
        time.sleep(answer.seconds)
        self.send_response(answer.status)
        self.send_header("Content-Type", answer.headers.get("Content-Type", "application/json"))
        self.send_header("Content-Length", str(len(answer.body)))
        for name, value in answer.headers.items():
            if name != "Content-Type":
                self.send_header(name, value)
        self.end_headers()
        self.wfile.write(answer.body[: len(answer.body) // 2] if answer.is_broken else answer.body)
        self.close_connection = answer.is_broken

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing: who asks is told enough."""


def write_feeds(folder: Path, url: str) -> list[Path]:
    """Write the feed files of an office at `url` into `folder`; return their paths."""
    paths = []
    for name, (address, text) in FEEDS.items():
        path = folder / f"{name}.feed.toml"
        gap = "\n" if text.startswith("[") else ""
        path.write_text(f'url = "{url}{address}"\n{gap}{text}', "utf-8")
        paths.append(path)
    return paths
