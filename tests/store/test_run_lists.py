"""Lists of runs that look up what is rare, and what is of late."""

from __future__ import annotations

import json
import random

import pytest

from yarnloom.store import audit
from yarnloom.store.runs import run_lists
from yarnloom.store.runs.run_lists import RunFilter
from yarnloom.testing import inline_service

COLUMNS = (
    "number, plan, workflow, version, params, share, tags, start_key, started_by, created_at,"
    " priority, state, round, ended_at"
)


@pytest.mark.parametrize("counted", [3, 1_000])
def test_each_way_of_looking_finds_the_same(monkeypatch: pytest.MonkeyPatch, counted: int) -> None:
    """By tag and by time, whether few or many runs are found, and after tags were changed."""
    monkeypatch.setattr(run_lists, "COUNTED", counted)
    draw = random.Random(7)
    with inline_service() as inline:
        writer = inline.database.writer
        writer.execute("INSERT INTO plans VALUES (1, 'a/b', '1', '{}', 1)")
        tags = {}
        for number in range(1, 60):
            tags[number] = draw.sample(["neap", "spring", "ebb"], draw.randrange(3))
            values = (number, json.dumps(tags[number]), str(number), number * 10)
            writer.execute(
                f"INSERT INTO runs ({COLUMNS}) VALUES (?, 1, 'a/b', '1', '{{}}', '', ?, ?, 'x', ?,"
                " 0, 'done', 1, 1)",
                values,
            )
        for number in range(1, 60, 5):
            tags[number] = draw.sample(["neap", "flood"], draw.randrange(3))
            writer.execute(
                "UPDATE runs SET tags = ? WHERE number = ?", (json.dumps(tags[number]), number)
            )
        for tag in ("neap", "flood", "slack", None):
            for since in (0, 300, 10_000, None):
                asked = {"tag": tag, "since": since}
                values = {name: one for name, one in asked.items() if one is not None}
                wanted = RunFilter(values=values, limit=500)
                found, _ = inline.database.read(lambda one, w=wanted: run_lists.runs(one, w))
                assert [run["number"] for run in found] == [
                    number
                    for number in range(59, 0, -1)
                    if (tag is None or tag in tags[number]) and number * 10 >= (since or 0)
                ]
        writer.execute("DELETE FROM runs WHERE number % 2 = 0")
        assert not [one for one in audit(writer) if "tags" in one]
