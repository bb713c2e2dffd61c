"""A stand-in for the harbour masters' mailbox: a small HTTP service that honours tokens.

`POST /letters` with `{"to", "subject", "text"}` delivers a letter. A letter whose
`Idempotency-Key` it knows is not delivered again; the answer is that of the first time. It is
slow, and now and then refuses before it has done anything. `GET /letters` answers what arrived.
"""

from __future__ import annotations

import contextlib
import json
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

ADDRESS_VARIABLE = "TIDE_MAILBOX_URL"
ANSWER_SECONDS = 0.12
REFUSING_ONE_IN = 11


class _Mailbox(ThreadingHTTPServer):
    """What arrived, by token."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.lock = threading.Lock()
        self.letters: dict[str, dict[str, object]] = {}
        self.calls = 0


class _Handler(BaseHTTPRequestHandler):
    server: _Mailbox

    def do_GET(self) -> None:
        """Answer every letter that arrived."""
        with self.server.lock:
            self._send(200, {"letters": list(self.server.letters.values())})

    def do_POST(self) -> None:
        """Take a letter in, once for each token."""
        letter = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        token = self.headers.get("Idempotency-Key", "")
        time.sleep(ANSWER_SECONDS)
        with self.server.lock:
            self.server.calls += 1
            if token not in self.server.letters and self.server.calls % REFUSING_ONE_IN == 0:
                self._send(503, {"error": "the mailbox is being emptied; nothing was taken in"})
                return
            number = len(self.server.letters) + 1
            known = self.server.letters.setdefault(token, {**letter, "number": number})
            self._send(201, {"letter": known["number"]})

    def _send(self, status: int, body: object) -> None:
        data = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""


@contextlib.contextmanager
def mailbox() -> Iterator[str]:
    """Run the stand-in on a free port of this machine; gives its address."""
    server = _Mailbox()
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
