"""From parts to the JSON plan.

Compiling only writes down what stands there; whether it is right is `check`'s business, which
reads the JSON, so that a plan from another language is held to the same rules.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from yarnloom.errors import LoomError, Problem
from yarnloom.plan.model import PLAN_FORMAT, Kind
from yarnloom.plan.parts import Part, Sequence, Step
from yarnloom.plan.references import Reference
from yarnloom.plan.schemas import Schema
from yarnloom.values import encode, pointer


class TaskFacts(Protocol):
    """What a plan has to know of a task."""

    @property
    def full_name(self) -> str:
        """`loom/task`."""

    @property
    def input_schema(self) -> Schema:
        """JSON Schema of the inputs, an object by input name."""

    @property
    def output_schema(self) -> Schema:
        """JSON Schema of what it returns."""


Lookup = Callable[[Callable[..., Any]], TaskFacts | None]


def compile_plan(
    loom: str, name: str, params_schema: Schema, plan: Part, lookup: Lookup
) -> tuple[dict[str, Any], list[Problem]]:
    """The JSON form of a workflow.

    Args:
        loom: the loom's name.
        name: the workflow's name.
        params_schema: JSON Schema of the params.
        plan: the parts. A lone step is wrapped in a sequence.
        lookup: finds the task that a function was declared as.

    Returns:
        The document, and the problems that can only be seen in Python (a function that is no
        task, a thing that is no part, an input that is not JSON).
    """
    writer = _Writer(lookup, name)
    root = plan if isinstance(plan, Sequence) else Sequence(None, (plan,))
    body = writer.part(root, name)
    document = {
        "format": PLAN_FORMAT,
        "loom": loom,
        "workflow": name,
        "params": params_schema,
        "tasks": dict(sorted(writer.tasks.items())),
        "plan": body,
    }
    return document, writer.problems


class _Writer:
    def __init__(self, lookup: Lookup, workflow: str) -> None:
        self.lookup = lookup
        self.workflow = workflow
        self.tasks: dict[str, dict[str, Schema]] = {}
        self.problems: list[Problem] = []

    def part(self, part: Part, where: str) -> dict[str, Any] | None:
        if isinstance(part, Step):
            return self.step(part, where)
        if isinstance(part, Sequence):
            inner = [
                self.part(one, f"{where}/{_label(one, i)}") for i, one in enumerate(part.parts)
            ]
            body = {"kind": Kind.SEQUENCE, "parts": [one for one in inner if one is not None]}
            return {"label": part.label, **body} if part.label is not None else body
        self.problems.append(
            Problem(where, f"found {part!r:.60}; expected a part: step(...) or sequence(...)")
        )
        return None

    def step(self, part: Step, where: str) -> dict[str, Any]:
        facts = self.lookup(part.task)
        inputs = {name: self.input(value, f"{where}.{name}") for name, value in part.inputs.items()}
        if facts is None:
            shown = getattr(part.task, "__name__", repr(part.task))
            self.problems.append(
                Problem(where, f"{shown} is not a task of this loom; declare it with @loom.task")
            )
            task = ""
        else:
            task = self.task(facts)
        return {"kind": Kind.STEP, "label": part.label, "task": task, "inputs": inputs}

    def task(self, facts: TaskFacts) -> str:
        """The task's name, empty for one that cannot be described: that is said where it stands."""
        try:
            self.tasks[facts.full_name] = {
                "input": facts.input_schema,
                "output": facts.output_schema,
            }
        except LoomError:
            return ""
        return facts.full_name

    def input(self, value: Any, where: str) -> dict[str, Any]:
        if isinstance(value, Reference):
            return value.to_json()
        if inner := _reference_inside(value):
            self.problems.append(
                Problem(where, f"a reference stands inside the value (at {inner}); give it alone")
            )
            return {"constant": None}
        try:
            encode(value)
        except Exception as error:
            self.problems.append(Problem(where, str(error)))
            return {"constant": None}
        return {"constant": value}


def _label(part: Any, position: int) -> str:
    return getattr(part, "label", None) or str(position)


def _reference_inside(value: Any, where: str = "") -> str | None:
    if isinstance(value, Reference):
        return where
    if isinstance(value, dict | list | tuple):
        pairs = value.items() if isinstance(value, dict) else enumerate(value)
        found = (_reference_inside(inner, where + pointer(key)) for key, inner in pairs)
        return next((place for place in found if place), None)
    return None
