"""A stand-in for the office's web host: a small HTTP service that keeps pages and pictures.

`PUT /NAME` puts the body there, `GET /NAME` answers it, as a browser asks for it. Putting the same
there again changes nothing, so nobody needs a token.
"""

from __future__ import annotations

import contextlib
import threading
from urllib.parse import unquote

from yarnloom.demo.stand_ins import Desk, StandIn, running

ADDRESS_VARIABLE = "TIDE_WEB_HOST_URL"


class _Host(StandIn):
    """What was put there, by name: media type and bytes."""

    def __init__(self) -> None:
        super().__init__(_Handler)
        self.lock = threading.Lock()
        self.pages: dict[str, tuple[str, bytes]] = {}


class _Handler(Desk):
    server: _Host

    def do_PUT(self) -> None:
        """Keep a page."""
        body = self.rfile.read(int(self.headers["Content-Length"]))
        kind = self.headers.get("Content-Type", "application/octet-stream")
        with self.server.lock:
            self.server.pages[self._name] = kind, body
        self.answer(201, {"name": self._name, "bytes": len(body)})

    def do_GET(self) -> None:
        """Answer a page."""
        with self.server.lock:
            found = self.server.pages.get(self._name)
        if found is None:
            self.answer(404, {"error": f"nothing is at {self._name!r}"})
            return
        kind, body = found
        self.send(200, kind, body)

    @property
    def _name(self) -> str:
        return unquote(self.path.partition("?")[0]).strip("/")


def web_host() -> contextlib.AbstractContextManager[str]:
    """Run the stand-in on a free port of this machine; gives its address."""
    return running(_Host())
