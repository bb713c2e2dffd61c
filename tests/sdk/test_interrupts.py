"""Where a task can be interrupted: in its own function, and never in the middle of ours."""

from __future__ import annotations

import logging
import os
import signal
import sys
from collections.abc import Callable, Iterator
from types import FrameType
from typing import Any

import pytest

from yarnloom import StepContext
from yarnloom.errors import Stopped
from yarnloom.sdk.attempt_channel import OwnLine
from yarnloom.sdk.interrupts import SIGNAL, Interrupts, SharedPage, enter, is_in_users_code

ATTEMPT = 7


@pytest.fixture
def interrupts() -> Iterator[Interrupts]:
    """This process, as one that runs attempts; the attempt is named as one to be stopped."""
    before = signal.getsignal(SIGNAL)
    page = SharedPage()
    found = Interrupts(page)
    found.install()
    page.name(ATTEMPT, "cancel")
    yield found
    signal.signal(SIGNAL, before)


def strike() -> None:
    """The signal comes, here."""
    os.kill(os.getpid(), SIGNAL)


def test_a_function_is_interrupted_where_it_is(interrupts: Interrupts) -> None:
    """Once; what it does to tidy up is left alone."""
    seen = []

    def task() -> None:
        try:
            strike()
            seen.append("went on")
        finally:
            strike()
            seen.append("tidied up")

    with pytest.raises(Stopped, match="told to stop: cancel"):
        interrupts.call(ATTEMPT, task, {})
    assert seen == ["tidied up"]
    assert interrupts.raised_for(ATTEMPT) == "cancel"


def test_another_attempt_is_not_hit(interrupts: Interrupts) -> None:
    """The signal names its own, and comes late."""

    def task() -> str:
        strike()
        return "whole"

    assert interrupts.call(ATTEMPT + 1, task, {}) == "whole"
    strike()  # between attempts


def frame_in(function: Callable[..., Any], *args: Any, name: str) -> bool:
    """Whether a task that calls a function can be interrupted in one of the frames below it."""
    found: list[bool] = []

    def look(frame: FrameType, event: str, _: Any) -> None:
        if event == "call" and frame.f_code.co_name == name:
            found.append(is_in_users_code(frame))

    def task() -> None:
        sys.setprofile(look)
        try:
            function(*args)
        finally:
            sys.setprofile(None)

    enter(task)
    assert found, f"{name} was not called"
    return found[0]


def mine() -> None:
    """A function of the user's."""


def test_neither_our_code_nor_a_log_handler_is_cut() -> None:
    """A lock that is taken, or a frame that is half sent, would stay so."""
    assert frame_in(mine, name="mine")
    assert not frame_in(StepContext().progress, 1, 2, name="progress")
    assert not frame_in(StepContext().count, name="count")
    assert not frame_in(logging.getLogger("x").error, "text", name="handle")


def test_an_effect_that_was_done_is_recorded_first(interrupts: Interrupts) -> None:
    """Whatever comes between its end and its record; the effect itself can be interrupted."""
    assert frame_in(StepContext().once, "letter", mine, name="mine")
    told: list[str] = []

    class Line(OwnLine):
        def ask(self, question: dict[str, Any]) -> dict[str, Any]:
            strike()
            told.append(question["kind"])
            return super().ask(question)

    ctx = StepContext()
    ctx._line = Line()

    def task() -> None:
        told.append(ctx.once("letter", lambda: "sent"))
        strike()
        told.append("went on")

    with pytest.raises(Stopped):
        interrupts.call(ATTEMPT, task, {})
    assert told == ["begin_effect", "end_effect", "sent"]


def test_outside_of_a_task_nothing_is() -> None:
    """Nor before its function has begun."""
    assert not is_in_users_code(sys._getframe())
    assert not is_in_users_code(None)
