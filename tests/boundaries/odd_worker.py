"""A worker that reports anything, and the reports that it makes."""

from __future__ import annotations

import itertools
import json
from typing import Any

import httpx
from hypothesis import strategies as some

from tests import raw_http


def report_bodies() -> Any:
    """Reports of a worker about an attempt, named 0, that it has in hand: right ones and others."""
    json_values = some.recursive(
        some.none() | some.booleans() | some.integers() | some.floats() | some.text(max_size=20),
        lambda inner: (
            some.lists(inner, max_size=3)
            | some.dictionaries(some.text(max_size=8), inner, max_size=3)
        ),
        max_leaves=6,
    )
    texts = some.text(max_size=30) | some.integers(1, 60_000).map("x".__mul__)
    figures = some.integers(-(2**63), 2**63) | some.floats() | some.integers() | json_values
    errors = some.fixed_dictionaries(
        {},
        optional={
            "type": texts | json_values,
            "message": texts | json_values,
            "traceback": texts,
            "kinds": some.lists(texts, max_size=3) | json_values,
            "other": json_values,
        },
    )
    progress = some.fixed_dictionaries(
        {},
        optional={
            **dict.fromkeys(("done", "total", "rate", "added", "skipped"), figures),
            **dict.fromkeys(("unit", "note"), texts),
        },
    )
    place = some.fixed_dictionaries({}, optional={"at": figures, "last": texts, "carry": texts})
    saved = some.fixed_dictionaries(
        {},
        optional={
            "progress": progress | json_values,
            "places": some.dictionaries(texts, place | json_values, max_size=2),
            "counts": some.dictionaries(some.sampled_from(["added", "skipped", "x"]), figures),
            "kept": json_values,
            "carried": json_values,
        },
    )
    outcomes = ["done", "failed", "refused", "lost", "stopped", "handed_back", "called_again",
                "cancelled", None, "odd"]  # fmt: skip
    item = some.fixed_dictionaries(
        {"attempt": some.just(0), "outcome": some.sampled_from(outcomes)},
        optional={
            "output": json_values,
            "error": errors | json_values,
            "saved": saved | json_values,
            **dict.fromkeys(("begun_ago", "ended_ago", "after", "cpu", "memory", "pid"), figures),
            "abandoned": some.booleans(),
        },
    )
    line = some.fixed_dictionaries(
        {},
        optional={
            "at": some.just("2027-01-01T00:00:00Z") | texts,
            "stream": some.sampled_from(["stdout", "log", "published", "odd"]) | json_values,
            "text": texts | json_values,
            "value": json_values,
            "level": texts,
        },
    )
    log = some.fixed_dictionaries(
        {"attempt": some.just(0)},
        optional={"first": figures, "lines": some.lists(line | json_values, max_size=3)},
    )
    return some.fixed_dictionaries(
        {},
        optional={
            "items": some.lists(item | json_values, max_size=3),
            "logs": some.lists(log | json_values, max_size=2),
            "saved": some.dictionaries(some.just("0") | some.text(max_size=3), saved, max_size=2),
            "freed": some.lists(some.just(0) | figures, max_size=2),
            "received": some.lists(figures, max_size=2),
            "places": figures,
            "trouble": texts,
            "done": json_values,
        },
    )


PLAN = {
    "format": 1,
    "loom": "odd",
    "workflow": "w",
    "params": {"type": "object"},
    "tasks": {"odd/t": {"input": {"type": "object"}, "output": {}}},
    "plan": {
        "kind": "sequence",
        "parts": [{"kind": "step", "label": "t", "task": "odd/t", "inputs": {}}],
    },
}


class OddWorker:
    """A worker that reports anything, beside a healthy one."""

    def __init__(self, url: str) -> None:
        self.http = raw_http.Client(base_url=f"{url}/api/v1", trust_env=False, timeout=60)
        assert self.http.post("/workflows", json={"plans": [PLAN]}).status_code == 200
        facts = {"id": "odd", "name": "odd", "places": 100_000, "tasks": {"odd/t": "h"}}
        self.epoch = self.http.post("/workers", json=facts).json()["epoch"]
        self.serials: list[int] = []
        self.keys = itertools.count()
        self.waiting: list[tuple[int, int]] = []

    def attempt(self) -> tuple[int, int]:
        """A run, and an attempt of it that this worker has in hand."""
        while not self.waiting:
            body = {"target": "odd/w", "key": f"k{next(self.keys)}"}
            assert self.http.post("/runs", json=body).status_code == 201
            ask = {"epoch": self.epoch, "received": self.serials, "places": 100_000}
            answer = self.http.post("/workers/odd/ask", json=ask).json()
            self.serials = [message["serial"] for message in answer["messages"]]
            self.waiting += [
                (int(message["address"].partition("/")[0]), message["attempt"])
                for message in answer["messages"]
                if message["kind"] == "work"
            ]
        return self.waiting.pop()

    def report(self, body: dict[str, Any], attempt: int = 0) -> httpx.Response:
        """Send a report in which the attempt is named 0."""
        text = json.dumps({"epoch": self.epoch, **body})
        text = text.replace('"attempt": 0', f'"attempt": {attempt}')
        text = text.replace('"0": ', f'"{attempt}": ')
        headers = {"content-type": "application/json"}
        return self.http.post("/workers/odd/report", content=text, headers=headers)
