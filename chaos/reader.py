"""Somebody who looks at runs in the middle of trouble, and finds fault with what does not fit."""

from __future__ import annotations

import contextlib
import random
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from itertools import pairwise
from typing import Any

import httpx
from tests import raw_http

PAGES = (
    *("", "/graph", "/glance", "/times", "/why", "/failures", "/record", "/commands"),
    *("/items?address=all", "/outliers?address=all", "/export?address=all", "/lines"),
)
GIVEN_UP = (404, 410, 422, 503)
"""Answers of a service whose records were put back, whose run has no such part, or that is busy."""


class Reader:
    """Reads pages of runs, one after another, until the chaos is over.

    Args:
        url: of the service.
        chance: picks the next page.
        runs: tells which runs there are.
        over: set when it is to end.
    """

    def __init__(
        self, url: str, chance: random.Random, runs: Callable[[], list[int]], over: threading.Event
    ) -> None:
        self._url, self._chance, self._runs, self._over = url, chance, runs, over
        self.read: Counter[str] = Counter()
        self.faults: list[str] = []
        self.ended = False

    def keep_reading(self) -> None:
        """Read until the end; a service that does not answer is asked again."""
        with raw_http.Client(base_url=f"{self._url}/api/v1", timeout=30) as http:
            while not self._over.wait(0.05):
                if runs := self._runs():
                    run = self._chance.choice(runs[-20:])
                    with contextlib.suppress(httpx.TransportError):
                        self._read(http, run)
            self.ended = True

    def _read(self, http: httpx.Client, run: int) -> None:
        path = self._chance.choice((*PAGES, "/attempts", "/items"))
        if path == "/attempts":
            self._in_order(http, f"/runs/{run}/attempts?limit=50", "attempts", "id")
        elif path == "/items":
            self._in_order(http, f"/runs/{run}/items?address=all&limit=50", "items", "item")
        else:
            self._answer(http, f"/runs/{run}{path}")

    def _answer(self, http: httpx.Client, path: str) -> httpx.Response | None:
        answer = http.get(path)
        self.read[f"pages read, answered {answer.status_code}"] += 1
        if answer.status_code == httpx.codes.OK:
            return answer
        if answer.status_code not in GIVEN_UP:
            self.faults.append(f"reading: {path}: {answer.status_code} {answer.text[:300]}")
        return None

    def _in_order(self, http: httpx.Client, path: str, name: str, key: str) -> None:
        """Walk through a list to its end: no entry comes twice, and none before an earlier one."""
        keys = [entry[key] for entry in self._entries(http, path, name)]
        if any(after <= before for before, after in pairwise(keys)):
            self.faults.append(f"reading: {path}: out of order: {keys}")

    def _entries(self, http: httpx.Client, path: str, name: str) -> Iterator[Any]:
        cursor: str | None = ""
        while cursor is not None:
            answer = self._answer(http, path + (f"&cursor={cursor}" if cursor else ""))
            if answer is None:
                return
            yield from answer.json()[name]
            cursor = answer.json()["next"]
