"""Which ends of runs start a task."""

from __future__ import annotations

import pytest

from yarnloom.engine.state.plans import Listener


@pytest.mark.parametrize(
    ("states", "workflows", "hears"),
    [
        (set(), set(), True),
        ({"failed"}, set(), True),
        ({"done"}, set(), False),
        (set(), {"l/w"}, True),
        (set(), {"l/other"}, False),
        ({"failed"}, {"l/other"}, False),
        ({"done"}, {"l/w"}, False),
        ({"done", "failed"}, {"l/w", "l/other"}, True),
    ],
)
def test_a_listener_hears_of_its_states_and_workflows(
    states: set[str], workflows: set[str], hears: bool
) -> None:
    """Of all of them where none are named."""
    listener = Listener("l/tell", "end", frozenset(states), frozenset(workflows))

    assert listener.hears_of("end", "l/w", "failed") is hears
    assert not listener.hears_of("begin", "l/w", "failed")
