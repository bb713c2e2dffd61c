"""Reading a JSON plan, and finding everything in it that is wrong, all at once.

`read_plan` is the only way from JSON to a `Plan`. It is used where a loom is checked, and again by
the service when a plan is published, since a plan may have been written by anything. The tree is
read first, then references are resolved (`scopes`), which may point anywhere, then types are
compared (`part_types`).
"""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import replace
from typing import Any

from yarnloom.errors import PlanError, Problem, nearest
from yarnloom.plan.model import (
    FIRST,
    FOLLOW_UPS,
    INSTEAD,
    OTHERWISE,
    PLAN_FORMAT,
    RESERVED,
    ChoiceFacts,
    EachFacts,
    IfBusy,
    Kind,
    Node,
    OneFails,
    Plan,
    branch_label,
)
from yarnloom.plan.part_types import Types
from yarnloom.plan.schemas import show
from yarnloom.plan.scopes import Findings, Scopes
from yarnloom.plan.sources import Constant
from yarnloom.plan.step_rules import RULES, UsedPool, read_rules
from yarnloom.plan.validators import schema_problem
from yarnloom.units import seconds
from yarnloom.values import JsonObject, JsonValue

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,99}\Z")
NAME_RULE = "letters, digits, '-', '_' and '.', at most 100, beginning with a letter or digit"

MAX_NODES = 10_000
MAX_DEPTH = 50

_OF_ALL = {"kind", "label", "only_if", INSTEAD, *FOLLOW_UPS}
_KEYS = {
    Kind.STEP: _OF_ALL | {"task", "inputs", *RULES},
    Kind.SEQUENCE: _OF_ALL | {"parts"},
    Kind.PARALLEL: _OF_ALL | {"parts", "if_one_fails"},
    Kind.CHOOSE: _OF_ALL | {"by", "when", OTHERWISE},
    Kind.EACH: _OF_ALL | {"over", "do", "name", "at_once", "batch", "if_one_fails", "may_fail"},
}
_PERCENT = re.compile(r"(\d{1,3}(?:\.\d{1,2})?)%\Z")


def read_plan(document: JsonValue) -> Plan:
    """The plan of a JSON document.

    Raises:
        PlanError: with every problem that was found, each with its address.
    """
    plan, problems = examine(document)
    said = {problem.where for problem in problems}
    problems += [one for one in _without_task(plan) if one.where not in said] if plan else []
    if problems or plan is None:
        name = document.get("workflow", "?") if isinstance(document, dict) else "?"
        raise PlanError(
            f"the plan of workflow {name!r} has {_count(len(problems), 'mistake')}",
            problems=problems,
        )
    return plan


def examine(document: JsonValue) -> tuple[Plan | None, list[Problem]]:
    """The plan, as far as it can be read, and everything that is wrong with it."""
    problems = _envelope(document)
    if problems:
        return None, problems
    plan = Plan(document["loom"], document["workflow"], document, [])
    findings = Findings(plan)
    reader = _Reader(plan, findings)
    reader.part(document["plan"], None, 0, 0)
    reader.runs(document)
    if not findings.problems and not any(True for _ in plan.steps()):
        findings.say(None, "there is no step in it; add one")
    reader.resolve()
    return plan, findings.problems


def _without_task(plan: Plan) -> list[Problem]:
    """Steps that name no task; of a loom's own, compiling has said more already."""
    found = Findings(plan)
    for node in plan.steps():
        if not plan.document["tasks"].get(node.task):
            found.say(node, "it names no task")
    return found.problems


def _count(number: int, noun: str) -> str:
    return f"{number} {noun}" + ("" if number == 1 else "s")


def _envelope(document: JsonValue) -> list[Problem]:
    if not isinstance(document, dict):
        return [Problem("", f"found {type(document).__name__}; expected an object")]
    # What is inside is looked at only once the outer form is right.
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


def _schema_problems(where: str, schema: JsonValue) -> list[Problem]:
    if not isinstance(schema, dict):
        return [Problem(where, "missing; expected a JSON Schema")]
    wrong = schema_problem(schema)
    if wrong is None:
        return []
    return [Problem(where + wrong.where, f"not a JSON Schema that can be used: {wrong.message}")]


class _Reader:
    """Reads the tree into nodes, and keeps what stands in it for references until all are known."""

    def __init__(self, plan: Plan, findings: Findings) -> None:
        self.plan = plan
        self.say = findings.say
        self.findings = findings
        self.raw: dict[int, JsonObject] = {}
        self.labels: set[tuple[int, str]] = set()

    # Reading the tree

    def part(
        self, raw: JsonValue, parent: Node | None, position: int, depth: int, follows: str = ""
    ) -> None:
        # A plan that is too large is refused once, however much more follows.
        if depth > MAX_DEPTH or len(self.plan.nodes) >= MAX_NODES:
            if len(self.plan.nodes) == MAX_NODES or depth > MAX_DEPTH:
                limit = f"at most {MAX_NODES:,} parts, nested at most {MAX_DEPTH} deep"
                self.say(parent, f"the plan is too large: {limit}")
            return
        kind = raw.get("kind") if isinstance(raw, dict) else None
        if kind not in list(_KEYS):
            self.say(parent, f"found a part of kind {kind!r}{nearest(str(kind), list(_KEYS))}")
            return
        if INSTEAD in raw and not follows and self.has_place_for_instead(parent):
            self.fallback(raw, parent, position, depth)
            return
        node = self.node(raw, Kind(kind), parent, position, follows)
        if INSTEAD in raw:
            self.say(node, "not expected here; wrap it in a sequence", INSTEAD)
        for key in raw.keys() - _KEYS[node.kind]:
            self.say(node, f"not expected here{nearest(key, _KEYS[node.kind])}", key)
        match node.kind:
            case Kind.STEP:
                self.step(raw, node)
            case Kind.EACH:
                self.each(raw, node, depth)
            case Kind.CHOOSE:
                self.choose(raw, node, depth)
            case _:
                self.inner(raw, node, depth)
        for name in FOLLOW_UPS:
            if name in raw:
                self.follow_up(raw[name], node, name, depth)

    @staticmethod
    def has_place_for_instead(parent: Node | None) -> bool:
        """Whether a part in another is one of its own, and not all of what it does."""
        return parent is not None and parent.kind in (Kind.SEQUENCE, Kind.PARALLEL)

    def fallback(self, raw: JsonObject, parent: Node | None, position: int, depth: int) -> None:
        """A part with `instead`: a fallback around both, which has all that holds for either."""
        own = {key: raw[key] for key in ("label", "only_if", *FOLLOW_UPS) if key in raw}
        if raw["kind"] == Kind.SEQUENCE and parent and parent.kind is Kind.SEQUENCE:
            own = {"label": str(position)} | own
        node = self.node(own, Kind.FALLBACK, parent, position, "")
        itself = {key: value for key, value in raw.items() if key not in own and key != INSTEAD}
        self.part({**itself, "label": FIRST}, node, 0, depth + 1)
        instead = raw[INSTEAD]
        if self.is_unlabelled(instead, node, INSTEAD):
            self.part({**instead, "label": INSTEAD}, node, 1, depth + 1)
        for name in FOLLOW_UPS:
            if name in raw:
                self.follow_up(raw[name], node, name, depth)

    def is_unlabelled(self, raw: JsonValue, node: Node, option: str) -> bool:
        """Check that an option of a part is a sequence without a label."""
        right = isinstance(raw, dict) and raw.get("kind") == Kind.SEQUENCE and "label" not in raw
        if not right:
            self.say(node, "expected a sequence without a label", option)
        return right

    def choose(self, raw: JsonObject, node: Node, depth: int) -> None:
        when = raw.get("when")
        if not isinstance(when, list) or not all(
            isinstance(one, dict) and one.keys() == {"is", "do"} for one in when
        ):
            self.say(node, 'expected a list of {"is": value, "do": sequence}', "when")
            when = []
        elif not when and OTHERWISE not in raw:
            self.say(node, "it has no branches; give it at least one", "when")
        values: list[JsonValue] = []
        for one in when:
            value = one["is"]
            if not isinstance(value, str | int | None):
                self.say(
                    node,
                    f"found {show(value)}; expected text, a whole number, true, false or null",
                    "when",
                )
            # Python takes 1 and True for equal, and so does a dict of branches.
            elif any(value == other for other in values):
                self.say(node, f"{show(value)} comes twice, or beside its equal", "when")
            elif self.is_unlabelled(one["do"], node, f"when.{branch_label(value)}"):
                values.append(value)
                branch = {**one["do"], "label": branch_label(value)}
                self.part(branch, node, len(values) - 1, depth + 1)
        node.choice = ChoiceFacts(Constant(None), tuple(values))  # until references are resolved
        if OTHERWISE in raw and self.is_unlabelled(raw[OTHERWISE], node, OTHERWISE):
            self.part({**raw[OTHERWISE], "label": OTHERWISE}, node, len(values), depth + 1)

    def node(
        self, raw: JsonObject, kind: Kind, parent: Node | None, position: int, follows: str
    ) -> Node:
        node = Node(len(self.plan.nodes), kind, "", parent.index if parent else None, position)
        node.follows = follows
        node.in_follow_up = bool(follows) or (parent is not None and parent.in_follow_up)
        self.plan.nodes.append(node)
        self.raw[node.index] = raw
        label = raw.get("label")
        if parent is None:
            node.label = self.plan.name
        elif follows:
            node.label = follows
            parent.follow_ups[follows] = node.index
        elif parent.kind in (Kind.EACH, Kind.CHOOSE, Kind.FALLBACK):
            node.label = "" if parent.kind is Kind.EACH else str(label)
            parent.children.append(node.index)
        else:
            if label is None and kind is Kind.SEQUENCE and parent.kind is Kind.SEQUENCE:
                label = str(position)
            node.label = str(label)
            self.label(node, label, parent)
            parent.children.append(node.index)
        return node

    def label(self, node: Node, label: Any, parent: Node) -> None:
        if label is None and parent.kind is Kind.PARALLEL:
            node.label = str(node.position)
            self.say(node, "a branch of a parallel needs a label: sequence('a-label', ...)")
        elif not isinstance(label, str) or not NAME.match(label):
            self.say(node, f"the label is {label!r:.60}; a label has {NAME_RULE}")
        elif label in RESERVED:
            self.say(node, f"the label {label!r} is reserved; choose another")
        elif (parent.index, label) in self.labels:
            self.say(node, f"the label {label!r} is used twice here; labels differ among siblings")
        self.labels.add((parent.index, node.label))

    def inner(self, raw: JsonObject, node: Node, depth: int) -> None:
        parts = raw.get("parts")
        if not isinstance(parts, list) or not parts:
            self.say(node, f"this {node.kind} has no parts; give it at least one")
            return
        self.if_one_fails(raw, node)
        for place, one in enumerate(parts):
            self.part(one, node, place, depth + 1)

    def follow_up(self, raw: JsonValue, node: Node, name: str, depth: int) -> None:
        if not isinstance(raw, dict) or raw.get("kind") != Kind.SEQUENCE:
            self.say(node, "expected a sequence", name)
            return
        self.part(raw, node, FOLLOW_UPS.index(name), depth + 1, name)

    def step(self, raw: JsonObject, node: Node) -> None:
        node.task = str(raw.get("task") or "")
        if node.task and node.task not in self.plan.tasks:
            self.say(node, f"unknown task {node.task!r}{nearest(node.task, self.plan.tasks)}")
            node.task = ""
        if not isinstance(raw.get("inputs", {}), dict):
            self.say(node, "its inputs are not an object by input name")
            self.raw[node.index] = {**raw, "inputs": {}}
        node.rules, wrong = read_rules({name: raw[name] for name in RULES if name in raw})
        for name, message in wrong:
            self.say(node, message, name)

    def each(self, raw: JsonObject, node: Node, depth: int) -> None:
        self.if_one_fails(raw, node)
        may_fail, percent = self.may_fail(raw.get("may_fail"), node)
        node.each = EachFacts(
            over=Constant([]),  # until references are resolved
            at_once=self.count(raw, node, "at_once"),
            batch=self.count(raw, node, "batch"),
            may_fail=may_fail,
            may_fail_percent=percent,
        )
        if self.is_unlabelled(raw.get("do"), node, "do"):
            self.part(raw["do"], node, 0, depth + 1)

    def count(self, raw: JsonObject, node: Node, option: str) -> int | None:
        value = raw.get(option)
        if value is None or (type(value) is int and value >= 1):
            return value
        self.say(node, f"found {value!r:.60}; expected a whole number from 1 on", option)
        return None

    def runs(self, document: JsonObject) -> None:
        """What the workflow says of its runs."""
        if not self.plan.nodes:
            return
        root = self.plan.nodes[0]
        self.plan.at_once = self.count(document, root, "at_once")
        busy = document.get("if_busy", IfBusy.WAIT)
        if busy not in list(IfBusy):
            choices = " or ".join(map(repr, map(str, IfBusy)))
            self.say(root, f"found {busy!r:.60}; expected {choices}", "if_busy")
        elif "if_busy" in document and self.plan.at_once is None:
            self.say(root, "if_busy= needs at_once=, which says when it is busy", "if_busy")
        else:
            self.plan.if_busy = IfBusy(busy)
        if "per" in document and self.plan.at_once is None:
            self.say(root, "per= says for what at_once= holds; give at_once= too", "per")
        for name in ("deadline", "key_for"):
            if (given := document.get(name)) is not None:
                try:
                    setattr(self.plan, name, seconds(given))
                except ValueError as error:
                    self.say(root, str(error), name)

    def may_fail(self, value: JsonValue, node: Node) -> tuple[float, bool]:
        if value is None:
            return 0, False
        if type(value) is int and value >= 0:
            return value, False
        percent = _PERCENT.match(value) if isinstance(value, str) else None
        if percent and float(percent[1]) <= 100:
            return float(percent[1]), True
        self.say(node, f'found {value!r:.60}; expected a count, or a share as "5%"', "may_fail")
        return 0, False

    def if_one_fails(self, raw: JsonObject, node: Node) -> None:
        value = raw.get("if_one_fails", OneFails.STOP)
        if value in list(OneFails):
            node.if_one_fails = OneFails(value)
            return
        choices = " or ".join(map(repr, map(str, OneFails)))
        self.say(node, f"found {value!r:.60}; expected {choices}", "if_one_fails")

    # Resolving what stands in it

    def resolve(self) -> None:
        scopes = Scopes(self.plan, self.findings)
        types = Types(self.plan, self.findings)
        for node in self.plan.nodes:
            self.references(node, scopes)
        scopes.refuse_cycles()
        for node in self.plan.nodes:
            types.check(node, self.raw[node.index])
        for name, source in (("share", self.plan.share), ("per", self.plan.per)):
            if source is not None:
                types.check_of_runs(name, source)
        types.mark_wanted()

    def references(self, node: Node, scopes: Scopes) -> None:
        raw = self.raw[node.index]
        if "only_if" in raw:
            node.only_if = scopes.source(node, "only_if", raw["only_if"])
        if node.each:
            over = scopes.source(node, "over", raw.get("over"))
            path = scopes.item_name(node, raw["name"]) if "name" in raw else None
            node.each = replace(node.each, over=over or node.each.over, name=path)
        if node.choice:
            by = scopes.source(node, "by", raw.get("by"))
            node.choice = replace(node.choice, by=by or node.choice.by)
        if node.kind is Kind.STEP:
            for name, one in raw.get("inputs", {}).items():
                source = scopes.source(node, name, one)
                if source is not None:
                    node.inputs[name] = source
            # Only now, since labels of all parts must be known first.
            uses = [
                replace(use, per=scopes.source(node, _per_option(raw, use), use.per))
                if use.per is not None
                else use
                for use in node.rules.pools
            ]
            if uses:
                node.rules = replace(node.rules, pools=tuple(uses))
        if node.parent is None and "share" in self.plan.document:
            self.plan.share = scopes.of_runs(node, "share", self.plan.document["share"])
        if node.parent is None and "per" in self.plan.document:
            self.plan.per = scopes.of_runs(node, "per", self.plan.document["per"])


def _per_option(raw: JsonObject, use: UsedPool) -> str:
    """How the `per` of a pool's use is called in messages."""
    return f"pools.{use.pool}.per" if "pools" in raw else "per"


def unknown_pools(plan: Plan, known: Collection[str]) -> list[Problem]:
    """Pools that steps of a plan name and nobody declares."""
    found = Findings(plan)
    for pool, node in plan.pools.items():
        if pool not in known:
            hint = nearest(pool, known) if known else "; declare it: loom.pool(...)"
            found.say(node, f"there is no pool {pool!r}{hint}", "pool")
    return found.problems
