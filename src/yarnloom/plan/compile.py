"""From parts to the JSON plan.

Compiling only writes down what stands there; whether it is right is `check`'s business, which
reads the JSON, so that a plan from another language is held to the same rules.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, Protocol

from yarnloom.errors import LoomError, Problem
from yarnloom.plain_values import plain_values
from yarnloom.plan.model import INSTEAD, ON_END, ON_FAILURE, OTHERWISE, PLAN_FORMAT, Kind
from yarnloom.plan.references import value_json
from yarnloom.plan.step_rules import (
    POOL_RULES,
    StepRules,
    UsedPool,
    read_rules,
    read_uses,
    uses_json,
)
from yarnloom.plan.validators import Schema
from yarnloom.plan.workflow_parts import Choose, Each, Parallel, Part, Sequence, Step
from yarnloom.units import seconds
from yarnloom.values import JsonObject, JsonValue, encode


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

    @property
    def code_hash(self) -> str:
        """What its code is known by."""

    @property
    def pin_code(self) -> bool:
        """Whether steps run only with this code."""

    @property
    def rules(self) -> StepRules:
        """How its steps are run; each `per` is the name of an input."""


Lookup = Callable[[Callable[..., Any]], TaskFacts | None]


def compile_plan(
    loom: str,
    name: str,
    params_schema: Schema,
    plan: Part,
    lookup: Lookup,
    *,
    on_failure: Part | None = None,
    on_end: Part | None = None,
    options: JsonObject | None = None,
) -> tuple[JsonObject, list[Problem]]:
    """The JSON form of a workflow.

    Args:
        loom: the loom's name.
        name: the workflow's name.
        params_schema: JSON Schema of the params.
        plan: the parts. What is no plain sequence is wrapped in one.
        lookup: finds the task that a function was declared as.
        on_failure: the workflow's follow-up for a failure.
        on_end: the workflow's follow-up for any end.
        options: what the workflow says of its runs: `share`, `at_once`, `per`, `if_busy`,
            `key_for`, `deadline`.

    Returns:
        The document, and the problems that can only be seen in Python (a function that is no
        task, a thing that is no part, an input that is not JSON).
    """
    writer = _Writer(lookup)
    body = writer.inner(plan, name)
    around = Sequence(None, (), on_failure=on_failure, on_end=on_end)
    for option, follow_up in writer.common(around, name).items():
        if option in body:
            message = f"{option} is given twice, to the workflow and to its plan; give it once"
            writer.problems.append(Problem(name, message))
        body[option] = follow_up
    document = {
        "format": PLAN_FORMAT,
        "loom": loom,
        "workflow": name,
        "params": params_schema,
        "tasks": dict(sorted(writer.tasks.items())),
        **writer.options(options or {}, name),
        "plan": body,
    }
    return document, writer.problems


class _Writer:
    def __init__(self, lookup: Lookup) -> None:
        self.lookup = lookup
        self.tasks: dict[str, JsonObject] = {}
        self.problems: list[Problem] = []

    def part(self, part: Part, where: str) -> JsonObject | None:
        match part:
            case Step():
                body = self.step(part, where)
            case Sequence():
                body = {"kind": Kind.SEQUENCE, "parts": self.parts(part.parts, where)}
                if part.label is not None:
                    body = {"label": part.label, **body}
            case Parallel():
                body = {
                    "kind": Kind.PARALLEL,
                    "label": part.label,
                    "parts": self.parts(part.parts, where),
                    "if_one_fails": part.if_one_fails,
                }
            case Each():
                body = self.each(part, where)
            case Choose():
                body = self.choose(part, where)
            case _:
                expected = (
                    "a part: step(...), sequence(...), parallel(...), each(...) or choose(...)"
                )
                self.problems.append(Problem(where, f"found {part!r:.60}; expected {expected}"))
                return None
        return {**body, **self.common(part, where)}

    def parts(self, parts: tuple[Part, ...], where: str) -> list[JsonObject]:
        inner = [self.part(one, f"{where}/{_label(one, i)}") for i, one in enumerate(parts)]
        return [one for one in inner if one is not None]

    def inner(self, part: Part, where: str) -> JsonObject:
        """A part that is to be a sequence: of itself, where it is something else or has a label."""
        plain = isinstance(part, Sequence) and part.label is None and part.instead is None
        inside = where if plain else f"{where}/{_label(part, 0)}"
        body = self.part(part, inside)
        if body is not None and plain:
            return body
        return {"kind": Kind.SEQUENCE, "parts": [] if body is None else [body]}

    def common(self, part: Part, where: str) -> JsonObject:
        found: JsonObject = {}
        if part.only_if is not None:
            found["only_if"] = self.input(part.only_if, f"{where}.only_if")
        for name in (INSTEAD, ON_FAILURE, ON_END):
            if (other := getattr(part, name)) is not None:
                found[name] = self.inner(other, f"{where}/{name}")
        return found

    def each(self, part: Each, where: str) -> JsonObject:
        body = {
            "kind": Kind.EACH,
            "label": part.label,
            "over": self.input(part.over, f"{where}.over"),
            "do": self.inner(part.do, where),
            "if_one_fails": part.if_one_fails,
        }
        if part.name is not None:
            body["name"] = self.input(part.name, f"{where}.name")
        for option in ("at_once", "batch", "may_fail"):
            if (value := getattr(part, option)) is not None:
                body[option] = value
        return body

    def choose(self, part: Choose, where: str) -> JsonObject:
        when = []
        for value, branch in part.when:
            is_value = self._plain(value, f"{where}.when")
            when.append({"is": is_value, "do": self.inner(branch, f"{where}/{is_value}")})
        body = {
            "kind": Kind.CHOOSE,
            "label": part.label,
            "by": self.input(part.by, f"{where}.by"),
            "when": when,
        }
        if part.otherwise is not None:
            body[OTHERWISE] = self.inner(part.otherwise, f"{where}/{OTHERWISE}")
        return body

    def options(self, given: JsonObject, where: str) -> JsonObject:
        """What a workflow says of its runs; whether it is right is seen when it is read."""
        found = {name: value for name, value in given.items() if value is not None}
        for name in {"share", "per"} & found.keys():
            found[name] = self.input(found[name], f"{where}.{name}")
        for name in {"deadline", "key_for"} & found.keys():
            try:
                found[name] = seconds(found[name])
            except ValueError as error:
                self.problems.append(Problem(f"{where}.{name}", str(error)))
                del found[name]
        return found

    def step(self, part: Step, where: str) -> JsonObject:
        facts = self.lookup(part.task)
        inputs = {name: self.input(value, f"{where}.{name}") for name, value in part.inputs.items()}
        rules: JsonObject = {}
        if facts is None:
            shown = getattr(part.task, "__name__", repr(part.task))
            self.problems.append(
                Problem(where, f"{shown} is not a task of this loom; declare it with @loom.task")
            )
            task = ""
        else:
            task = self.task(facts)
            rules = self.rules(part, facts, inputs, where)
            if task and not part.as_call:
                self.ambiguous(part, facts, where)
        return {"kind": Kind.STEP, "label": part.label, "task": task, "inputs": inputs, **rules}

    def ambiguous(self, part: Step, facts: TaskFacts, where: str) -> None:
        """Find options of a step that are inputs of its task, too."""
        common = ("only_if", INSTEAD, ON_FAILURE, ON_END)
        options = [*part.rules, *(name for name in common if getattr(part, name) is not None)]
        for name in options:
            if name in facts.input_schema.get("properties", {}):
                text = (
                    f"{name} is an option of step(...) and an input of its task; give inputs in a "
                    f"call: step({part.label!r}, task.of({name}=...), ...)"
                )
                self.problems.append(Problem(f"{where}.{name}", text))

    def rules(self, part: Step, facts: TaskFacts, inputs: JsonObject, where: str) -> JsonObject:
        """How a step is run: what it says, else what its task says."""
        others = {name: v for name, v in part.rules.items() if name not in POOL_RULES}
        own, wrong = read_rules(others)
        uses, wrong_pools = self.pools(part, facts, inputs, where)
        for name, message in (*wrong, *wrong_pools):
            self.problems.append(Problem(f"{where}.{name}", message))
        return {**replace(facts.rules, pools=()).to_json(), **own.to_json(), **uses_json(uses)}

    def pools(
        self, part: Step, facts: TaskFacts, inputs: JsonObject, where: str
    ) -> tuple[list[UsedPool], list[tuple[str, str]]]:
        """The pools of a step: its own, else its task's."""
        of_task = {
            use.pool: replace(use, per=use.per and per_input(facts, use.per, inputs))
            for use in facts.rules.pools
        }
        given = {name: part.rules[name] for name in POOL_RULES if name in part.rules}
        if "per" in given:
            given["per"] = self.input(given["per"], f"{where}.per")
        if given.keys() == {"per"} and len(of_task) == 1:
            return [replace(use, per=given["per"]) for use in of_task.values()], []
        if not given:
            return list(of_task.values()), []
        # A pool that both name keeps the value that the task has a limit for.
        own, wrong = read_uses(given)
        uses = []
        for use in own:
            per = use.per
            if "pools" in given and per is not None:
                per = self.input(per, f"{where}.pools.{use.pool}.per")
            if per is None and use.pool in of_task:
                per = of_task[use.pool].per
            uses.append(replace(use, per=per))
        return uses, wrong

    def task(self, facts: TaskFacts) -> str:
        """The task's name, empty for one that cannot be described: that is said where it stands."""
        try:
            self.tasks[facts.full_name] = {
                "input": facts.input_schema,
                "output": facts.output_schema,
                **({"code_hash": facts.code_hash} if facts.pin_code else {}),
            }
        except LoomError:
            return ""
        return facts.full_name

    def input(self, value: object, where: str) -> JsonObject:
        """A value in the form of a plan; its constants as JSON."""
        written: JsonObject = self._constants(value_json(value), where)
        return written

    def _constants(self, written: object, where: str) -> Any:
        """A written value with every constant in it as JSON."""
        if isinstance(written, list):
            return [self._constants(inner, where) for inner in written]
        if not isinstance(written, dict):
            return written
        found = {}
        for name, inner in written.items():
            if name in ("constant", "default"):
                found[name] = self._plain(inner, where)
            elif name in ("object", "names"):  # by names of their own, which may be any
                found[name] = {one: self._constants(value, where) for one, value in inner.items()}
            else:
                found[name] = self._constants(inner, where)
        return found

    def _plain(self, value: object, where: str) -> JsonValue:
        try:
            plain = plain_values({"": value})[""]
            encode(plain)
        except Exception as error:
            self.problems.append(Problem(where, str(error)))
            return None
        return plain


def per_input(facts: TaskFacts, name: str, inputs: JsonObject) -> JsonObject:
    """Where the value comes from of the input for whose values a pool has limits."""
    default = facts.input_schema.get("properties", {}).get(name, {}).get("default")
    found: JsonObject = inputs.get(name, {"constant": default})
    return found


def _label(part: Any, position: int) -> str:
    return getattr(part, "label", None) or str(position)
