"""Faults that are planted, so that it is known that the simulator finds such."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from tests.simulator.world import World
from yarnloom.engine.state.due_times import UNBEGUN_DUE
from yarnloom.engine.use_cases import attempt_reports, due, worker_sessions
from yarnloom.store import Past

Patch = pytest.MonkeyPatch


def never_take_back(patch: Patch) -> None:
    """What was handed out and does not begin is left where it is."""
    patch.setitem(due._FALLEN_DUE, UNBEGUN_DUE, lambda *_: None)


def accept_late_reports(patch: Patch) -> None:
    """What was given up counts all the same, as if nothing had happened since."""
    patch.setattr(attempt_reports, "_FENCED", {})


def ignore_epochs(patch: Patch) -> None:
    """Records that went back are gone on with; numbers are given out again."""

    def same(self: Past, change: Callable[..., Any]) -> None:
        """Nothing."""

    patch.setattr(Past, "begin_epoch", same)
    patch.setattr(worker_sessions, "_has_seen_more", lambda *_: False)


@pytest.mark.parametrize(
    ("plant", "seed"), [(never_take_back, 0), (accept_late_reports, 10), (ignore_epochs, 43)]
)
def test_a_planted_fault_is_found(
    monkeypatch: Patch, plant: Callable[[Patch], None], seed: int
) -> None:
    """In a world in which without it all is well (`test_simulator`)."""
    plant(monkeypatch)
    with pytest.raises(AssertionError):
        World(seed).run()
