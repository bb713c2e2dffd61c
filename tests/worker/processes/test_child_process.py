"""A worker's view of one of its processes."""

from __future__ import annotations

from typing import Any

import pytest

from yarnloom.worker.processes import child_process
from yarnloom.worker.processes.child_process import Child


class Page:
    """Says what a process runs."""

    def __init__(self) -> None:
        self.runs = (0, 0.0)

    def begun(self) -> tuple[int, float]:
        """The attempt, and since when."""
        return self.runs


def test_a_process_is_stalled_while_its_next_attempt_does_not_begin(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Not one that has nothing, runs something, or begins one after the other."""
    now = 100.0
    monkeypatch.setattr(child_process.time, "monotonic", lambda: now)
    child, page = object.__new__(Child), Page()
    vars(child).update(attempts={}, unbegun=None, _over=False, _page=page)
    assert not child.is_stalled(0.2)
    works: dict[int, dict[str, Any]] = {7: {}, 8: {}}
    child.attempts = works
    assert not child.is_stalled(0.2)
    now += 0.3
    assert child.is_stalled(0.2)
    page.runs = (7, now)
    assert not child.is_stalled(0.2), "it runs"
    page.runs = (0, 0.0)
    assert not child.is_stalled(0.2), "it has just run"
    now += 0.15
    assert not child.is_stalled(0.2)
    del works[7]
    now += 0.15
    assert not child.is_stalled(0.2), "another is next"
    now += 0.25
    assert child.is_stalled(0.2)
