"""The transition tables: everything that is in them, and nothing else."""

from __future__ import annotations

import pytest

from yarnloom.engine.rules.states import (
    PART_TABLE,
    RUN_ENDED,
    RUN_TABLE,
    STEP_ENDED,
    STEP_TABLE,
    IllegalTransition,
    PartState,
    RunEvent,
    RunState,
    StepEvent,
    StepState,
    next_state,
)


def test_every_state_has_a_row() -> None:
    """A state without a row would be a dead end by accident."""
    assert STEP_TABLE.keys() == set(StepState)
    assert PART_TABLE.keys() == set(PartState)
    assert RUN_TABLE.keys() == set(RunState)


def test_every_state_can_be_reached_and_left() -> None:
    """From the first state on; and whatever has ended can be run again by a mend."""
    for table, first in ((STEP_TABLE, StepState.WAITING), (RUN_TABLE, RunState.SCHEDULED)):
        reached = {first}
        while more := {s for r in reached for s in table[r].values()} - reached:
            reached |= more

        assert reached == set(table)
        assert all(table.values())


@pytest.mark.parametrize(
    ("state", "pause", "resume", "cancel", "mend"),
    [
        ("scheduled", "paused", None, "cancelling", None),
        ("queued", "paused", None, "cancelling", None),
        ("running", "pausing", "running", "cancelling", None),
        ("pausing", "pausing", "running", "cancelling", None),
        ("paused", "paused", "running", "cancelling", None),
        ("cancelling", None, None, "cancelling", None),
        ("done", None, None, None, "running"),
        ("failed", None, None, None, "running"),
        ("cancelled", None, None, None, "running"),
    ],
)
def test_commands_on_a_run(
    state: str, pause: str | None, resume: str | None, cancel: str | None, mend: str | None
) -> None:
    """The table of commands; an empty cell is refused."""
    events = (RunEvent.PAUSE, RunEvent.RESUME, RunEvent.CANCEL, RunEvent.MEND)
    row = RUN_TABLE[RunState(state)]

    assert [row.get(event) for event in events] == [pause, resume, cancel, mend]


def test_an_illegal_transition_names_everything_and_changes_nothing() -> None:
    """Event, state, and what it was about."""
    with pytest.raises(IllegalTransition) as refused:
        next_state(STEP_TABLE, StepState.DONE, StepEvent.BEGIN, "step 7 of run 3")

    assert str(refused.value) == "step 7 of run 3 is done, so it cannot begin"
    assert refused.value.facts == {"state": "done"}


def test_ended_states_cannot_be_cancelled() -> None:
    """What has ended is not changed by stopping."""
    for state in STEP_ENDED:
        assert StepEvent.CANCEL not in STEP_TABLE[state]
    for run in RUN_ENDED:
        assert RunEvent.CANCEL not in RUN_TABLE[run]
