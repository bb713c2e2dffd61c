"""Why a step or attempt has failed, as it is kept: a JSON object of known fields."""

from __future__ import annotations

import json
from typing import TypedDict

from yarnloom.values import JsonValue


class StepError(TypedDict, total=False):
    """Why a step, part or run has failed.

    Attributes:
        type: the error's class.
        message: its text.
        traceback: of the task.
        kinds: all classes that the error is of, for `on=` of the retry rule.
        no_more_tries: why it is not tried again.
        step: address of the step that failed first, in the error of a part or run.
        task: the task of that step.
        attempts: how many attempts that step had.
    """

    type: str
    message: str
    traceback: str
    kinds: list[str]
    no_more_tries: str
    step: str
    task: str | None
    attempts: int


class TaskFault(TypedDict):
    """The fields of an error that tasks get."""

    type: str
    message: str


class TaskFailure(TypedDict):
    """A failed step as tasks get it."""

    address: str
    task: str | None
    attempts: int
    error: TaskFault


def error_text(value: JsonValue) -> str:
    """Return an error, or what is kept beside it, as JSON text."""
    return json.dumps(value, ensure_ascii=False)
