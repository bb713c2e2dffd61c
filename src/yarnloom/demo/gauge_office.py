"""A stand-in for the gauge office: a small HTTP service that is slow, as such offices are.

`GET /harbours` answers the harbours of the coast,
`GET /readings?harbour=brackwater&year=2026&month=3` a month's hourly levels. One gauge is silent.
"""

from __future__ import annotations

import contextlib
import json
import threading
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, urlsplit

from yarnloom.demo.tides import HARBOURS, SILENT, observe

ADDRESS_VARIABLE = "TIDE_OFFICE_URL"
ANSWER_SECONDS = 0.25


class _Handler(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        """Answer the list of harbours, or one month of readings."""
        if urlsplit(self.path).path == "/harbours":
            self._send(200, [{"code": code} for code in sorted([*HARBOURS, SILENT])])
            return
        query = {key: values[0] for key, values in parse_qs(urlsplit(self.path).query).items()}
        harbour, year, month = query.get("harbour", ""), query.get("year"), query.get("month")
        if harbour == SILENT:
            self._send(404, {"error": f"the gauge at {harbour} is silent since the storm of 2019"})
            return
        if harbour not in HARBOURS or not year or not month:
            self._send(404, {"error": f"no gauge at {harbour!r}; there is {', '.join(HARBOURS)}"})
            return
        time.sleep(ANSWER_SECONDS)
        start = datetime(int(year), int(month), 1, tzinfo=UTC)
        end = datetime(start.year + start.month // 12, start.month % 12 + 1, 1, tzinfo=UTC)
        hours = int((end - start).total_seconds() // 3600)
        self._send(200, {"start": start.isoformat(), "levels": observe(harbour, start, hours)})

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
def gauge_office() -> Iterator[str]:
    """Run the stand-in on a free port of this machine; gives its address."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Handler)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
