"""Calling a task: its input is checked before, and what it returns after.

A fork that a task makes has a copy of everything, the channel to the worker included. If it
returned from the task like its parent, the worker would get two ends of one attempt, and two
processes would read one channel. So a fork loses the channel, and never gets back into our code.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import sys
import traceback
from collections.abc import AsyncIterator, Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, NoReturn, TypeVar

from pydantic import ValidationError

from yarnloom.errors import (
    CallAgain,
    GiveUp,
    Leave,
    LoomError,
    Problem,
    Stopped,
    TryLater,
    UnsureEffect,
    ValueRefused,
)
from yarnloom.media_types import is_list_reference, named_in
from yarnloom.plan import kind_name
from yarnloom.plan.marked_values import with_loaded
from yarnloom.sdk.attempt_channel import AttemptLine
from yarnloom.sdk.base_context import BaseContext
from yarnloom.sdk.file_values import SHELF
from yarnloom.sdk.find_loom import load_loom
from yarnloom.sdk.hooks import RESUMABLE_STOPS, Around, AroundFailed
from yarnloom.sdk.loom import Loom
from yarnloom.sdk.task import DeclaredTask
from yarnloom.task_texts import error_record, text_of, traceback_text, type_name
from yarnloom.values import (
    VALUE_LIMIT,
    JsonObject,
    JsonValue,
    decode,
    depth_problem,
    dump,
    encode,
    number_problem,
    pointer,
)
from yarnloom.worker.channel.frames import ChannelClosed

T = TypeVar("T")


class Forks:
    """Notices that this process is a fork of the one that runs attempts.

    Attributes:
        happened: whether it is.
    """

    happened = False

    def watch(self, *actions: Callable[[], None]) -> None:
        """From now on, note each fork, and do these actions in it."""

        def note() -> None:
            self.happened = True
            for action in actions:
                action()

        os.register_at_fork(after_in_child=note)

    def call(self, function: Callable[[], T]) -> T:
        """Call a task's function; in a fork that it makes, the process ends with it."""
        try:
            value = function()
        except BaseException as error:
            if self.happened:
                leave(error)
            raise
        if self.happened:
            leave(None)
        return value


FORKS = Forks()


def leave(error: BaseException | None) -> NoReturn:
    """End a fork as Python ends a program that raised this error, without clean-up of our own."""
    status = 0 if error is None else 1
    if isinstance(error, SystemExit):
        if error.code is None or isinstance(error.code, int):
            status = (error.code or 0) & 0xFF
        else:
            sys.stderr.write(f"{error.code}\n")
    elif error is not None:
        traceback.print_exception(error)
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):  # the task may have closed it
            stream.flush()
    os._exit(status)


@dataclass(frozen=True, slots=True)
class Served:
    """One task.

    Attributes:
        task: the task.
        around: what its loom wraps around attempts.
        kept: what its loom's `around_process` yielded.
        plain: whether nothing but its inputs is needed to call it.
    """

    task: DeclaredTask
    around: Around
    kept: JsonValue = None
    plain: bool = field(init=False)

    def __post_init__(self) -> None:
        simple = self.task.context_input is None and not self.task.is_async
        object.__setattr__(self, "plain", simple and not self.around.wraps)


def is_plain(task: DeclaredTask, around: Around) -> bool:
    """Whether a task can be run right behind another, alone in a process, without the service."""
    plain = Served(task, around).plain and not task.io
    return plain and task.overlap != "never"


def load_looms(specs: Iterable[str]) -> list[Loom]:
    """Load looms, and check them.

    Raises:
        LoomError: one cannot be loaded, has mistakes, or has a task of another.
    """
    looms = [load_loom(spec) for spec in specs]
    owners: dict[str, Loom] = {}
    for loom in looms:
        loom.check()
        for name in loom.served:
            if name in owners:
                raise LoomError(f"two looms have a task {name!r}; give one of them another name")
            owners[name] = loom
    return looms


@contextlib.contextmanager
def serving(looms: list[Loom]) -> Iterator[dict[str, Served]]:
    """Set up what the looms keep in a process, and tear it down at the end.

    Raises:
        AroundFailed: one of them failed.
    """
    with contextlib.ExitStack() as stack:
        served: dict[str, Served] = {}
        for loom in looms:
            kept = stack.enter_context(loom.around.process())
            for name, task in loom.served.items():
                served[name] = Served(task, loom.around, kept)
        yield served


@contextlib.asynccontextmanager
async def serving_coroutines(
    looms: list[Loom], served: dict[str, Served]
) -> AsyncIterator[dict[str, Served]]:
    """The same for what is kept on the event loop, for `async def` tasks; others stay as they are.

    Raises:
        AroundFailed: one of them failed.
    """
    async with contextlib.AsyncExitStack() as stack:
        found = dict(served)
        for loom in looms:
            plain = next((found[name].kept for name in loom.served), None)
            kept = await stack.enter_async_context(loom.around.process_later(plain))
            for name, task in loom.served.items():
                if task.is_async:
                    found[name] = replace(found[name], kept=kept)
        yield found


OUT_OF_TIME = ("timeout", "quiet", "deadline")
_OF_ALL = (BaseException, object)
_FINITE = frozenset({str, int, bool, type(None)})
_SHORT_TEXT = VALUE_LIMIT // 6
"""Characters that fit into a value, however they are escaped."""

_SMALL_INTEGER = 10**15


Run = Callable[[Callable[..., Any], JsonObject], Any]
"""Calls a function with its inputs."""

_PYTHON = os.path.dirname(os.__file__) + os.sep
_OWN = (
    str(Path(__file__).parent.parent),
    *(
        str(Path(__file__).parent.parent.parent / "sdk" / name)
        for name in ("hooks.py", "interrupts.py", "calls.py")
    ),
    contextlib.__file__,
)


@dataclass(frozen=True, slots=True)
class Called:
    """What became of a call.

    Attributes:
        outcome: done, failed, refused, cancelled, stopped, handed_back or called_again.
        begun: whether the task was called at all.
        output: what it returned, as JSON.
        error: type, message, traceback and the classes that it is of, if it is not done.
        after: seconds after which the task asked to be tried, or called, again.
        by_stop: of one that failed: whether a stop was what it raised its error for.
    """

    outcome: str
    begun: bool = True
    output: JsonValue = None
    error: JsonObject | None = None
    after: float | None = None
    by_stop: bool = False

    def told(self, why: str | None) -> Called:
        """The same for an attempt that was told to stop, or was not.

        What one raises that is to end is no failure; one that is to go on later is stopped only
        where it lets `Stopped` through.
        """
        # Three cases: it may go on later, nobody stopped it, or it is to end.
        if why in RESUMABLE_STOPS:
            if self.outcome == "stopped" and why == "drain":
                return replace(self, outcome="handed_back")
            return self
        if why is None:
            if self.outcome != "stopped":
                return self
            message = "Stopped was raised although nobody told the step to stop"
            return replace(self, outcome="failed", error={**(self.error or {}), "message": message})
        raised = self.outcome == "failed" and self.error and "traceback" in self.error
        if raised and not self.by_stop and why in OUT_OF_TIME:
            return self  # it failed for a reason of its own, just before its time was over
        if raised or self.outcome == "stopped":
            return Called("cancelled", self.begun, None, self.error)
        return self


NOT_CALLED = Called("handed_back", begun=False)
"""Of an attempt whose task was not called."""


def _ignore() -> None:
    pass


def _call_plainly(function: Callable[..., Any], inputs: JsonObject) -> Any:
    return function(**inputs)


_NOTHING = Around()


def call_task(
    task: DeclaredTask,
    value: JsonValue,
    context: BaseContext,
    on_begin: Callable[[], None] = _ignore,
    around: Around = _NOTHING,
    run: Run = _call_plainly,
) -> Called:
    """Call a task, and wait for it.

    Args:
        task: the task.
        value: its inputs by name, as JSON.
        context: passed on if the task has an argument for it.
        on_begin: called when the inputs fit, right before the task.
        around: what the loom wraps around it.
        run: calls the function itself; a worker's can be interrupted.
    """
    shelf = SHELF.set(context.shelf)
    try:
        return _call(task, value, context, on_begin, around, run)
    finally:
        SHELF.reset(shelf)


def _call(
    task: DeclaredTask,
    value: JsonValue,
    context: BaseContext,
    on_begin: Callable[[], None],
    around: Around,
    run: Run,
) -> Called:
    inputs = prepare(task, value, context)
    if isinstance(inputs, Called):
        return inputs
    on_begin()
    try:
        if task.is_async:
            found = asyncio.run(_alone(task, inputs, context, around))
        else:
            found = around.call(context, lambda: run(task.function, inputs))
    except ChannelClosed:
        raise
    except BaseException as error:
        # Also SystemExit and KeyboardInterrupt: a task must not end its process.
        return raised(error)
    return returned(task, found, context)


async def _alone(
    task: DeclaredTask, inputs: JsonObject, context: BaseContext, around: Around
) -> Any:
    """A coroutine in a process and on an event loop of its own, as in an inline run."""
    async with around.process_later(context.kept) as context.kept:
        return await around.call_later(context, lambda: task.function(**inputs))


def call_plain(
    task: DeclaredTask, value: JsonValue, on_begin: Callable[[], None], run: Run
) -> Called:
    """The same for a task that has no context, is no coroutine and has nothing around it."""
    inputs = prepare(task, value, None)
    if isinstance(inputs, Called):
        return inputs
    on_begin()
    try:
        found = run(task.function, inputs)
    except ChannelClosed:
        raise
    except BaseException as error:
        return raised(error)
    return returned(task, found, None)


def prepare(
    task: DeclaredTask, value: JsonValue, context: BaseContext | None
) -> JsonObject | Called:
    """The function's arguments, or what becomes of the call if the input does not fit."""
    try:
        # Not `encode`: an input may hold several values, each as large as a value may be.
        text = dump(value).decode()
        if named_in(text):
            # Only then: going through a large input by its schema takes far longer than the rest.
            text = dump(with_loaded(value, task.input_schema, _loaded)).decode()
        inputs = task.inputs.validate_json(text)
    except ValidationError as error:
        refused = ValueRefused(
            f"the input does not fit task {task.full_name}", problems=_problems(error)
        )
        fault = error_record("InputRefused", str(refused))
        return Called("refused", begun=False, error=fault)
    if name := task.context_input:
        inputs[name] = context
    return inputs


def _loaded(value: JsonObject) -> Any:
    """A list that is kept as a file, where the task asks for a list as such."""
    if not is_list_reference(value):
        return value
    with SHELF.get().path(value["list"]).open("rb") as lines:
        return [decode(line) for line in lines]


async def fetch_ahead(value: JsonValue, context: BaseContext, line: AttemptLine) -> None:
    """Fetch every file that an input names, for a task that cannot wait for them later."""
    for sha256 in named_in(json.dumps(value)):
        answer = await line.ask_later({"kind": "fetch_file", "sha256": sha256})
        context.shelf.paths[sha256] = Path(answer["path"])


def returned(task: DeclaredTask, found: JsonValue, context: BaseContext | None) -> Called:
    """Return what becomes of a call that returned something."""
    if context is not None and isinstance(context.left, CallAgain):
        message = (
            "it asked to be called again, and then returned: something in it caught that, such as "
            "a bare `except:`. Let it pass through: `except Exception` does"
        )
        return Called("failed", error={"type": "CallAgainSwallowed", "message": message})
    try:
        return Called("done", output=_output(task, found))
    except ValueRefused as error:
        # The message says it all: a traceback would only show this package.
        return Called("failed", error=error_record("ValueRefused", str(error)))


def raised(error: BaseException) -> Called:
    """What becomes of a call that raised something."""
    error = _leaving_in(error) or error
    outcome, said, error = "failed", text_of(error), _of_user(error)
    if isinstance(error, CallAgain):
        return Called("called_again", after=error.after)
    if isinstance(error, Stopped):
        outcome = "stopped"
    elif isinstance(error, GiveUp):
        outcome = "refused"
    trace = error.__traceback__
    while trace is not None and _is_machinery(trace.tb_frame.f_code.co_filename):
        trace = trace.tb_next  # the frames around the user's function tell the user nothing
    own = isinstance(error, Stopped | UnsureEffect)  # their messages say it all
    fault = error_record(
        type_name(error),
        said,
        trace=None if own else traceback_text(error, trace),
        kinds=[kind_name(kind) for kind in type(error).__mro__ if kind not in _OF_ALL],
    )
    after = error.after if isinstance(error, TryLater) else None
    return Called(outcome, error=fault, after=after, by_stop=_was_stopped(error))


def _is_machinery(path: str) -> bool:
    """Whether a file is this package's or Python's own, and no package that a user installed."""
    return path.startswith(_OWN) or (path.startswith(_PYTHON) and "-packages" not in path)


def _leaving_in(error: BaseException) -> Leave | None:
    """A stop inside a group of exceptions counts as that stop."""
    if isinstance(error, BaseExceptionGroup):
        for exception in error.exceptions:
            if found := _leaving_in(exception):
                return found
    return error if isinstance(error, Leave) else None


def _was_stopped(error: BaseException | None) -> bool:
    """Whether a stop was what an error was raised for, or while it passed through."""
    seen: set[int] = set()
    while error is not None and id(error) not in seen:
        if isinstance(error, Stopped | asyncio.CancelledError):
            return True
        seen.add(id(error))
        error = error.__cause__ or error.__context__
    return False


def _of_user(error: BaseException) -> BaseException:
    """What was raised, where it was raised in what the loom wraps around attempts."""
    return error.error if isinstance(error, AroundFailed) else error


def _output(task: DeclaredTask, value: JsonValue) -> Any:
    """The value as JSON, if it is what the task says that it returns."""
    if type(value) is task.output_type and _is_short(value):
        return value
    what = f"what {task.name} returned"
    if problem := depth_problem(value):  # before anything goes through it in depth
        raise ValueRefused(f"{what} is nested too deeply", problems=[problem])
    try:
        valid = task.output.validate_python(value)
        # Before the dump to JSON, which turns NaN and infinity into null.
        if type(valid) not in _FINITE and (
            problem := number_problem(task.output.dump_python(valid, warnings="error"))
        ):
            raise ValueRefused(f"{what} is not JSON", problems=[problem])
        plain = task.output.dump_python(valid, mode="json", warnings="error")
    except ValueRefused:
        raise
    except Exception as error:
        problems = _problems(error) if isinstance(error, ValidationError) else []
        reason = "" if problems else f": {text_of(error)}"
        raise ValueRefused(
            f"{what} does not fit its annotation{reason}", problems=problems
        ) from None
    encode(plain, what)
    return plain


def _is_short(value: JsonValue) -> bool:
    """Whether a value of a plain type needs no further look before it is sent."""
    if type(value) is str:
        return len(value) < _SHORT_TEXT and value.isascii()
    return type(value) is not int or -_SMALL_INTEGER < value < _SMALL_INTEGER


def _problems(error: ValidationError) -> list[Problem]:
    """What Pydantic found, with JSON Pointers."""
    return [
        Problem(pointer(*one["loc"]), f"{one['msg']}; found {one['input']!r:.80}")
        for one in error.errors(include_url=False)
    ]
