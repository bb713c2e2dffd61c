"""The loom: the object in which a project declares its tasks and workflows."""

from __future__ import annotations

import functools
import hashlib
import inspect
import typing
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Literal, TypeVar, overload

from pydantic import BaseModel, ConfigDict, PydanticSchemaGenerationError, TypeAdapter
from pydantic.errors import PydanticInvalidForJsonSchema, PydanticUndefinedAnnotation
from typing_extensions import TypedDict, Unpack

from yarnloom.context import AsyncStepContext, StepContext
from yarnloom.errors import LoomError, PlanError, Problem, nearest
from yarnloom.plan import (
    NAME,
    NAME_RULE,
    STEP_OPTIONS,
    Part,
    Plan,
    PoolDeclaration,
    Rate,
    StepRules,
    TaskRules,
    compile_plan,
    examine,
    read_rules,
    unknown_pools,
)
from yarnloom.plan.marked import has_secret_rows, with_definitions
from yarnloom.units import Duration, seconds

Function = TypeVar("Function", bound=Callable[..., Any])

_NO_PARAMS: dict[str, Any] = {"type": "object", "properties": {}, "additionalProperties": False}
DEFAULT_GRACE = 10.0
Overlap = Literal["allowed", "never"]
IfBusyText = Literal["wait", "skip", "replace"]


class Task:
    """A Python function that a loom knows, with typed inputs and output.

    Attributes:
        name: its name within the loom.
        full_name: `loom/name`.
        function: the function itself, unchanged.
        grace: seconds it may go on after it was told to stop; then its process is killed.
        overlap: "never" if a worker that is cut off must end it when its lease ends.
        is_async: whether it is an `async def` function.
        io: whether its attempts share one process of a worker, many at a time.
        pin_code: whether steps run only with the code that their plan was published with.
        was: full names that it had before; it also serves plans that use them.
        rules: how its steps are run; `per` is the name of an input there.
    """

    def __init__(
        self,
        loom: str,
        name: str,
        function: Callable[..., Any],
        release: str,
        *,
        grace: float,
        overlap: Overlap,
        io: bool,
        pin_code: bool,
        was: Sequence[str],
        rules: StepRules,
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
        self._release = release

    @functools.cached_property
    def _hints(self) -> dict[str, Any]:
        try:
            return typing.get_type_hints(self.function, include_extras=True)
        except NameError as error:
            raise LoomError(f"an annotation of {self.name} cannot be resolved: {error}") from error

    @functools.cached_property
    def context_input(self) -> str | None:
        """Name of the argument that gets the step's context, if there is one."""
        kinds = (StepContext, AsyncStepContext)
        return next((name for name, hint in self._hints.items() if hint in kinds), None)

    @property
    def context_type(self) -> type[StepContext]:
        """The class of the step's context that it gets."""
        name = self.context_input
        kind: type[StepContext] = self._hints[name] if name else StepContext
        return kind

    @functools.cached_property
    def inputs(self) -> TypeAdapter[dict[str, Any]]:
        """Checks all inputs at once and turns them from JSON into what the function expects."""
        fields: dict[str, Any] = {}
        for name, parameter in inspect.signature(self.function).parameters.items():
            if name == self.context_input:
                continue
            if parameter.kind not in (parameter.POSITIONAL_OR_KEYWORD, parameter.KEYWORD_ONLY):
                raise LoomError(
                    f"{self.name}: the argument {parameter} cannot be an input; a task names each "
                    "of its inputs, without *args, **kwargs or '/'"
                )
            if name in STEP_OPTIONS:
                raise LoomError(
                    f"{self.name}: an input cannot be called {name!r}, since step(...) has an "
                    "option of that name; rename the argument"
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

    def _adapter(self, shape: Any, what: str) -> TypeAdapter[Any]:
        try:
            return TypeAdapter(shape)
        except (PydanticSchemaGenerationError, PydanticUndefinedAnnotation) as error:
            raise LoomError(
                f"{self.name}: {what} cannot be described as JSON: {error.message}. "
                "Annotate with JSON types or Pydantic models."
            ) from error

    @functools.cached_property
    def input_schema(self) -> dict[str, Any]:
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
    def output_schema(self) -> dict[str, Any]:
        """JSON Schema of what the function returns."""
        return self._schema(self.output, "serialization")

    def _schema(self, adapter: TypeAdapter[Any], mode: Any) -> dict[str, Any]:
        try:
            return adapter.json_schema(mode=mode)
        except PydanticInvalidForJsonSchema as error:
            raise LoomError(f"{self.name} has a type that JSON cannot hold: {error}") from error

    @staticmethod
    def _plain(value: Any) -> Any:
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

    def facts(self) -> dict[str, Any]:
        """What the service keeps of a task."""
        return {
            "name": self.full_name,
            "input": self.input_schema,
            "output": self.output_schema,
            "code_hash": self.code_hash,
            "source": self.source,
            "summary": (inspect.getdoc(self.function) or "").partition("\n")[0],
            "grace": self.grace,
            "overlap": self.overlap,
            "io": self.io,
            "pin_code": self.pin_code,
            "was": list(self.was),
            "rules": self.rules.to_json() | ({"per": self.rules.per} if self.rules.per else {}),
        }

    def problems(self) -> list[Problem]:
        """What is wrong with it, other than its name."""
        try:
            known = self.facts()["input"].get("properties", {})
        except LoomError as error:
            return [Problem(self.name, error.message)]
        found = []
        per = self.rules.per
        if per and per not in known:
            message = f"it has no input {per!r}{nearest(per, known)}"
            found.append(Problem(f"{self.name}.per", message))
        if per and not self.rules.pool:
            message = "per= names the input for whose values a pool has limits; give pool= too"
            found.append(Problem(f"{self.name}.per", message))
        if self.rules.memory and self.io:
            message = (
                "attempts of async and io tasks share a process, so none has a limit of its own"
            )
            found.append(Problem(f"{self.name}.memory", message))
        return found


@dataclass(frozen=True, slots=True)
class _Declared:
    """A workflow as it was declared; params as a JSON Schema."""

    params: dict[str, Any]
    plan: Part
    on_failure: Part | None
    on_end: Part | None
    options: dict[str, Any]


class Loom:
    """Where a project declares its tasks and workflows.

    Args:
        name: the loom's name; task and workflow names live under it.
        release: any text that names the code's release; it goes into every task's code hash.
    """

    def __init__(self, name: str, *, release: str = "") -> None:
        if not NAME.match(name):
            raise LoomError(f"found the loom name {name!r}; a name has {NAME_RULE}")
        self.name = name
        self.release = release
        self._tasks: dict[str, Task] = {}
        self._by_function: dict[Callable[..., Any], Task] = {}
        self._workflows: dict[str, _Declared] = {}
        self._pools: dict[str, PoolDeclaration] = {}
        self._problems: list[Problem] = []

    def __repr__(self) -> str:
        return f"<Loom {self.name!r}: {len(self._tasks)} tasks, {len(self._workflows)} workflows>"

    @property
    def tasks(self) -> dict[str, Task]:
        """The tasks by name."""
        return dict(self._tasks)

    @property
    def pools(self) -> list[PoolDeclaration]:
        """The pools that it declares, in order."""
        return list(self._pools.values())

    def pool(
        self, name: str, *, limit: int | None = None, rate: Rate | None = None, note: str = ""
    ) -> None:
        """Declare a pool: a named limit that holds across all runs and workers.

        Pools belong to the service: where looms differ the smaller limit holds, and what is changed
        there by hand wins over all.

        Args:
            name: steps name it with `pool=`.
            limit: how many attempts may run at once; any number unless given.
            rate: how many may begin in a time, e.g. `Rate(10, per="1s")`.
            note: what the limit is for, for people.
        """
        if not NAME.match(name):
            self._say(name, f"found the pool name {name!r}; a name has {NAME_RULE}")
        if name in self._pools:
            self._say(name, "two pools have this name; declare it once")
        if limit is not None and (type(limit) is not int or limit < 0):
            self._say(f"{name}.limit", f"found {limit!r:.60}; expected a whole number from 0 on")
            limit = None
        if rate is not None and not isinstance(rate, Rate):
            self._say(f"{name}.rate", f"found {rate!r:.60}; expected Rate(10, per='1s')")
            rate = None
        self._pools[name] = PoolDeclaration(name, limit, rate, note)

    @property
    def served(self) -> dict[str, Task]:
        """The tasks by every full name that a worker with this loom serves, earlier ones too."""
        found = {earlier: task for task in self._tasks.values() for earlier in task.was}
        return found | {task.full_name: task for task in self._tasks.values()}

    @overload
    def task(self, function: Function, /) -> Function: ...
    @overload
    def task(
        self,
        /,
        *,
        name: str | None = None,
        grace: Duration = DEFAULT_GRACE,
        overlap: Overlap = "allowed",
        io: bool = False,
        pin_code: bool = False,
        was: Sequence[str] = (),
        **rules: Unpack[TaskRules],
    ) -> Callable[[Function], Function]: ...
    def task(
        self,
        function: Function | None = None,
        /,
        *,
        name: str | None = None,
        grace: Duration = DEFAULT_GRACE,
        overlap: Overlap = "allowed",
        io: bool = False,
        pin_code: bool = False,
        was: Sequence[str] = (),
        **rules: Unpack[TaskRules],
    ) -> Function | Callable[[Function], Function]:
        """Declare a function as a task. The function stays as it is, and can be called directly.

        Args:
            function: the function, where the decorator stands without brackets.
            name: the task's name; the function's own unless given.
            grace: how long a running step may go on after it was told to stop, as 10 or "10s".
            overlap: "never" ends a step on a worker that was cut off for a whole lease, since the
                service may have given the step to another by then. Without it the two can overlap
                until the cut-off worker notices.
            io: the function mostly waits, so many of its attempts share one process, on threads.
                `async def` functions always do, on one event loop. Such an attempt cannot be
                killed: one that does not stop within its grace is abandoned.
            pin_code: steps go only to workers that have the very code that their plan was published
                with. Without it any worker will do whose task has this name and fitting types.
            was: names that the task had before: workers with this loom also run steps of plans
                that still use them.
            rules: how its steps are run; a step can say otherwise. They are:
            pool: the pool that limits how many of its steps run at once.
            per: the name of an input: the pool has a limit of its own for each of its values.
            retry: when a failed attempt is followed by another; without it there is one try.
            timeout: how long an attempt may run; one that goes on is told to stop, and killed
                after its grace. It is a failed try.
            deadline: how long after it could first run a step must have ended, tries included.
            losses: how often a step's worker or process may die before it fails; 3 unless given.
            only_on: what a worker must have to run it, as `["gpu"]`: see `worker --has`.
            memory: how much memory an attempt may use, as "500 MB"; one that uses more is killed.
            priority: higher runs first, from -1000 to 1000; else the run's.
        """

        if unknown := rules.keys() - TaskRules.__optional_keys__:
            raise TypeError(f"loom.task() has no option {sorted(unknown)[0]!r}")
        found, wrong = read_rules(dict(rules))

        def declare(declared: Function) -> Function:
            own_name = name or declared.__name__
            for option, message in wrong:
                self._say(f"{own_name}.{option}", message)
            try:
                borne = seconds(grace)
            except ValueError as error:
                self._say(f"{own_name}.grace", str(error))
                borne = DEFAULT_GRACE
            task = Task(
                self.name,
                own_name,
                declared,
                self.release,
                grace=borne,
                overlap=overlap,
                io=io,
                pin_code=pin_code,
                was=was,
                rules=found,
            )
            if not NAME.match(task.name):
                self._say(task.name, f"found the task name {task.name!r}; a name has {NAME_RULE}")
            if task.name in self._tasks:
                self._say(task.name, "two tasks have this name; give one of them name=...")
            self._tasks[task.name] = task
            self._by_function[declared] = task
            return declared

        return declare(function) if function is not None else declare

    def workflow(
        self,
        name: str,
        *,
        plan: Part,
        params: type[BaseModel] | None = None,
        on_failure: Part | None = None,
        on_end: Part | None = None,
        share: Any = None,
        at_once: int | None = None,
        if_busy: IfBusyText | None = None,
        deadline: Duration | None = None,
    ) -> None:
        """Declare a workflow.

        Args:
            name: its name within the loom.
            plan: its parts, e.g. `sequence(...)`.
            params: a Pydantic model of what a run is started with; none unless given.
            on_failure: a part that runs when the plan has failed.
            on_end: a part that runs when the plan has ended, in any way.
            share: whom fair turns of its runs are counted for, e.g. `param("customer")`; each run
                has turns of its own unless given, here or at its start.
            at_once: how many of its runs may be under way at once.
            if_busy: what becomes of one that comes when so many are: "wait" begins it when one has
                ended, "skip" cancels it, "replace" cancels the oldest to begin it.
            deadline: how long after its start a run must have ended; else it is stopped as by a
                cancel, and has failed.
        """
        if name in self._workflows:
            self._say(name, "two workflows have this name; rename one of them")
        schema = params.model_json_schema() if params else _NO_PARAMS
        if has_secret_rows(with_definitions(schema)):
            self._say(f"{name}.params", "rows cannot hold a Secret: they are kept as they are")
        # A param that is not known is a mistake, not something to pass over.
        schema = {**schema, "additionalProperties": False}
        options = {"share": share, "at_once": at_once, "if_busy": if_busy, "deadline": deadline}
        self._workflows[name] = _Declared(schema, plan, on_failure, on_end, options)

    def _say(self, where: str, message: str) -> None:
        self._problems.append(Problem(where, message))

    def examine(self) -> tuple[list[Plan], list[Problem]]:
        """Every workflow's plan, and every mistake in the whole loom, without running anything."""
        problems = list(self._problems)
        for task in self._tasks.values():
            problems += task.problems()
        problems += self._renamed_twice()
        plans = []
        for name, declared in self._workflows.items():
            document, found = compile_plan(
                self.name,
                name,
                declared.params,
                declared.plan,
                self._facts,
                on_failure=declared.on_failure,
                on_end=declared.on_end,
                options=declared.options,
            )
            plan, more = examine(document)
            if plan is not None:
                more += unknown_pools(plan, self._pools)
            # One mistake, one message: what compiling saw, checking would see once more.
            seen = {problem.where for problem in found}
            problems += [*found, *(problem for problem in more if problem.where not in seen)]
            if plan is not None:
                plans.append(plan)
        return plans, problems

    def check(self) -> list[Plan]:
        """Every workflow's plan.

        Raises:
            PlanError: the loom has mistakes; all of them are in `problems`.
        """
        plans, problems = self.examine()
        if problems:
            count = f"{len(problems)} mistake" + ("s" if len(problems) > 1 else "")
            raise PlanError(f"the loom {self.name!r} has {count}", problems=problems)
        return plans

    def publication(self) -> dict[str, list[dict[str, Any]]]:
        """Everything that a service is told when the loom is published.

        Raises:
            PlanError: the loom has mistakes.
        """
        return {
            "plans": [plan.document for plan in self.check()],
            "tasks": [task.facts() for task in self._tasks.values()],
            "pools": [{"loom": self.name, **pool.to_json()} for pool in self.pools],
        }

    def _renamed_twice(self) -> list[Problem]:
        """Earlier names of tasks that are taken by another."""
        taken = {task.full_name: task.name for task in self._tasks.values()}
        found = []
        for task in self._tasks.values():
            for earlier in task.was:
                if earlier in taken:
                    short = earlier.partition("/")[2]
                    found.append(
                        Problem(task.name, f"was={short!r} is a name of task {taken[earlier]} too")
                    )
                taken.setdefault(earlier, task.name)
        return found

    def _facts(self, function: Callable[..., Any]) -> Task | None:
        return self._by_function.get(function) if callable(function) else None
