"""What the demo's stand-ins for outside services share: small HTTP services on this machine."""

from __future__ import annotations

import contextlib
import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer


class StandIn(ThreadingHTTPServer):
    """One of them, on a free port."""

    daemon_threads = True

    def __init__(self, handler: type[BaseHTTPRequestHandler]) -> None:
        super().__init__(("127.0.0.1", 0), handler)


class Desk(BaseHTTPRequestHandler):
    """Answers, in JSON unless it is a page, and says nothing else."""

    def answer(self, status: int, body: object) -> None:
        """Send an answer."""
        self.send(status, "application/json", json.dumps(body).encode())

    def send(self, status: int, kind: str, data: bytes) -> None:
        """Send bytes."""
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""


@contextlib.contextmanager
def running(server: StandIn) -> Iterator[str]:
    """Let a stand-in answer; gives its address."""
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
