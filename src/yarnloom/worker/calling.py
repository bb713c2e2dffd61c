"""Calling a task: its input is checked before, and what it returns after."""

from __future__ import annotations

import asyncio
import inspect
import json
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from yarnloom.context import StepContext
from yarnloom.errors import GiveUp, Problem, Stopped, ValueRefused
from yarnloom.loom import Task
from yarnloom.values import encode, not_finite, pointer
from yarnloom.worker.frames import Closed

TRACEBACK_LIMIT = 32_000


@dataclass(frozen=True, slots=True)
class Called:
    """What became of a call.

    Attributes:
        outcome: done, failed, refused or cancelled.
        begun: whether the task was called at all.
        output: what it returned, as JSON.
        error: type, message and traceback, if it is not done.
        raised: the exception itself.
    """

    outcome: str
    begun: bool = True
    output: Any = None
    error: dict[str, Any] | None = None
    raised: BaseException | None = None


def _ignore() -> None:
    pass


def call_task(
    task: Task, value: Any, context: StepContext, on_begin: Callable[[], None] = _ignore
) -> Called:
    """Call a task.

    Args:
        task: the task.
        value: its inputs by name, as JSON.
        context: passed on if the task has an argument for it.
        on_begin: called when the inputs fit, right before the task.
    """
    try:
        # Not `encode`: an input may hold several values, each as large as a value may be.
        inputs = task.inputs.validate_json(json.dumps(value, allow_nan=False))
    except ValidationError as error:
        refused = ValueRefused(
            f"the input does not fit task {task.full_name}", problems=_problems(error)
        )
        fault = {"type": "InputRefused", "message": str(refused)}
        return Called("refused", begun=False, error=fault, raised=refused)
    if name := task.context_input:
        inputs[name] = context
    on_begin()
    try:
        found = task.function(**inputs)
        if inspect.iscoroutine(found):
            found = asyncio.run(found)
    except Stopped as error:
        return _raised("cancelled", error)
    except GiveUp as error:
        return _raised("refused", error)
    except Closed:
        raise
    except BaseException as error:
        # Also SystemExit and KeyboardInterrupt: a task must not end its process.
        return _raised("failed", error)
    try:
        return Called("done", output=_output(task, found))
    except ValueRefused as error:
        # The message says it all: a traceback would only show this package.
        fault = {"type": "ValueRefused", "message": str(error)}
        return Called("failed", error=fault, raised=error)


def _output(task: Task, value: Any) -> Any:
    """The value as JSON, if it is what the task says that it returns."""
    what = f"what {task.name} returned"
    try:
        valid = task.output.validate_python(value)
        # Looked for before the dump to JSON, which turns what is not finite into null.
        if problem := not_finite(task.output.dump_python(valid, warnings="error")):
            raise ValueRefused(f"{what} is not JSON", problems=[problem])
        plain = task.output.dump_python(valid, mode="json", warnings="error")
    except ValueRefused:
        raise
    except Exception as error:
        problems = _problems(error) if isinstance(error, ValidationError) else []
        reason = "" if problems else f": {error}"
        raise ValueRefused(
            f"{what} does not fit its annotation{reason}", problems=problems
        ) from None
    encode(plain, what)
    return plain


def _problems(error: ValidationError) -> list[Problem]:
    """What Pydantic found, with JSON Pointers."""
    return [
        Problem(pointer(*one["loc"]), f"{one['msg']}; found {one['input']!r:.80}")
        for one in error.errors(include_url=False)
    ]


def printable(text: str) -> str:
    """Text without what UTF-8 cannot hold, such as lone surrogates from a file's name."""
    return text.encode("utf-8", "backslashreplace").decode()


def _raised(outcome: str, error: BaseException) -> Called:
    # The first frame is this module's, which tells the user nothing.
    trace = error.__traceback__.tb_next if error.__traceback__ else None
    text = "".join(traceback.format_exception(type(error), error, trace))
    fault = {
        "type": type(error).__name__,
        "message": printable(str(error)),
        "traceback": printable(text[-TRACEBACK_LIMIT:]),
    }
    return Called(outcome, error=fault, raised=error)
