"""The loom: the object in which a project declares its tasks and workflows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from typing import Any, Literal, ParamSpec, overload

from pydantic import BaseModel, TypeAdapter
from typing_extensions import TypedDict, TypeVar, Unpack

from yarnloom.errors import PlanError, Problem, ValueRefused
from yarnloom.plain_values import plain_values
from yarnloom.plan import NAME, NAME_RULE, Part, Plan
from yarnloom.plan.marked_values import has_secret_rows, with_definitions
from yarnloom.plan.schedule_settings import IfBusyText as ScheduleBusyText
from yarnloom.plan.schedule_settings import MissedText
from yarnloom.sdk.calls import Call, Workflow
from yarnloom.sdk.loom_checks import DeclaredWorkflow, LoomParts, examine_loom, remarks_on
from yarnloom.sdk.task import DeclaredTask
from yarnloom.sdk.task_declarations import TaskDeclarations
from yarnloom.units import Duration
from yarnloom.values import JsonObject

P = ParamSpec("P")
R = TypeVar("R")

_NO_PARAMS: JsonObject = {"type": "object", "properties": {}, "additionalProperties": False}
IfBusyText = Literal["wait", "skip", "replace"]
NO_OUTPUT: Any = object()
"""No type of the output is declared; None would be one."""


class WorkflowOptions(TypedDict, total=False):
    """What a workflow says of its runs; `Loom.workflow` says what each means."""

    on_failure: Part | None
    on_end: Part | None
    share: Any
    at_once: int | None
    per: Any
    if_busy: IfBusyText | None
    key_for: Duration | None
    deadline: Duration | None


class Loom(TaskDeclarations):
    """Where a project declares its tasks and workflows.

    Args:
        name: the loom's name; task and workflow names live under it.
        release: any text that names the code's release; it goes into every task's code hash.
        fork: False where a worker's processes must load the loom each for itself, and are not to be
            forks of one that has; see docs/long-steps.md.
    """

    def __init__(self, name: str, *, release: str = "", fork: bool = True) -> None:
        super().__init__(name, release)
        self.fork = fork
        self._workflows: dict[str, DeclaredWorkflow] = {}
        self._schedules: dict[str, JsonObject] = {}

    def __repr__(self) -> str:
        return f"<Loom {self.name!r}: {len(self._tasks)} tasks, {len(self._workflows)} workflows>"

    @property
    def schedules(self) -> dict[str, JsonObject]:
        """The schedules that it declares, by name."""
        return dict(self._schedules)

    @overload
    def workflow(
        self,
        name: str,
        *,
        plan: Part,
        params: Callable[P, BaseModel],
        output: type[R],
        **options: Unpack[WorkflowOptions],
    ) -> Workflow[P, R]: ...
    @overload
    def workflow(
        self,
        name: str,
        *,
        plan: Part,
        params: Callable[P, BaseModel],
        **options: Unpack[WorkflowOptions],
    ) -> Workflow[P, Any]: ...
    @overload
    def workflow(
        self, name: str, *, plan: Part, output: type[R], **options: Unpack[WorkflowOptions]
    ) -> Workflow[[], R]: ...
    @overload
    def workflow(
        self, name: str, *, plan: Part, **options: Unpack[WorkflowOptions]
    ) -> Workflow[[], Any]: ...
    def workflow(
        self,
        name: str,
        *,
        plan: Part,
        params: Any = None,
        output: Any = NO_OUTPUT,
        on_failure: Part | None = None,
        on_end: Part | None = None,
        share: Any = None,
        at_once: int | None = None,
        per: Any = None,
        if_busy: IfBusyText | None = None,
        key_for: Duration | None = None,
        deadline: Duration | None = None,
    ) -> Workflow[..., Any]:
        """Declare a workflow.

        `workflow.of(year=2027)` is a call of it that can be started or scheduled.

        Args:
            name: its name within the loom.
            plan: its parts, e.g. `sequence(...)`.
            params: a Pydantic model of what a run is started with; none unless given.
            output: the type of its output, which `run.wait()` returns then.
            on_failure: a part that runs when the plan has failed.
            on_end: a part that runs when the plan has ended, in any way.
            share: whom fair turns of its runs are counted for, e.g. `param("customer")`; each run
                has turns of its own unless given, here or at its start.
            at_once: how many of its runs may be under way at once.
            per: a param, as `param("customer")`: `at_once` holds for each of its values.
            if_busy: what becomes of one that comes when so many are: "wait" begins it when one has
                ended, "skip" cancels it, "replace" cancels the oldest to begin it.
            key_for: how long after a run's end its start key is taken, if its caller chose it; then
                the same key starts another run. As long as keys are kept unless given.
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
        # A param that is not known is a mistake, not something to pass over.
        schema = {**schema, "additionalProperties": False}
        options = {
            "share": share,
            "at_once": at_once,
            "per": per,
            "if_busy": if_busy,
            "key_for": key_for,
            "deadline": deadline,
        }
        own_output = None if output is NO_OUTPUT else self._schema_of(name, output)
        self._workflows[name] = DeclaredWorkflow(
            schema, plan, on_failure, on_end, options, own_output
        )
        return Workflow(self.name, name, params, Any if output is NO_OUTPUT else output)

    def _schema_of(self, name: str, output: Any) -> JsonObject | None:
        try:
            return TypeAdapter(output).json_schema(mode="validation")
        except Exception as error:  # what Pydantic says of a type that is none
            self._say(f"{name}.output", f"found {output!r:.80}; expected a type: {error}"[:500])
            return None

    def schedule(
        self,
        call: Call[Any],
        /,
        *,
        cron: str = "",
        every: Duration = "",
        first: datetime | str = "",
        spread: Duration = "",
        name: str = "",
        zone: str = "UTC",
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
            call: what it starts, as `report.of(year=2027)`: a workflow of this loom.
            name: the schedule's, unique at the service; the workflow's unless given.
            cron: when: minute, hour, day of month, month and day of week, as `"30 2 * * *"`.
            every: an interval in its place, as `"90m"`: that long after the planned time before,
                however long the run takes.
            first: the first time of the interval; when the schedule was made unless given.
            spread: up to how much later each time starts, as `"5m"`, so that what is planned for
                the same time does not begin at once; the same for each schedule and time.
            zone: by whose clock, an IANA name as `"Europe/Lisbon"`. A local time that a change of
                the clock leaves out comes at its end, one that it repeats comes the first time.
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
        name = name or getattr(call, "target", self).name
        if not NAME.match(name):
            self._say(name, f"found the schedule name {name!r}; a name has {NAME_RULE}")
        workflow, params = self._scheduled(name, call)
        if isinstance(tags, str):
            self._say(f"{name}.tags", f"found the text {tags!r:.60}; expected a list of texts")
            tags = ()
        if name in self._schedules:
            self._say(name, "two schedules have this name; rename one of them")
        self._schedules[name] = {
            "workflow": workflow,
            "cron": cron,
            "every": _text_of(every),
            "first": first.isoformat() if isinstance(first, datetime) else first,
            "spread": _text_of(spread),
            "zone": zone,
            "params": params,
            "if_busy": if_busy,
            "missed": missed,
            "paused": paused,
            "priority": priority,
            "share": share,
            "tags": list(tags),
            "note": note,
        }

    def _scheduled(self, name: str, call: Call[Any]) -> tuple[str, JsonObject]:
        """Return the workflow that a schedule starts, and its params."""
        if not isinstance(call, Call) or not isinstance(call.target, Workflow):
            self._say(name, f"found {call!r:.80}; expected a call of a workflow: report.of(...)")
            return "", {}
        if call.target.full_name != self._full(call.target.name):
            self._say(name, f"{call.target.full_name} is a workflow of another loom")
        try:
            return call.target.name, plain_values(dict(call.inputs))
        except ValueRefused as error:
            self._problems += [
                problem._replace(where=name + problem.where) for problem in error.problems
            ]
            return call.target.name, {}

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

    def _published(self, task: DeclaredTask) -> JsonObject:
        facts = task.facts()
        if task.told is not None:
            targets = [self._full(target) for target in task.told["targets"]]
            facts["on_run"] = {**task.told, "targets": targets}
        return facts


def _text_of(length: Duration) -> str:
    """A duration as the text that a schedule has."""
    if isinstance(length, timedelta):
        length = length.total_seconds()
    return length if isinstance(length, str) else f"{length:g}s"
