"""When the facts of a run's line are read: not for each graph, but always in the end."""

from __future__ import annotations

import asyncio

import pytest

from yarnloom.service.render.glance import LineFacts
from yarnloom.service.runs import glance_pace
from yarnloom.service.runs.glance_pace import LinePace

FACTS = LineFacts(None, {"failed": 0, "kinds": []})


def test_what_a_look_had_not_comes_by_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    """Once, however many looks were without; a run that has ended never waits."""
    monkeypatch.setattr(glance_pace, "SPACE", 0.05)

    async def main() -> list[int]:
        asked: list[int] = []
        again = asyncio.Event()

        def look(number: int) -> None:
            asked.append(number)
            again.set()

        pace = LinePace(look)
        assert pace.is_due(7, ended=False)
        assert pace.is_due(7, ended=False), "the first facts are still being read"
        pace.remember(7, FACTS)
        assert not pace.is_due(7, ended=False)
        assert not pace.is_due(7, ended=False)
        assert pace.is_due(8, ended=False)
        assert pace.is_due(8, ended=True)
        await again.wait()
        assert pace.is_due(7, ended=False)
        assert not pace.is_due(7, ended=False)
        later = pace._later[7]
        assert pace.is_due(7, ended=True)
        assert later.cancelled()
        return asked

    assert asyncio.run(main()) == [7]
