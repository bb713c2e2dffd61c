"""What a loom wraps around its attempts and its processes: generators with one `yield`.

Errors in them are shown as what they are, and not as the task's: see `AroundFailed`.
"""

from __future__ import annotations

import contextlib
import inspect
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from typing import Any, Literal, TypeVar

from yarnloom.errors import CallAgain, Stopped, YarnloomError
from yarnloom.task_texts import MESSAGE_LIMIT, cut_text, text_of, type_name
from yarnloom.values import JsonValue

T = TypeVar("T")

What = Literal["attempt", "process"]
Wrapper = Callable[..., Any]
RESUMABLE_STOPS = ("pause", "drain")
"""Why an attempt is told to stop that is to go on later."""

DEFAULT_GRACE = 10.0
"""Seconds that a task which can hear of a stop has to end, unless it says otherwise."""


class AroundFailed(YarnloomError):
    """What a loom wraps around attempts or processes has failed.

    Attributes:
        name: of the function that failed.
        error: what it raised.
    """

    code = "around-failed"

    def __init__(self, what: What, name: str, when: str, error: BaseException) -> None:
        said = cut_text(text_of(error), MESSAGE_LIMIT // 2)
        why = ": ".join(filter(None, (type_name(error), said)))
        super().__init__(f"around_{what} {name!r} failed {when}: {why}")
        self.name = name
        self.error = error


class Around:
    """What one loom wraps around its attempts and its processes."""

    def __init__(self) -> None:
        self._known: dict[tuple[What, bool], Wrapper] = {}

    def add(self, what: What, function: Wrapper) -> str:
        """Take in a function; what is wrong with it, empty for nothing."""
        is_async = inspect.isasyncgenfunction(function)
        if not is_async and not inspect.isgeneratorfunction(function):
            return f"{_name(function)} is no generator; write it with one `yield`"
        if (what, is_async) in self._known:
            return f"{_name(function)} is the second of its kind; declare one, and nest in it"
        most = 1 if what == "attempt" else 0
        count = len(inspect.signature(function).parameters)
        if count > most:
            expected = "ctx at most" if most else "none"
            return f"{_name(function)} has {count} arguments; expected {expected}"
        self._known[what, is_async] = function
        return ""

    @property
    def wraps(self) -> bool:
        """Whether anything is wrapped around attempts."""
        return ("attempt", False) in self._known or ("attempt", True) in self._known

    def call(self, context: Any, task: Callable[[], T]) -> T:
        """Call a task that is no coroutine, wrapped."""
        function = self._known.get(("attempt", False))
        if function is None:
            return task()
        name = _name(function)
        wrapped = contextlib.contextmanager(function)(*_arguments(function, context))
        try:
            context.opened = wrapped.__enter__()
        except BaseException as error:
            raise AroundFailed("attempt", name, BEFORE, error) from error
        try:
            found = task()
        except BaseException as error:
            if _is_quiet(error, context):
                _leave(name, wrapped)
                raise
            try:
                wrapped.__exit__(type(error), error, error.__traceback__)
            except BaseException as other:
                if other is not error:
                    raise AroundFailed("attempt", name, _after(error), other) from other
            raise  # also where the wrapper swallowed it: the task has failed
        _leave(name, wrapped)
        return found

    async def call_later(self, context: Any, task: Callable[[], Awaitable[T]]) -> T:
        """Await a coroutine, wrapped."""
        function = self._known.get(("attempt", True))
        if function is not None:
            wrapped: Any = contextlib.asynccontextmanager(function)(*_arguments(function, context))
        elif (plain := self._known.get(("attempt", False))) is not None:
            function = plain
            wrapped = _Plain(contextlib.contextmanager(plain)(*_arguments(plain, context)))
        else:
            return await task()
        name = _name(function)
        try:
            context.opened = await wrapped.__aenter__()
        except BaseException as error:
            raise AroundFailed("attempt", name, BEFORE, error) from error
        try:
            found = await task()
        except BaseException as error:
            if _is_quiet(error, context):
                await _leave_later(name, wrapped)
                raise
            try:
                await wrapped.__aexit__(type(error), error, error.__traceback__)
            except BaseException as other:
                if other is not error:
                    raise AroundFailed("attempt", name, _after(error), other) from other
            raise
        await _leave_later(name, wrapped)
        return found

    @contextlib.contextmanager
    def process(self) -> Iterator[Any]:
        """What a process keeps, from its set-up to its tear-down.

        Raises:
            AroundFailed: one of them failed.
        """
        function = self._known.get(("process", False))
        if function is None:
            yield None
            return
        name = _name(function)
        wrapped = contextlib.contextmanager(function)()
        try:
            kept = wrapped.__enter__()
        except BaseException as error:
            raise AroundFailed("process", name, "to set up", error) from error
        yield kept
        try:
            wrapped.__exit__(None, None, None)
        except BaseException as error:
            raise AroundFailed("process", name, "to tear down", error) from error

    @contextlib.asynccontextmanager
    async def process_later(self, kept: JsonValue) -> AsyncIterator[Any]:
        """What the process of `async def` tasks keeps: of an async generator, else as it is."""
        function = self._known.get(("process", True))
        if function is None:
            yield kept
            return
        name = _name(function)
        wrapped = contextlib.asynccontextmanager(function)()
        try:
            kept = await wrapped.__aenter__()
        except BaseException as error:
            raise AroundFailed("process", name, "to set up", error) from error
        yield kept
        try:
            await wrapped.__aexit__(None, None, None)
        except BaseException as error:
            raise AroundFailed("process", name, "to tear down", error) from error


BEFORE = "before the task was called"


def _after(error: BaseException) -> str:
    said = cut_text(text_of(error), MESSAGE_LIMIT // 4)
    return f"after the task had failed with {type_name(error)}" + (f" ({said})" if said else "")


class _Plain:
    """A plain context manager, for a coroutine."""

    def __init__(self, inner: Any) -> None:
        self._inner = inner

    async def __aenter__(self) -> Any:
        return self._inner.__enter__()

    async def __aexit__(self, *facts: Any) -> Any:
        return self._inner.__exit__(*facts)


def _leave(name: str, wrapped: Any) -> None:
    try:
        wrapped.__exit__(None, None, None)
    except BaseException as error:
        raise AroundFailed("attempt", name, "after the task had returned", error) from error


async def _leave_later(name: str, wrapped: Any) -> None:
    try:
        await wrapped.__aexit__(None, None, None)
    except BaseException as error:
        raise AroundFailed("attempt", name, "after the task had returned", error) from error


def _is_quiet(error: BaseException, context: Any) -> bool:
    """Whether an attempt ends without having failed."""
    if isinstance(error, CallAgain):
        return True
    return isinstance(error, Stopped) and context.stop_asked in RESUMABLE_STOPS


def _arguments(function: Wrapper, context: Any) -> tuple[Any, ...]:
    return (context,) if inspect.signature(function).parameters else ()


def _name(function: Wrapper) -> str:
    return getattr(function, "__name__", type(function).__name__)
