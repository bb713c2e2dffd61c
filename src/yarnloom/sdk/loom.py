"""The loom: the object in which a project declares its tasks and workflows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal, TypeVar, overload

from pydantic import BaseModel
from typing_extensions import Unpack

from yarnloom.errors import LoomError, PlanError, Problem
from yarnloom.plan import NAME, NAME_RULE, Part, Plan, PoolDeclaration, Rate, TaskRules, read_rules
from yarnloom.plan.marked_values import has_secret_rows, with_definitions
from yarnloom.plan.schedule_settings import IfBusyText as ScheduleBusyText
from yarnloom.plan.schedule_settings import MissedText
from yarnloom.sdk.hooks import Around
from yarnloom.sdk.loom_checks import DeclaredWorkflow, LoomParts, examine_loom, remarks_on
from yarnloom.sdk.task import Overlap, Task
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject

Function = TypeVar("Function", bound=Callable[..., Any])

START_OPTIONS = frozenset(
    {"key", "priority", "share", "tags", "start_at", "start_in", "start_by", "on_check"}
)
"""What `client.start(...)` takes beside params."""

_NO_PARAMS: JsonObject = {"type": "object", "properties": {}, "additionalProperties": False}
_RUN_ENDS = ("done", "failed", "cancelled")
IfBusyText = Literal["wait", "skip", "replace"]


class Loom:
    """Where a project declares its tasks and workflows.

    Args:
        name: the loom's name; task and workflow names live under it.
        release: any text that names the code's release; it goes into every task's code hash.
        fork: False where a worker's processes must load the loom each for itself, and are not to be
            forks of one that has; see docs/long-steps.md.
    """

    def __init__(self, name: str, *, release: str = "", fork: bool = True) -> None:
        if not NAME.match(name):
            raise LoomError(f"found the loom name {name!r}; a name has {NAME_RULE}")
        self.name = name
        self.release = release
        self.fork = fork
        self._tasks: dict[str, Task] = {}
        self._by_function: dict[Callable[..., Any], Task] = {}
        self._workflows: dict[str, DeclaredWorkflow] = {}
        self._pools: dict[str, PoolDeclaration] = {}
        self._schedules: dict[str, JsonObject] = {}
        self.around = Around()
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
    def schedules(self) -> dict[str, JsonObject]:
        """The schedules that it declares, by name."""
        return dict(self._schedules)

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
        grace: Duration | None = None,
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
        grace: Duration | None = None,
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

        def declare(declared: Function) -> Function:
            own_name = name or declared.__name__
            for option, message in wrong:
                self._say(f"{own_name}.{option}", message)
            borne = None
            try:
                borne = None if grace is None else seconds(grace)
            except ValueError as error:
                self._say(f"{own_name}.grace", str(error))
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
        if not (params is None or (isinstance(params, type) and issubclass(params, BaseModel))):
            self._say(
                f"{name}.params", f"found {params!r:.80}; expected a class made from BaseModel"
            )
            params = None
        schema = params.model_json_schema() if params else _NO_PARAMS
        if has_secret_rows(with_definitions(schema)):
            self._say(f"{name}.params", "rows cannot hold a Secret: they are kept as they are")
        for taken in sorted(START_OPTIONS & schema.get("properties", {}).keys()):
            text = (
                f"a param cannot be called {taken!r}: that is an option of every start; rename it"
            )
            self._say(f"{name}.params", text)
        # A param that is not known is a mistake, not something to pass over.
        schema = {**schema, "additionalProperties": False}
        options = {"share": share, "at_once": at_once, "if_busy": if_busy, "deadline": deadline}
        self._workflows[name] = DeclaredWorkflow(schema, plan, on_failure, on_end, options)

    def schedule(
        self,
        name: str,
        *,
        workflow: str,
        cron: str,
        zone: str = "UTC",
        params: JsonObject | None = None,
        if_busy: ScheduleBusyText = "wait",
        missed: MissedText = "one",
        paused: bool = False,
        priority: int = 0,
        share: str = "",
        tags: Sequence[str] = (),
        note: str = "",
    ) -> None:
        """Declare a schedule: it starts a workflow again and again by the clock.

        Schedules belong to the service, where they can be paused and changed by hand.

        Args:
            name: the schedule's, unique at the service.
            workflow: what it starts, a workflow of this loom.
            cron: when: minute, hour, day of month, month and day of week, as `"30 2 * * *"`.
            zone: by whose clock, an IANA name as `"Europe/Lisbon"`. A local time that a change of
                the clock leaves out comes at its end, one that it repeats comes the first time.
            params: what its runs are started with.
            if_busy: what becomes of a time that comes while an earlier run of the schedule is under
                way: "wait" (one at most, the newest), "skip", "replace" the earlier one, or "start"
                beside it.
            missed: which of the times are caught up with that passed while no service ran: "one"
                (the newest), "all" (the newest 100; needs `if_busy="start"`), "none".
            paused: whether it starts nothing until someone resumes it.
            priority: of its runs.
            share: whom fair turns of its runs are counted for.
            tags: words to find its runs by.
            note: what it is for, for people.
        """
        if not NAME.match(name):
            self._say(name, f"found the schedule name {name!r}; a name has {NAME_RULE}")
        if isinstance(tags, str):
            self._say(f"{name}.tags", f"found the text {tags!r:.60}; expected a list of texts")
            tags = ()
        if name in self._schedules:
            self._say(name, "two schedules have this name; rename one of them")
        self._schedules[name] = {
            "workflow": workflow,
            "cron": cron,
            "zone": zone,
            "params": params or {},
            "if_busy": if_busy,
            "missed": missed,
            "paused": paused,
            "priority": priority,
            "share": share,
            "tags": list(tags),
            "note": note,
        }

    def on_run_end(
        self,
        *,
        states: Sequence[str] = (),
        workflows: Sequence[str] = (),
        name: str | None = None,
        grace: Duration | None = None,
        io: bool = False,
        **rules: Unpack[TaskRules],
    ) -> Callable[[Function], Function]:
        """Declare a task that is started at the end of each run of this loom, or of some.

        It takes one input, a `RunEnded`, and is run as any task: durably, and again where its
        retry rule says so. Of its own runs nothing is told.

        Args:
            states: only of runs that are "done", "failed" or "cancelled"; of all unless given.
            workflows: only of runs of these; of all unless given.
            name: the task's, as are `grace`, `io` and the rules: as of `task`.
        """
        for state in states:
            if state not in _RUN_ENDS:
                where, expected = name or "on_run_end", ", ".join(_RUN_ENDS)
                self._say(f"{where}.states", f"found {state!r:.60}; expected {expected}")
        told = {"states": list(states), "workflows": list(workflows)}

        def declare(function: Function) -> Function:
            declared = self.task(name=name, grace=grace, io=io, **rules)(function)
            self._by_function[function].told = told
            return declared

        return declare

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

    def examine(self) -> tuple[list[Plan], list[Problem]]:
        """Every workflow's plan, and every mistake in the whole loom, without running anything."""
        return examine_loom(self._parts())

    def _parts(self) -> LoomParts:
        return LoomParts(
            self.name,
            self._tasks,
            self._workflows,
            self._schedules,
            self._pools,
            self._facts,
            self._problems,
        )

    def remarks(self, plans: Sequence[Plan]) -> list[Problem]:
        """Return what is no mistake, and yet worth knowing before anything runs."""
        return remarks_on(self._parts(), plans)

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

    def publication(self) -> dict[str, list[JsonObject]]:
        """Everything that a service is told when the loom is published.

        Raises:
            PlanError: the loom has mistakes.
        """
        return {
            "plans": [plan.document for plan in self.check()],
            "tasks": [self._published(task) for task in self._tasks.values()],
            "pools": [{"loom": self.name, **pool.to_json()} for pool in self.pools],
            "schedules": [
                {"loom": self.name, "name": name, **one, "workflow": self._full(one["workflow"])}
                for name, one in self._schedules.items()
            ],
        }

    def _full(self, workflow: str) -> str:
        return f"{self.name}/{workflow}"

    def _published(self, task: Task) -> JsonObject:
        facts = task.facts()
        if task.told is not None:
            workflows = [self._full(one) for one in task.told["workflows"]]
            facts["on_run_end"] = {**task.told, "workflows": workflows}
        return facts

    def _facts(self, function: Callable[..., Any]) -> Task | None:
        return self._by_function.get(function) if callable(function) else None
