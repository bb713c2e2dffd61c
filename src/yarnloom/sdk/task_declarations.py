"""Declaring tasks, pools and what wraps attempts: one half of a loom."""

from __future__ import annotations

from collections.abc import Callable, Coroutine, Sequence
from typing import Any, Literal, ParamSpec, overload

from typing_extensions import TypeVar, Unpack

from yarnloom.errors import LoomError, Problem
from yarnloom.plan import NAME, NAME_RULE, PoolDeclaration, Rate, TaskRules, read_rules
from yarnloom.sdk.calls import (
    AsyncContextTask,
    AsyncTask,
    ContextTask,
    DeclareTask,
    PlainTask,
    TakesAsyncContext,
    TakesContext,
    Task,
)
from yarnloom.sdk.hooks import Around
from yarnloom.sdk.task import DeclaredTask, Overlap
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject

Function = TypeVar("Function", bound=Callable[..., Any])
P = ParamSpec("P")
R = TypeVar("R")

_RUN_ENDS = ("done", "failed", "cancelled")


class TaskDeclarations:
    """The tasks and pools that a loom declares."""

    def __init__(self, name: str, release: str) -> None:
        if not NAME.match(name):
            raise LoomError(f"found the loom name {name!r}; a name has {NAME_RULE}")
        self.name = name
        self.release = release
        self._tasks: dict[str, DeclaredTask] = {}
        self._by_function: dict[Callable[..., Any], DeclaredTask] = {}
        self._pools: dict[str, PoolDeclaration] = {}
        self.around = Around()
        self._problems: list[Problem] = []

    @property
    def tasks(self) -> dict[str, DeclaredTask]:
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
    def served(self) -> dict[str, DeclaredTask]:
        """The tasks by every full name that a worker with this loom serves, earlier ones too."""
        found = {earlier: task for task in self._tasks.values() for earlier in task.was}
        return found | {task.full_name: task for task in self._tasks.values()}

    @overload
    def task(  # type: ignore[overload-overlap]
        self, function: TakesAsyncContext[P, R], /
    ) -> AsyncContextTask[P, R]: ...
    @overload
    def task(self, function: TakesContext[P, R], /) -> ContextTask[P, R]: ...
    @overload
    def task(  # type: ignore[overload-overlap]
        self, function: Callable[P, Coroutine[Any, Any, R]], /
    ) -> AsyncTask[P, R]: ...
    @overload
    def task(self, function: Callable[P, R], /) -> PlainTask[P, R]: ...
    @overload
    def task(
        self,
        /,
        *,
        name: str | None = None,
        grace: Duration | None = None,
        overlap: Overlap = "allowed",
        io: bool = False,
        pin_code: bool = False,
        was: Sequence[str] = (),
        **rules: Unpack[TaskRules],
    ) -> DeclareTask: ...
    def task(
        self,
        function: Callable[..., Any] | None = None,
        /,
        *,
        name: str | None = None,
        grace: Duration | None = None,
        overlap: Overlap = "allowed",
        io: bool = False,
        pin_code: bool = False,
        was: Sequence[str] = (),
        **rules: Unpack[TaskRules],
    ) -> Any:
        """Declare a function as a task.

        The task can be called like the function, here and now; `task.of(x=1)` is a call of it that
        can be started, scheduled, or made a step of.

        Args:
            function: the function, if the decorator has no brackets.
            name: the task's name; the function's own unless given.
            grace: how long a task that takes `ctx` has after it heard of a cancel, as 10 or "10s";
                10 seconds unless given. Then the stop is raised in it, and 1 second later its
                process is killed. A coroutine is cancelled at once unless it is given. A task
                without `ctx` cannot hear, so the stop is raised in it at once.
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
            timeout: how long an attempt may run. Then a stop is raised in it, and 1 second later
                its process is killed. A task with `ctx` hears of it earlier, by the smaller of its
                grace and a tenth of the time-out. It is a failed try.
            deadline: how long after it could first run a step must have ended, tries included.
            quiet_for: how long an attempt may say nothing of its progress (`ctx.track`,
                `ctx.progress`, `ctx.count`, `ctx.checkpoint`) before it counts as stuck: `why`, the
                overview and the console tell of it.
            if_quiet: "show" (default) only tells of it; "retry" stops it, as at a time-out, which
                is a failed try.
            losses: how often a step's worker or process may die before it fails; 3 unless given.
            only_on: what a worker must have to run it, as `["gpu"]`: see `worker --has`.
            memory: how much memory an attempt may use, as "500 MB"; one that uses more is killed.
            priority: higher runs first, from -1000 to 1000; else the run's.
        """

        if unknown := rules.keys() - TaskRules.__optional_keys__:
            raise TypeError(f"loom.task() has no option {sorted(unknown)[0]!r}")
        found, wrong = read_rules(dict(rules))

        def declare(function: Callable[..., Any]) -> Task[..., Any]:
            declared = function.declared.function if isinstance(function, Task) else function
            own_name = name or declared.__name__
            for option, message in wrong:
                self._say(f"{own_name}.{option}", message)
            borne = None
            try:
                borne = None if grace is None else seconds(grace)
            except ValueError as error:
                self._say(f"{own_name}.grace", str(error))
            task = DeclaredTask(
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
            return Task(task)

        return declare(function) if function is not None else declare

    @overload
    def on_run_end(self, function: Callable[P, R], /) -> Task[P, R]: ...
    @overload
    def on_run_end(
        self,
        /,
        *,
        states: Sequence[str] = (),
        workflows: Sequence[str] = (),
        tasks: Sequence[str] = (),
        name: str | None = None,
        grace: Duration | None = None,
        io: bool = False,
        **rules: Unpack[TaskRules],
    ) -> DeclareTask: ...
    def on_run_end(
        self,
        function: Callable[..., Any] | None = None,
        /,
        *,
        states: Sequence[str] = (),
        workflows: Sequence[str] = (),
        tasks: Sequence[str] = (),
        name: str | None = None,
        grace: Duration | None = None,
        io: bool = False,
        **rules: Unpack[TaskRules],
    ) -> Any:
        """Declare a task that is started at the end of each run of this loom, or of some.

        It takes one input, a `RunEnded`, and is run as any task: durably, and again where its
        retry rule says so. Of its own runs nothing is told.

        Args:
            function: the function, if the decorator has no brackets.
            states: only of runs that are "done", "failed" or "cancelled"; of all unless given.
            workflows: only of runs of these; of all unless given, or `tasks` are.
            tasks: of runs of these single tasks.
            name: the task's, as are `grace`, `io` and the rules: as of `task`.
        """
        for state in states:
            if state not in _RUN_ENDS:
                where, expected = name or "on_run_end", ", ".join(_RUN_ENDS)
                self._say(f"{where}.states", f"found {state!r:.60}; expected {expected}")
        told = {"at": "end", "states": list(states), "targets": [*workflows, *tasks]}
        declare = self._listener(told, self.task(name=name, grace=grace, io=io, **rules))
        return declare(function) if function is not None else declare

    @overload
    def on_run_begin(self, function: Callable[P, R], /) -> Task[P, R]: ...
    @overload
    def on_run_begin(
        self,
        /,
        *,
        workflows: Sequence[str] = (),
        tasks: Sequence[str] = (),
        name: str | None = None,
        grace: Duration | None = None,
        io: bool = False,
        **rules: Unpack[TaskRules],
    ) -> DeclareTask: ...
    def on_run_begin(
        self,
        function: Callable[..., Any] | None = None,
        /,
        *,
        workflows: Sequence[str] = (),
        tasks: Sequence[str] = (),
        name: str | None = None,
        grace: Duration | None = None,
        io: bool = False,
        **rules: Unpack[TaskRules],
    ) -> Any:
        """Declare a task that is started when the first attempt of a run has begun.

        It takes one input, a `RunBegun`; else it is as one of `on_run_end`. A mended run begins
        once more.
        """
        told = {"at": "begin", "states": [], "targets": [*workflows, *tasks]}
        declare = self._listener(told, self.task(name=name, grace=grace, io=io, **rules))
        return declare(function) if function is not None else declare

    @staticmethod
    def _listener(told: JsonObject, declare: DeclareTask) -> Callable[..., Task[..., Any]]:
        """Return what declares a task that is told of runs."""

        def declared(function: Callable[..., Any]) -> Task[..., Any]:
            task: Task[..., Any] = declare(function)
            task.declared.told = told
            return task

        return declared

    def around_attempt(self, function: Function) -> Function:
        """Declare a generator that wraps every attempt: it runs up to its `yield` before the task.

        What it yields is `ctx.opened`. It may take the attempt's `ctx`. What ends an attempt
        without an error (a return, `call_again`, a pause at a checkpoint) goes on behind the
        `yield`; an error is raised there. An `async` generator wraps `async def` tasks, in place
        of a plain one.
        """
        self._wrap("attempt", function)
        return function

    def around_process(self, function: Function) -> Function:
        """Declare a generator for what a worker's process keeps, such as connections or a model.

        It runs up to its `yield` before the process takes an attempt, and on when the process ends.
        What it yields is `ctx.kept`. An `async` one runs in the process that `async def` tasks
        share, on their event loop, besides a plain one.
        """
        self._wrap("process", function)
        return function

    def _wrap(self, what: Literal["attempt", "process"], function: Callable[..., Any]) -> None:
        if problem := self.around.add(what, function):
            self._say(f"around_{what}", problem)

    def _say(self, where: str, message: str) -> None:
        self._problems.append(Problem(where, message))

    def _full(self, workflow: str) -> str:
        return f"{self.name}/{workflow}"

    def _facts(self, function: Callable[..., Any]) -> DeclaredTask | None:
        if isinstance(function, Task):
            function = function.declared.function
        return self._by_function.get(function) if callable(function) else None
