"""Calls: tasks and workflows with their inputs, as typed values that are started later."""

from __future__ import annotations

import functools
import inspect
import json
from collections.abc import Callable, Coroutine, Mapping
from dataclasses import dataclass
from typing import Any, Generic, ParamSpec, Protocol, overload

from pydantic import TypeAdapter, ValidationError
from typing_extensions import TypeVar

from yarnloom.errors import OutputRefused, Problem, nearest
from yarnloom.sdk.async_step_context import AsyncStepContext
from yarnloom.sdk.step_context import StepContext
from yarnloom.sdk.task import DeclaredTask
from yarnloom.values import JsonObject, JsonValue, pointer

P = ParamSpec("P")
R = TypeVar("R")
R_co = TypeVar("R_co", covariant=True)


@dataclass(frozen=True, slots=True)
class Call(Generic[R_co]):
    """A task or workflow with its inputs. `task.of(...)` and `workflow.of(...)` make one.

    Attributes:
        target: the task or workflow.
        inputs: the values by name, as Python objects; inside a plan references, too.
    """

    target: Startable[R_co]
    inputs: Mapping[str, Any]

    def __repr__(self) -> str:
        given = ", ".join(f"{name}={value!r:.60}" for name, value in self.inputs.items())
        return f"{self.target.full_name}.of({given})"


class Startable(Generic[R_co]):
    """A task or workflow, which can be started by its name.

    Attributes:
        name: its name within the loom.
        full_name: `loom/name`.
    """

    name: str
    full_name: str

    @property
    def output_adapter(self) -> TypeAdapter[Any]:
        """Validates outputs of its runs."""
        raise NotImplementedError

    def bind(self, positional: tuple[Any, ...], named: dict[str, Any]) -> JsonObject:
        """Return inputs by name.

        Raises:
            TypeError: it has no such input.
        """
        raise NotImplementedError

    def call(self, inputs: Mapping[str, Any]) -> Call[R_co]:
        """Return a call of it with inputs by name."""
        return Call(self, inputs)

    def read_output(self, value: JsonValue) -> R_co:
        """Return the output of a run as the type that is declared.

        Raises:
            OutputRefused: the output does not fit that type.
        """
        try:
            found: R_co = self.output_adapter.validate_json(json.dumps(value), strict=True)
        except ValidationError as error:
            problems = [Problem(pointer(*fault["loc"]), fault["msg"]) for fault in error.errors()]
            raise OutputRefused(
                f"the output of a run of {self.full_name} does not fit the type that is declared "
                "here; `value` has it as it is",
                value=value,
                problems=problems[:20],
            ) from None
        return found


class Task(Startable[R_co], Generic[P, R_co]):
    """A function that a loom declared as a task. It can be called like the function itself.

    Attributes:
        declared: its declaration.
    """

    def __init__(self, declared: DeclaredTask) -> None:
        functools.update_wrapper(self, declared.function)
        self.declared = declared
        self.name = declared.name
        self.full_name = declared.full_name
        # `inspect.iscoroutinefunction` looks at these, so it tells of the task what it tells of
        # the function.
        for name in ("__code__", "__defaults__", "__kwdefaults__"):
            if hasattr(declared.function, name):
                setattr(self, name, getattr(declared.function, name))

    def __repr__(self) -> str:
        return f"<Task {self.full_name}>"

    def __reduce__(self) -> str:
        """Pickle it by its name, as a function."""
        return self.__qualname__  # type: ignore[attr-defined,no-any-return]  # of the function

    def __call__(self, *args: Any, **kwargs: Any) -> Any:
        """Call the function, here and now."""
        return self.declared.function(*args, **kwargs)

    def of(self, *args: P.args, **kwargs: P.kwargs) -> Call[R_co]:
        """Return a call of it with inputs; `ctx` is left out.

        Raises:
            TypeError: it has no such input.
        """
        return Call(self, self.bind(args, kwargs))

    def bind(self, positional: tuple[Any, ...], named: dict[str, Any]) -> JsonObject:
        """Return inputs by name; those that are missing are found where it is checked.

        Raises:
            TypeError: it has no such input.
        """
        signature = self.declared.signature_of_inputs
        try:
            return dict(signature.bind_partial(*positional, **named).arguments)
        except TypeError as error:
            unknown = [name for name in named if name not in signature.parameters]
            hint = f": no input {unknown[0]!r}{nearest(unknown[0], signature.parameters)}"
            raise TypeError(f"{self.name}.of(){hint if unknown else f': {error}'}") from None

    @property
    def output_adapter(self) -> TypeAdapter[Any]:
        """Validates outputs of its runs."""
        return self.declared.output


class PlainTask(Task[P, R_co]):
    """How a checker sees a task that takes no `ctx`."""

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> R_co:
        """Call the function."""
        raise NotImplementedError


class ContextTask(Task[P, R_co]):
    """How a checker sees a task with `ctx` first."""

    def __call__(self, ctx: StepContext, /, *args: P.args, **kwargs: P.kwargs) -> R_co:
        """Call the function."""
        raise NotImplementedError


class AsyncTask(Task[P, R_co]):
    """How a checker sees an `async def` task that takes no `ctx`."""

    async def __call__(self, *args: P.args, **kwargs: P.kwargs) -> R_co:
        """Call the function."""
        raise NotImplementedError


class AsyncContextTask(Task[P, R_co]):
    """How a checker sees an `async def` task with `ctx` first."""

    async def __call__(self, ctx: AsyncStepContext, /, *args: P.args, **kwargs: P.kwargs) -> R_co:
        """Call the function."""
        raise NotImplementedError


# By the name of the argument: a first argument that may be anything is no context.


class TakesContext(Protocol[P, R_co]):
    """A function with `ctx` first."""

    def __call__(self, ctx: StepContext, *args: P.args, **kwargs: P.kwargs) -> R_co:
        """Do the work."""


class TakesAsyncContext(Protocol[P, R_co]):
    """An `async def` function with `ctx` first."""

    def __call__(
        self, ctx: AsyncStepContext, *args: P.args, **kwargs: P.kwargs
    ) -> Coroutine[Any, Any, R_co]:
        """Do the work."""


class DeclareTask(Protocol):
    """Declares a function as a task: `loom.task` with options."""

    # Of a function that fits several, the first counts, as it is to be.
    @overload
    def __call__(  # type: ignore[overload-overlap]
        self, function: TakesAsyncContext[P, R], /
    ) -> AsyncContextTask[P, R]: ...
    @overload
    def __call__(self, function: TakesContext[P, R], /) -> ContextTask[P, R]: ...
    @overload
    def __call__(  # type: ignore[overload-overlap]
        self, function: Callable[P, Coroutine[Any, Any, R]], /
    ) -> AsyncTask[P, R]: ...
    @overload
    def __call__(self, function: Callable[P, R], /) -> PlainTask[P, R]: ...


class Workflow(Startable[R_co], Generic[P, R_co]):
    """A workflow that a loom declared. `loom.workflow(...)` returns it.

    Attributes:
        params: the model of its params; None if it takes none.
        output: the type of its output; `Any` unless declared.
    """

    def __init__(self, loom: str, name: str, params: Any, output: Any) -> None:
        self.name = name
        self.full_name = f"{loom}/{name}"
        self.params = params
        self.output = output

    def __repr__(self) -> str:
        return f"<Workflow {self.full_name}>"

    def of(self, *args: P.args, **kwargs: P.kwargs) -> Call[R_co]:
        """Return a call of it with params.

        Raises:
            TypeError: it has no such param.
        """
        return Call(self, self.bind(args, kwargs))

    def bind(self, positional: tuple[Any, ...], named: dict[str, Any]) -> JsonObject:
        """Return params by name.

        Raises:
            TypeError: it has no such param, or one is given without its name.
        """
        if positional:
            raise TypeError(f"{self.name}.of(): params are given by name, as year=2027")
        known = inspect.signature(self.params).parameters if self.params is not None else {}
        if unknown := [name for name in named if name not in known]:
            hint = nearest(unknown[0], known) if known else "; it takes none"
            raise TypeError(f"{self.name}.of(): no param {unknown[0]!r}{hint}")
        return dict(named)

    @functools.cached_property
    def output_adapter(self) -> TypeAdapter[Any]:
        """Validates outputs of its runs."""
        return TypeAdapter(self.output)
