"""Reading a JSON plan, and finding everything in it that is wrong, all at once.

`read_plan` is the only way from JSON to a `Plan`. It is used where a loom is checked, and again by
the service when a plan is published, since a plan may have been written by anything.
"""

from __future__ import annotations

import re
from typing import Any

from yarnloom.errors import PlanError, Problem, nearest
from yarnloom.plan.model import (
    PLAN_FORMAT,
    RESERVED_LABELS,
    Constant,
    FromOutput,
    FromParam,
    Kind,
    Node,
    Plan,
    Source,
)
from yarnloom.plan.schemas import (
    Fit,
    Schema,
    describe,
    field_schema,
    fit,
    problems_of,
    schema_problem,
)

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,99}\Z")
NAME_RULE = "letters, digits, '-', '_' and '.', at most 100, beginning with a letter or digit"

MAX_NODES = 10_000
MAX_DEPTH = 50


def read_plan(document: Any) -> Plan:
    """The plan of a JSON document.

    Raises:
        PlanError: with every problem that was found, each with its address.
    """
    plan, problems = examine(document)
    if problems or plan is None:
        name = document.get("workflow", "?") if isinstance(document, dict) else "?"
        raise PlanError(
            f"the plan of workflow {name!r} has {_count(len(problems), 'mistake')}",
            problems=problems,
        )
    return plan


def examine(document: Any) -> tuple[Plan | None, list[Problem]]:
    """The plan, as far as it can be read, and everything that is wrong with it."""
    problems = _envelope(document)
    if problems:
        return None, problems
    plan = Plan(document["loom"], document["workflow"], document, [])
    reader = _Reader(plan)
    reader.part(document["plan"], None, 0, 0)
    reader.resolve()
    if not any(True for _ in plan.steps()) and not reader.problems:
        reader.problems.append(Problem(plan.name, "there is no step in it; add one"))
    return plan, reader.problems


def _count(number: int, noun: str) -> str:
    return f"{number} {noun}" + ("" if number == 1 else "s")


def _envelope(document: Any) -> list[Problem]:
    if not isinstance(document, dict):
        return [Problem("", f"found {type(document).__name__}; expected an object")]
    found = []
    if document.get("format") != PLAN_FORMAT:
        found.append(
            Problem(
                "/format",
                f"found {document.get('format')!r}; this service reads plan format {PLAN_FORMAT}. "
                "Publish with the yarnloom version of the service.",
            )
        )
    for key in ("loom", "workflow"):
        if not isinstance(name := document.get(key), str) or not NAME.match(name):
            found.append(Problem(f"/{key}", f"found {name!r}; a name has {NAME_RULE}"))
    for key in ("params", "tasks", "plan"):
        if not isinstance(document.get(key), dict):
            found.append(Problem(f"/{key}", "missing; expected an object"))
    if found:
        return found
    found += _schema_problems("/params", document["params"])
    for task, facts in document["tasks"].items():
        for side in ("input", "output"):
            schema = facts.get(side) if isinstance(facts, dict) else None
            found += _schema_problems(f"/tasks/{task}/{side}", schema)
    return found


def _schema_problems(where: str, schema: Any) -> list[Problem]:
    if not isinstance(schema, dict):
        return [Problem(where, "missing; expected a JSON Schema")]
    wrong = schema_problem(schema)
    return [Problem(where, f"not a JSON Schema: {wrong}")] if wrong else []


class _Reader:
    """Reads the tree into nodes first, then resolves references, which may point anywhere."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.problems: list[Problem] = []
        self.raw_inputs: dict[int, dict[str, Any]] = {}

    def say(self, node: Node | None, message: str, field: str = "") -> None:
        where = self.plan.name
        if node and node.parent is not None:
            where += "/" + self.plan.address(node)
        self.problems.append(Problem(f"{where}.{field}" if field else where, message))

    # Reading the tree

    def part(self, raw: Any, parent: Node | None, position: int, depth: int) -> None:
        if depth > MAX_DEPTH or len(self.plan.nodes) >= MAX_NODES:
            if len(self.plan.nodes) == MAX_NODES or depth > MAX_DEPTH:
                limit = f"at most {MAX_NODES:,} parts, nested at most {MAX_DEPTH} deep"
                self.say(parent, f"the plan is too large: {limit}")
            return
        kind = raw.get("kind") if isinstance(raw, dict) else None
        if kind not in list(Kind):
            self.say(parent, f"found a part of kind {kind!r}{nearest(str(kind), list(Kind))}")
            return
        node = self.node(raw, Kind(kind), parent, position)
        if node.kind is Kind.STEP:
            self.step(raw, node)
            return
        inner = raw.get("parts")
        if not isinstance(inner, list) or not inner:
            self.say(node, "this sequence has no parts; give it at least one")
            return
        for place, one in enumerate(inner):
            self.part(one, node, place, depth + 1)

    def node(self, raw: dict[str, Any], kind: Kind, parent: Node | None, position: int) -> Node:
        label = raw.get("label")
        if parent is None:
            label = self.plan.name
        elif label is None and kind is Kind.SEQUENCE:
            label = str(position)
        node = Node(
            len(self.plan.nodes), kind, str(label), parent.index if parent else None, position
        )
        self.plan.nodes.append(node)
        if parent is not None:
            self.label(node, label, parent)
            parent.children.append(node.index)
        return node

    def label(self, node: Node, label: Any, parent: Node) -> None:
        if not isinstance(label, str) or not NAME.match(label):
            self.say(node, f"the label is {label!r:.60}; a label has {NAME_RULE}")
        elif label in RESERVED_LABELS:
            self.say(node, f"the label {label!r} is reserved for follow-ups; choose another")
        elif any(self.plan.nodes[other].label == label for other in parent.children):
            self.say(node, f"the label {label!r} is used twice here; labels differ among siblings")

    def step(self, raw: dict[str, Any], node: Node) -> None:
        node.task = str(raw.get("task") or "")
        inputs = raw.get("inputs", {})
        if not isinstance(inputs, dict):
            self.say(node, "its inputs are not an object by input name")
            return
        if node.task and node.task not in self.plan.tasks:
            self.say(node, f"unknown task {node.task!r}{nearest(node.task, self.plan.tasks)}")
            node.task = ""
        self.raw_inputs[node.index] = inputs

    # Resolving inputs

    def resolve(self) -> None:
        for index, inputs in self.raw_inputs.items():
            node = self.plan.nodes[index]
            schema = self.plan.tasks[node.task]["input"] if node.task else {}
            known = schema.get("properties", {})
            for name, raw in inputs.items():
                if node.task and name not in known:
                    self.say(node, f"{node.task} has no input {name!r}{nearest(name, known)}", name)
                    continue
                source = self.source(node, name, raw)
                if source is not None:
                    node.inputs[name] = source
                    if node.task:
                        wanted, _ = field_schema(schema, (name,))
                        self.type(node, name, source, wanted or {})
            missing = [name for name in schema.get("required", ()) if name not in inputs]
            for name in missing:
                wanted, _ = field_schema(schema, (name,))
                self.say(node, f"missing input; expected {describe(wanted or {})}", name)

    def source(self, node: Node, name: str, raw: Any) -> Source | None:
        match raw:
            case {"constant": value}:
                return Constant(value)
            case {"param": str(path)}:
                return self.from_param(node, name, tuple(path.split(".")))
            case {"previous": True}:
                return self.from_previous(node, name)
            case {"output": str(label)}:
                return self.from_output(node, name, label)
        kinds = '{"constant": …}, {"param": …}, {"previous": true} or {"output": …}'
        self.say(node, f"found {raw!r:.60}; expected {kinds}", name)
        return None

    def from_param(self, node: Node, name: str, path: tuple[str, ...]) -> Source | None:
        schema, wrong = field_schema(self.plan.params_schema, path)
        if schema is None:
            self.say(node, f"param({'.'.join(path)!r}): {wrong}", name)
            return None
        return FromParam(path)

    def from_previous(self, node: Node, name: str) -> Source | None:
        here = node
        while here.position == 0 and here.parent is not None:
            here = self.plan.nodes[here.parent]
        if here.parent is None:
            self.say(node, "`previous`: nothing stands before it; use param(...) instead", name)
            return None
        siblings = self.plan.nodes[here.parent].children
        return FromOutput(siblings[here.position - 1])

    def from_output(self, node: Node, name: str, label: str) -> Source | None:
        seen: list[str] = []
        here = node
        while here.parent is not None:
            around = self.plan.nodes[here.parent]
            for index in around.children:
                sibling = self.plan.nodes[index]
                if sibling.label == label:
                    return self.earlier(node, name, here, sibling)
                if sibling.position < here.position:
                    seen.append(sibling.label)
            here = around
        self.say(node, f"output({label!r}): no part has that label{nearest(label, seen)}", name)
        return None

    def earlier(self, node: Node, name: str, here: Node, target: Node) -> Source | None:
        if target.index == here.index:
            what = "itself" if target.index == node.index else "a part that it stands in"
            self.say(node, f"output({target.label!r}) is {what}; read an earlier part", name)
            return None
        if target.position > here.position:
            self.say(
                node,
                f"output({target.label!r}) comes later in the sequence; read an earlier part, "
                "or change the order",
                name,
            )
            return None
        return FromOutput(target.index)

    def type(self, node: Node, name: str, source: Source, wanted: Schema) -> None:
        if isinstance(source, Constant):
            for problem in problems_of(source.value, wanted):
                self.say(node, problem.message, name + problem.where)
            return
        if isinstance(source, FromParam):
            given, _ = field_schema(self.plan.params_schema, source.path)
            what = f"param({'.'.join(source.path)!r})"
        else:
            given = self.output_schema(self.plan.nodes[source.node])
            what = f"the output of {self.plan.address(self.plan.nodes[source.node])!r}"
        if fit(given or {}, wanted) is Fit.CANNOT:
            self.say(node, f"{what} is {describe(given or {})}; expected {describe(wanted)}", name)

    def output_schema(self, node: Node) -> Schema:
        while node.kind is Kind.SEQUENCE and node.children:
            node = self.plan.nodes[node.children[-1]]
        facts = self.plan.tasks.get(node.task)
        return facts["output"] if facts else {}
