"""A stand-in for the gauge office: a small HTTP service that is as such offices are.

`GET /harbours` answers the harbours of the coast,
`GET /readings?harbour=brackwater&year=2026&month=3` a month's hourly levels. It is slow; it fails
now and then, and answers when asked again; it lets three callers in at once, and turns a fourth
away. One gauge is silent, until somebody is sent to it (`POST /repair`).
"""

from __future__ import annotations

import contextlib
import threading
import time
import zlib
from collections import Counter
from datetime import UTC, datetime
from urllib.parse import parse_qs, urlsplit

from yarnloom.demo.stand_ins import Desk, StandIn, running
from yarnloom.demo.tides import HARBOURS, SILENT, observe

ADDRESS_VARIABLE = "TIDE_OFFICE_URL"
ANSWER_SECONDS = 0.25
CONNECTIONS = 3
FAILING_ONE_IN = 5


class _Office(StandIn):
    """The office: who is in, and how often each month was asked for."""

    def __init__(self) -> None:
        super().__init__(_Handler)
        self.doors = threading.BoundedSemaphore(CONNECTIONS)
        self.asked: Counter[str] = Counter()
        self.turned_away = 0
        self.repaired = False


class _Handler(Desk):
    server: _Office

    def do_GET(self) -> None:
        """Answer the list of harbours, or one month of readings."""
        parts = urlsplit(self.path)
        if parts.path == "/harbours":
            self.answer(200, [{"code": code} for code in sorted([*HARBOURS, SILENT])])
            return
        if not self.server.doors.acquire(blocking=False):
            self.server.turned_away += 1
            message = f"{CONNECTIONS} callers are in already"
            self.answer(429, {"error": message, "again_in": 2 * ANSWER_SECONDS})
            return
        try:
            self.answer(*self._readings(parts.query))
        finally:
            self.server.doors.release()

    def do_POST(self) -> None:
        """Send somebody to the silent gauge."""
        self.server.repaired = True
        self.answer(200, {"repaired": SILENT})

    def _readings(self, given: str) -> tuple[int, object]:
        query = {key: values[0] for key, values in parse_qs(given).items()}
        harbour, year, month = query.get("harbour", ""), query.get("year"), query.get("month")
        if harbour == SILENT and not self.server.repaired:
            return 404, {"error": f"the gauge at {harbour} is silent since the storm of 2019"}
        if harbour not in (*HARBOURS, SILENT) or not year or not month:
            return 404, {"error": f"no gauge at {harbour!r}; there is {', '.join(HARBOURS)}"}
        time.sleep(ANSWER_SECONDS)
        what = f"{harbour} {year}-{month}"
        self.server.asked[what] += 1
        if self.server.asked[what] <= _failures(what):
            return 503, {"error": f"the archive does not answer for {what}"}
        start = datetime(int(year), int(month), 1, tzinfo=UTC)
        end = datetime(start.year + start.month // 12, start.month % 12 + 1, 1, tzinfo=UTC)
        hours = int((end - start).total_seconds() // 3600)
        return 200, {"start": start.isoformat(), "levels": observe(harbour, start, hours)}


def _failures(what: str) -> int:
    """How often a month is asked for in vain: mostly never, here and there once or twice."""
    drawn = zlib.crc32(what.encode())
    return 1 + drawn // FAILING_ONE_IN % 2 if drawn % FAILING_ONE_IN == 0 else 0


def gauge_office() -> contextlib.AbstractContextManager[str]:
    """Run the stand-in on a free port of this machine; gives its address."""
    return running(_Office())
