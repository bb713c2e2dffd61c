"""Tasks: Python functions with typed inputs and output, as a loom knows them."""

from __future__ import annotations

import functools
import hashlib
import inspect
import typing
from collections.abc import Callable, Sequence
from typing import Any, Literal

from pydantic import ConfigDict, PydanticSchemaGenerationError, TypeAdapter
from pydantic.errors import PydanticInvalidForJsonSchema, PydanticUndefinedAnnotation
from typing_extensions import TypedDict

from yarnloom.errors import LoomError, Problem, nearest
from yarnloom.plan import StepRules
from yarnloom.sdk.async_step_context import AsyncStepContext
from yarnloom.sdk.base_context import BaseContext
from yarnloom.sdk.hooks import DEFAULT_GRACE
from yarnloom.sdk.step_context import StepContext
from yarnloom.values import JsonObject, JsonValue

Overlap = Literal["allowed", "never"]


class DeclaredTask:
    """A Python function that a loom knows, with typed inputs and output.

    Attributes:
        name: its name within the loom.
        full_name: `loom/name`.
        function: the function itself, unchanged.
        grace: seconds it has after it heard of a stop; None unless given.
        overlap: "never" if a worker that is cut off must end it when its lease ends.
        is_async: whether it is an `async def` function.
        io: whether its attempts share one process of a worker, many at a time.
        pin_code: whether steps run only with the code that their plan was published with.
        was: full names that it had before; it also serves plans that use them.
        rules: how its steps are run; `per` is the name of an input there.
        told: of one that is told of runs: `at`, `states` and `targets`, empty for all.
    """

    def __init__(
        self,
        loom: str,
        name: str,
        function: Callable[..., Any],
        release: str,
        *,
        grace: float | None,
        overlap: Overlap,
        io: bool,
        pin_code: bool,
        was: Sequence[str],
        rules: StepRules,
        told: JsonObject | None = None,
    ) -> None:
        self.name = name
        self.full_name = f"{loom}/{name}"
        self.function = function
        self.grace = grace
        self.overlap = overlap
        self.is_async = inspect.iscoroutinefunction(function)
        self.io = io or self.is_async
        self.pin_code = pin_code
        self.was = tuple(f"{loom}/{earlier}" for earlier in was)
        self.rules = rules
        self.told = told
        self._release = release

    @functools.cached_property
    def _hints(self) -> JsonObject:
        try:
            return typing.get_type_hints(self.function, include_extras=True)
        except NameError as error:
            raise LoomError(f"an annotation of {self.name} cannot be resolved: {error}") from error

    @functools.cached_property
    def context_input(self) -> str | None:
        """Name of the argument that gets the step's context, if there is one."""
        kinds = (StepContext, AsyncStepContext)
        return next((name for name, hint in self._hints.items() if hint in kinds), None)

    @functools.cached_property
    def signature_of_inputs(self) -> inspect.Signature:
        """Its inputs as arguments: without the step's context."""
        signature = inspect.signature(self.function)
        try:
            context = self.context_input
        except LoomError:  # an annotation that cannot be resolved yet
            context = "ctx"
        inputs = [one for name, one in signature.parameters.items() if name != context]
        return signature.replace(parameters=inputs)

    @property
    def hears(self) -> bool:
        """Whether it can hear of a stop: it takes a context."""
        return self.context_input is not None

    @property
    def grace_seconds(self) -> float:
        """How long it has after it heard of a stop, before that is raised in it.

        A coroutine is cancelled at once, and what cannot hear has nothing to wait for, unless the
        task says otherwise.
        """
        if self.grace is not None and (self.hears or self.is_async):
            return self.grace
        return DEFAULT_GRACE if self.hears and not self.is_async else 0.0

    @property
    def context_type(self) -> type[BaseContext]:
        """The class of the step's context that it gets."""
        name = self.context_input
        kind: type[BaseContext] = self._hints[name] if name else StepContext
        return kind

    @functools.cached_property
    def inputs(self) -> TypeAdapter[JsonObject]:
        """Checks all inputs at once and turns them from JSON into what the function expects."""
        fields: JsonObject = {}
        for name, parameter in inspect.signature(self.function).parameters.items():
            if name == self.context_input:
                continue
            if parameter.kind not in (parameter.POSITIONAL_OR_KEYWORD, parameter.KEYWORD_ONLY):
                raise LoomError(
                    f"{self.name}: the argument {parameter} cannot be an input; a task names each "
                    "of its inputs, without *args, **kwargs or '/'"
                )
            hint = self._hints.get(name, Any)
            optional = parameter.default is not parameter.empty
            fields[name] = typing.NotRequired[hint] if optional else hint
        shape = TypedDict("Inputs", fields)  # type: ignore[misc]  # built at run time
        shape.__pydantic_config__ = ConfigDict(extra="forbid", strict=True)  # type: ignore[attr-defined]
        return self._adapter(shape, "its inputs")

    @functools.cached_property
    def output(self) -> TypeAdapter[Any]:
        """Checks what the function returns and turns it into JSON."""
        return self._adapter(self._hints.get("return", Any), "what it returns")

    @functools.cached_property
    def output_type(self) -> type | None:
        """The type it returns, if values of that exact type are plain JSON; else None.

        A text can still be too long, or not be Unicode.
        """
        schema = self.output.core_schema
        shape = self._hints.get("return")
        return shape if shape in (int, bool, str) and schema.keys() <= {"type"} else None

    def _adapter(self, shape: Any, what: str) -> TypeAdapter[Any]:
        try:
            return TypeAdapter(shape)
        except (PydanticSchemaGenerationError, PydanticUndefinedAnnotation) as error:
            raise LoomError(
                f"{self.name}: {what} cannot be described as JSON: {error.message}. "
                "Annotate with JSON types or Pydantic models."
            ) from error

    @functools.cached_property
    def input_schema(self) -> JsonObject:
        """JSON Schema of the inputs, an object by input name, defaults included."""
        schema = self._schema(self.inputs, "validation")
        schema.pop("title", None)
        for name, parameter in inspect.signature(self.function).parameters.items():
            if parameter.default is not parameter.empty and name != self.context_input:
                default = self._plain(parameter.default)
                if default is not None or parameter.default is None:
                    schema["properties"][name].setdefault("default", default)
        return schema

    @functools.cached_property
    def output_schema(self) -> JsonObject:
        """JSON Schema of what the function returns."""
        return self._schema(self.output, "serialization")

    def _schema(self, adapter: TypeAdapter[Any], mode: Any) -> JsonObject:
        try:
            return adapter.json_schema(mode=mode)
        except PydanticInvalidForJsonSchema as error:
            raise LoomError(f"{self.name} has a type that JSON cannot hold: {error}") from error

    @staticmethod
    def _plain(value: JsonValue) -> Any:
        try:
            return TypeAdapter(type(value)).dump_python(value, mode="json")
        except Exception:  # a default without a JSON form is simply not shown
            return None

    @functools.cached_property
    def source(self) -> str:
        """The function's source text, empty where Python cannot find it."""
        try:
            return inspect.getsource(self.function)
        except (OSError, TypeError):
            return ""

    @functools.cached_property
    def code_hash(self) -> str:
        """Twelve hexadecimal digits over the function's source and the loom's release."""
        return hashlib.sha256(f"{self._release}\0{self.source}".encode()).hexdigest()[:12]

    def _bare_context(self) -> Problem | None:
        """Find an argument that is called like the context, and has no type that says so."""
        if "ctx" not in inspect.signature(self.function).parameters or "ctx" in self._hints:
            return None
        kind = "AsyncStepContext" if self.is_async else "StepContext"
        message = f"the argument ctx has no type, so it would be an input; annotate it: ctx: {kind}"
        return Problem(self.name, message)

    def facts(self) -> JsonObject:
        """What the service keeps of a task."""
        return {
            "name": self.full_name,
            "input": self.input_schema,
            "output": self.output_schema,
            "code_hash": self.code_hash,
            "source": self.source,
            "summary": (inspect.getdoc(self.function) or "").partition("\n")[0],
            "grace": self.grace_seconds,
            "hears": self.hears,
            "overlap": self.overlap,
            "io": self.io,
            "pin_code": self.pin_code,
            "was": list(self.was),
            **({"on_run": self.told} if self.told else {}),
            "rules": self.rules.to_json(),
        }

    def problems(self) -> list[Problem]:
        """What is wrong with it, other than its name."""
        if bare := self._bare_context():
            return [bare]
        try:
            known = self.facts()["input"].get("properties", {})
        except LoomError as error:
            return [Problem(self.name, error.detail)]
        found = []
        if self.told is not None and len(known) != 1:
            message = f"it is told of runs, so it takes one input, the run; it has {len(known)}"
            found.append(Problem(self.name, message))
        for use in self.rules.pools:
            if use.per is not None and use.per not in known:
                message = f"it has no input {use.per!r}{nearest(str(use.per), known)}"
                found.append(Problem(f"{self.name}.per", message))
        if self.rules.memory and self.io:
            message = (
                "attempts of async and io tasks share a process, so none has a limit of its own"
            )
            found.append(Problem(f"{self.name}.memory", message))
        return found
