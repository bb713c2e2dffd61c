"""What a workflow is written with. Plain records: nothing here checks, nothing that runs.

A part is a step, sequence, parallel, each or choose; parts nest. A function that returns a part is
a part that can be used again. Compiling turns them into the JSON plan.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol

from yarnloom.plan.step_rules import RULES, IfQuiet, Retry, Use
from yarnloom.units import Duration, Size
from yarnloom.values import JsonObject

STEP_OPTIONS = frozenset({"only_if", "instead", "on_failure", "on_end", *RULES})
"""Keywords of `step` that belong to Yarn Loom: inputs of these names go into a call."""

IfOneFails = Literal["stop", "cancel", "finish"]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Common:
    """What every part can have; None where it is not given."""

    only_if: Any = None
    instead: Part | None = None
    on_failure: Part | None = None
    on_end: Part | None = None


@dataclass(frozen=True, slots=True)
class Step(_Common):
    """One use of a task in a workflow; `rules` is what it says otherwise than its task.

    `as_call`: whether its inputs were given apart from its options, by `task.of(...)`.
    """

    label: str
    task: Callable[..., Any]
    inputs: JsonObject
    rules: JsonObject = field(default_factory=dict)
    as_call: bool = False


class TaskCall(Protocol):
    """A call of a task, as `fetch.of(harbour=item("code"))` gives it."""

    @property
    def target(self) -> Any:
        """The task."""

    @property
    def inputs(self) -> Mapping[str, Any]:
        """For each input a constant or a reference."""


@dataclass(frozen=True, slots=True)
class Sequence(_Common):
    """Parts that run one after another; its output is that of its last part."""

    label: str | None
    parts: tuple[Part, ...]


@dataclass(frozen=True, slots=True)
class Parallel(_Common):
    """Labelled branches that run side by side; its output is an object by label."""

    label: str
    parts: tuple[Part, ...]
    if_one_fails: str = "stop"


@dataclass(frozen=True, slots=True)
class Each(_Common):
    """One part repeated for every item of a list; its output is a list in item order."""

    label: str
    over: Any
    do: Part
    name: Any = None
    at_once: int | None = None
    batch: int | None = None
    if_one_fails: str = "stop"
    may_fail: int | str | None = None


@dataclass(frozen=True, slots=True)
class Choose(_Common):
    """Branches of which one runs, by a value; its output is that of the branch.

    `when` has a value and its branch each.
    """

    label: str
    by: Any
    when: tuple[tuple[object, Part], ...]
    otherwise: Part | None = None


Part = Step | Sequence | Parallel | Each | Choose


def step(
    label: str,
    task: Callable[..., Any] | TaskCall,
    /,
    *,
    only_if: Any = None,
    instead: Part | None = None,
    on_failure: Part | None = None,
    on_end: Part | None = None,
    pool: str | None = None,
    pools: Mapping[str, int | Use] | None = None,
    per: Any = None,
    retry: Retry | None = None,
    timeout: Duration | None = None,
    deadline: Duration | None = None,
    quiet_for: Duration | None = None,
    if_quiet: IfQuiet | None = None,
    losses: int | None = None,
    only_on: Collection[str] | None = None,
    memory: Size | None = None,
    priority: int | None = None,
    **inputs: Any,
) -> Step:
    """One use of a task in a workflow.

    What is given of `pool` and all behind it holds instead of what the task says.

    Args:
        label: the step's name among its siblings.
        task: a call of a task, as `fetch.of(harbour=item("code"))`; or the task, with its inputs
            among the keywords where none is called like an option.
        only_if: a condition, or a reference to true or false; when false the step is skipped, its
            output null.
        instead: a part that runs in its place when it has failed for good.
        on_failure: a part that runs when the step has failed.
        on_end: a part that runs when the step has ended, in any way.
        pool: the pool that limits how many such steps run at once; "" for none.
        pools: several pools, or more than one place of one: by pool a weight, or `Use(2, per=...)`;
            the step begins when it fits into all of them.
        per: a reference; the pool has a limit of its own for each of its values.
        retry: when a failed attempt is followed by another.
        timeout: how long an attempt may run.
        deadline: how long after it could first run the step must have ended.
        quiet_for: how long an attempt may say nothing of its progress before it counts as stuck.
        if_quiet: what becomes of it then: "show" only tells of it, "retry" stops it, as at a
            time-out.
        losses: how often its worker or process may die before it fails; 3 unless given.
        only_on: what a worker must have to run it, as `["gpu"]`.
        memory: how much memory an attempt may use, as "500 MB".
        priority: higher runs first, from -1000 to 1000; else its run's.
        inputs: for each input of the task a constant or a reference.
    """
    rules = {
        "pool": pool,
        "pools": pools,
        "per": per,
        "retry": retry,
        "timeout": timeout,
        "deadline": deadline,
        "quiet_for": quiet_for,
        "if_quiet": if_quiet,
        "losses": losses,
        "only_on": only_on,
        "memory": memory,
        "priority": priority,
    }
    given = {name: value for name, value in rules.items() if value is not None}
    common = _common(only_if, instead, on_failure, on_end)
    if not callable(task):
        if inputs:
            raise TypeError(
                f"step {label!r}: the inputs of a call are in it; put {sorted(inputs)[0]!r} there"
            )
        return Step(label, task.target, dict(task.inputs), given, True, **common)
    return Step(label, task, inputs, given, **common)


def sequence(
    *parts: Part | str,
    only_if: Any = None,
    instead: Part | None = None,
    on_failure: Part | None = None,
    on_end: Part | None = None,
) -> Sequence:
    """A chain: parts that run one after another.

    Args:
        parts: the parts in order; a label may stand first: `sequence("tables", step(...), ...)`.
        only_if: as of a step.
        instead: as of a step.
        on_failure: as of a step.
        on_end: as of a step.
    """
    label, rest = _labelled(parts)
    return Sequence(label, rest, **_common(only_if, instead, on_failure, on_end))


def parallel(
    label: str,
    /,
    *parts: Part,
    if_one_fails: IfOneFails = "stop",
    only_if: Any = None,
    instead: Part | None = None,
    on_failure: Part | None = None,
    on_end: Part | None = None,
) -> Parallel:
    """A fan-out group: branches that run side by side, and join.

    A branch that reads the output of another waits for it, so a parallel can express any graph
    without cycles.

    Args:
        label: its name among its siblings.
        parts: the branches, each with a label.
        if_one_fails: "stop" begins nothing more in it, "cancel" also stops what runs, "finish"
            lets the others go on; it fails in any case.
        only_if: as of a step.
        instead: as of a step.
        on_failure: as of a step.
        on_end: as of a step.
    """
    common = _common(only_if, instead, on_failure, on_end)
    return Parallel(label, tuple(parts), if_one_fails, **common)


def each(
    label: str,
    /,
    *,
    over: Any,
    do: Part,
    name: Any = None,
    at_once: int | None = None,
    batch: int | None = None,
    if_one_fails: IfOneFails = "stop",
    may_fail: int | str | None = None,
    only_if: Any = None,
    instead: Part | None = None,
    on_failure: Part | None = None,
    on_end: Part | None = None,
) -> Each:
    """One part repeated for every item of a list, many at once.

    Args:
        label: its name among its siblings.
        over: the list: a constant, or a reference to one.
        do: the part; `item()` in it is the item.
        name: what an item is called in addresses, e.g. `item("code")`; else its index.
        at_once: how many items may have begun and not ended.
        batch: gives `do` so many items together: `item()` is a list then.
        if_one_fails: as of a parallel, when more have failed than may.
        may_fail: how many items may fail: a count, or a share of all such as "5%".
        only_if: as of a step.
        instead: as of a step.
        on_failure: as of a step.
        on_end: as of a step.
    """
    common = _common(only_if, instead, on_failure, on_end)
    return Each(label, over, do, name, at_once, batch, if_one_fails, may_fail, **common)


def choose(
    label: str,
    /,
    *,
    by: Any,
    when: Mapping[Any, Part] | Iterable[tuple[Any, Part]],
    otherwise: Part | None = None,
    only_if: Any = None,
    instead: Part | None = None,
    on_failure: Part | None = None,
    on_end: Part | None = None,
) -> Choose:
    """Branches of which exactly one runs, by a value; its output is that of the branch.

    Args:
        label: its name among its siblings.
        by: a reference to text, a whole number, true, false or null; or a condition.
        when: by value the part that runs; pairs, where a value cannot be a key.
        otherwise: the part that runs for any other value; without it another value fails the part.
        only_if: as of a step.
        instead: as of a step.
        on_failure: as of a step.
        on_end: as of a step.
    """
    pairs = when.items() if isinstance(when, Mapping) else when
    common = _common(only_if, instead, on_failure, on_end)
    return Choose(label, by, tuple((value, part) for value, part in pairs), otherwise, **common)


def _common(
    only_if: Any, instead: Part | None, on_failure: Part | None, on_end: Part | None
) -> JsonObject:
    return {"only_if": only_if, "instead": instead, "on_failure": on_failure, "on_end": on_end}


def _labelled(parts: tuple[Any, ...]) -> tuple[str | None, tuple[Any, ...]]:
    if parts and isinstance(parts[0], str):
        return parts[0], parts[1:]
    return None, parts
