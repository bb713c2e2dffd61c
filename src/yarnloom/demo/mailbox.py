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

from yarnloom.demo.stand_ins import Desk, StandIn, running

ADDRESS_VARIABLE = "TIDE_MAILBOX_URL"
ANSWER_SECONDS = 0.12
REFUSING_ONE_IN = 11


class _Mailbox(StandIn):
    """What arrived, by token."""

    def __init__(self) -> None:
        super().__init__(_Handler)
        self.lock = threading.Lock()
        self.letters: dict[str, dict[str, object]] = {}
        self.calls = 0


class _Handler(Desk):
    server: _Mailbox

    def do_GET(self) -> None:
        """Answer every letter that arrived."""
        with self.server.lock:
            self.answer(200, {"letters": list(self.server.letters.values())})

    def do_POST(self) -> None:
        """Take a letter in, once for each token."""
        letter = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        token = self.headers.get("Idempotency-Key", "")
        time.sleep(ANSWER_SECONDS)
        with self.server.lock:
            self.server.calls += 1
            if token not in self.server.letters and self.server.calls % REFUSING_ONE_IN == 0:
                self.answer(503, {"error": "the mailbox is being emptied; nothing was taken in"})
                return
            number = len(self.server.letters) + 1
            known = self.server.letters.setdefault(token, {**letter, "number": number})
            self.answer(201, {"letter": known["number"]})


def mailbox() -> contextlib.AbstractContextManager[str]:
    """Run the stand-in on a free port of this machine; gives its address."""
    return running(_Mailbox())
