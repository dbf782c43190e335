"""Serves the page of choices to one person on this machine, until the page is closed."""

from __future__ import annotations

import json
import secrets
import sys
import threading
import time
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from tessaron.choosing.live_draft import LiveDraft
from tessaron.core.base.errors import TessaronError

_MOST_BYTES = 16 * 1024 * 1024
"""The longest choice that is read: a whole layout."""
_BEAT_SECONDS, _GRACE_SECONDS = 0.5, 3.0
"""How often a page is asked whether it is there; how long it may be gone, as when it is loaded anew."""


class ChoosingServer(ThreadingHTTPServer):
    """The page at a port of the loopback address, behind a path that nobody can guess.

    Args:
        live: What is chosen.
        port: The port; 0 takes a free one.

    Raises:
        OSError: When the port is taken.
    """

    daemon_threads = True

    def __init__(self, live: LiveDraft, port: int = 0):
        super().__init__(("127.0.0.1", port), _Desk)
        self.live = live
        self.token = secrets.token_urlsafe(24)
        self.work = threading.Lock()
        self._watching = 0
        self._has_ended = threading.Event()
        self._last_seen: float | None = None

    @property
    def url(self) -> str:
        """Where the page is."""
        return f"http://127.0.0.1:{self.server_port}/{self.token}/"

    def serve_until_closed(self) -> None:
        """Serve until the page, once opened, has been closed."""
        threading.Thread(target=self._stop_when_closed, daemon=True).start()
        try:
            self.serve_forever(poll_interval=0.1)
        finally:
            self._has_ended.set()

    def _stop_when_closed(self) -> None:
        while not self._has_ended.wait(_BEAT_SECONDS):
            last = self._last_seen
            if last is not None and not self._watching and time.monotonic() - last > _GRACE_SECONDS:
                self.shutdown()
                return

    def watch(self, desk: _Desk) -> None:
        """Stay with a page until it goes."""
        with self.work:
            self._watching += 1
        try:
            while not self._has_ended.wait(_BEAT_SECONDS):
                desk.wfile.write(b": here\n\n")
                desk.wfile.flush()
        except OSError:
            pass
        finally:
            with self.work:
                self._watching -= 1
            self._last_seen = time.monotonic()

    def handle_error(self, request: object, client_address: object) -> None:
        """Say nothing of pages that go before they have their answer."""
        if not isinstance(sys.exception(), ConnectionError):
            super().handle_error(request, client_address)  # type: ignore[arg-type]


class _Desk(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server: ChoosingServer

    def do_GET(self) -> None:
        match self._asked():
            case "":
                with self.server.work:
                    text = self.server.live.page()
                self._answer(HTTPStatus.OK, text.encode(), "text/html; charset=utf-8")
            case "watch":
                self.send_response(HTTPStatus.OK)
                self.send_header("Content-Type", "text/event-stream")
                self.send_header("Cache-Control", "no-store")
                self.end_headers()
                self.close_connection = True
                self.server.watch(self)
            case _:
                self._refuse()

    def do_POST(self) -> None:
        size = int(self.headers.get("Content-Length") or 0)
        if self._asked() != "choose" or not self._is_own_page() or size > _MOST_BYTES:
            self.close_connection = True
            self._refuse()
            return
        data = self.rfile.read(size)
        try:
            choice = json.loads(data)
            if not isinstance(choice, dict):
                raise ValueError("a choice is an object")
            with self.server.work:
                made: dict[str, Any] = self.server.live.choose(choice)
            self._answer(HTTPStatus.OK, json.dumps(made, default=str).encode(), "application/json")
        except (TessaronError, ValueError) as error:
            self._answer(
                HTTPStatus.UNPROCESSABLE_ENTITY,
                json.dumps({"error": str(error)}).encode(),
                "application/json",
            )

    def _asked(self) -> str | None:
        """Return what is asked for behind the token; None for all that does not have it."""
        hosts = (f"127.0.0.1:{self.server.server_port}", f"localhost:{self.server.server_port}")
        start = f"/{self.server.token}/"
        given = self.path[: len(start)].encode("utf-8", "replace")
        # Another host name would be a site that had itself pointed at this machine.
        if self.headers.get("Host") not in hosts or not secrets.compare_digest(given, start.encode()):
            return None
        return self.path[len(start) :]

    def _is_own_page(self) -> bool:
        origin = self.headers.get("Origin")
        port = self.server.server_port
        return origin in (None, f"http://127.0.0.1:{port}", f"http://localhost:{port}")

    def _refuse(self) -> None:
        self._answer(HTTPStatus.NOT_FOUND, b"nothing is here\n", "text/plain")

    def _answer(self, status: HTTPStatus, body: bytes, kind: str) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Cache-Control", "no-store")
        self.send_header("Referrer-Policy", "no-referrer")
        self.send_header("X-Content-Type-Options", "nosniff")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing of what is asked."""
