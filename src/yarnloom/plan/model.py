"""The plan as the engine reads it: nodes by index, every reference resolved to a node.

A plan travels and is kept as JSON (`docs/plan-format.md`); this is its form in memory.
Nodes are numbered in plan order, so a smaller index stands earlier; a part's follow-ups come
after what is in it.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from urllib.parse import quote, unquote

from yarnloom.plan.sources import Source, sources_in
from yarnloom.plan.step_rules import PLAIN_RULES, StepRules
from yarnloom.values import JsonObject, JsonValue, fingerprint

PLAN_FORMAT = 1
ON_FAILURE, ON_END = "on_failure", "on_end"
FOLLOW_UPS = (ON_FAILURE, ON_END)
INSTEAD, FIRST, OTHERWISE = "instead", "first", "otherwise"
RESERVED = (*FOLLOW_UPS, INSTEAD, "on_ask")
"""Labels that no part can have."""


class Kind(StrEnum):
    """What a node of a plan is."""

    STEP = "step"
    SEQUENCE = "sequence"
    PARALLEL = "parallel"
    EACH = "each"
    CHOOSE = "choose"
    FALLBACK = "fallback"  # a part with `instead=`, and what runs in its place

    @property
    def a_kind(self) -> str:
        """With its article, for messages."""
        return f"an {self}" if self is Kind.EACH else f"a {self}"


class OneFails(StrEnum):
    """What a parallel or an each does when one in it has failed."""

    STOP = "stop"  # begins nothing more
    CANCEL = "cancel"  # and stops what runs
    FINISH = "finish"  # lets the others go on


class IfBusy(StrEnum):
    """What becomes of a run of a workflow of which as many are under way as may be."""

    WAIT = "wait"  # it is begun when one has ended
    SKIP = "skip"  # it is cancelled
    REPLACE = "replace"  # as many as needed are cancelled, the oldest first


"""Sources that are made of others."""


@dataclass(frozen=True, slots=True)
class EachFacts:
    """What belongs to an each alone.

    Attributes:
        over: where its list comes from.
        name: the path to an item's name, inside the item; None for its index.
        at_once: how many items may have begun and not ended; None for no limit.
        batch: how many of the list are one item; None for one.
        may_fail: how many items may fail.
        may_fail_percent: whether `may_fail` is percent of all items.
    """

    over: Source
    name: tuple[str, ...] | None = None
    at_once: int | None = None
    batch: int | None = None
    may_fail: float = 0
    may_fail_percent: bool = False

    def allowed(self, total: int) -> int:
        """How many of so many items may fail, rounded down."""
        if self.may_fail_percent:
            # In hundredths of a percent, since floats make 29% of 100 a little less than 29.
            return round(self.may_fail * 100) * total // 10_000
        return int(self.may_fail)


@dataclass(frozen=True, slots=True)
class ChoiceFacts:
    """What belongs to a choose alone.

    Attributes:
        by: where the value comes from that it looks at.
        values: by branch the value for which it runs; one branch more is that for all others.
    """

    by: Source
    values: tuple[JsonValue, ...]


@dataclass(slots=True)
class Node:
    """One part of a plan.

    Attributes:
        index: its number in plan order; 0 is the root.
        kind: what it is.
        label: its name among its siblings; the root's is the workflow's name, and that of what
            an each repeats is empty.
        parent: index of the part around it; of a follow-up that of the part that it follows;
            None for the root.
        position: its place among its siblings, from 0.
        children: indices of the parts in it, in order; of an each the one that is repeated; of a
            choose its branches; of a fallback the part itself, and what runs instead.
        follows: of a follow-up `on_failure` or `on_end`; else empty.
        follow_ups: its own follow-ups, by which they are.
        in_follow_up: whether it is one, or stands in one.
        only_if: a condition; None if it has none.
        task: of a step: the task's full name, `loom/task`.
        inputs: of a step: where each input comes from.
        rules: of a step: how it is run; each `per` is a source there.
        if_one_fails: of a parallel or each.
        each: of an each.
        choice: of a choose.
        waits_for: of a branch of a parallel: the sibling branches that are read in it.
        awaited_by: the other way round.
        reads: of a branch: the nodes in those siblings that must have given an output.
        wanted: whether anything reads its output.
        done_wanted: of an each: whether anything reads those of its items that are done.
        failures_wanted: of an each: whether anything reads which items failed.
    """

    index: int
    kind: Kind
    label: str
    parent: int | None
    position: int
    children: list[int] = field(default_factory=list)
    follows: str = ""
    follow_ups: dict[str, int] = field(default_factory=dict)
    in_follow_up: bool = False
    only_if: Source | None = None
    task: str = ""
    inputs: dict[str, Source] = field(default_factory=dict)
    rules: StepRules = PLAIN_RULES
    if_one_fails: OneFails = OneFails.STOP
    each: EachFacts | None = None
    choice: ChoiceFacts | None = None
    waits_for: list[int] = field(default_factory=list)
    awaited_by: list[int] = field(default_factory=list)
    reads: list[int] = field(default_factory=list)
    wanted: bool = False
    done_wanted: bool = False
    failures_wanted: bool = False

    def sources(self) -> Iterator[Source]:
        """Yield all sources that it reads itself, those that they are made of included."""
        own = (self.each and self.each.over, self.choice and self.choice.by, self.only_if)
        uses = (use.per for use in self.rules.pools)
        for source in (*self.inputs.values(), *own, *uses):
            yield from sources_in(source)


@dataclass
class Plan:
    """A compiled workflow.

    Attributes:
        loom: the loom's name.
        name: the workflow's name within its loom.
        document: the JSON form.
        nodes: in plan order.
        share: where the name comes from that fair turns of a run are counted for; else its own.
        at_once: how many runs of the workflow may be under way; None for any number.
        per: where the value comes from for each of which that limit holds; None for all runs.
        if_busy: what becomes of a run that comes when so many are.
        key_for: seconds after a run's end for which its start key is taken, if its caller chose
            it; None for as long as keys are kept.
        deadline: seconds from a run's start to when it must have ended.
    """

    loom: str
    name: str
    document: JsonObject
    nodes: list[Node]
    share: Source | None = None
    at_once: int | None = None
    per: Source | None = None
    if_busy: IfBusy = IfBusy.WAIT
    key_for: float | None = None
    deadline: float | None = None

    @property
    def workflow(self) -> str:
        """The full name, `loom/workflow`."""
        return f"{self.loom}/{self.name}"

    @cached_property
    def version(self) -> str:
        """Twelve hexadecimal digits that depend on the plan's content alone."""
        return fingerprint(self.document)[:12]

    @property
    def params_schema(self) -> JsonObject:
        """JSON Schema of the params."""
        schema: JsonObject = self.document["params"]
        return schema

    @property
    def tasks(self) -> dict[str, JsonObject]:
        """For each task used, by full name: its input and output schema, and its pinned code."""
        tasks: dict[str, JsonObject] = self.document["tasks"]
        return tasks

    @cached_property
    def contracts(self) -> dict[str, str]:
        """For each task used what a worker must fit: `loom/task@` and a hash of its facts."""
        return {name: f"{name}@{fingerprint(facts)[:10]}" for name, facts in self.tasks.items()}

    def contract(self, step: Node) -> str:
        """What a worker must fit to run a step: its task's, and behind `+` what it must have."""
        found = self.contracts[step.task]
        return f"{found}+{','.join(step.rules.only_on)}" if step.rules.only_on else found

    @cached_property
    def plain_steps(self) -> frozenset[int]:
        """Steps that nothing in the plan asks more of than that they are run with their input."""
        return frozenset(
            node.index
            for node in self.nodes
            if node.kind is Kind.STEP
            and node.only_if is None
            and not (node.follow_ups or node.reads or node.rules.pools or node.rules.memory)
            and (node.rules.quiet_for, node.rules.deadline) == (None, None)
            and node.rules.losses is None  # its begin is recorded before it runs
        )

    @cached_property
    def pools(self) -> dict[str, Node]:
        """Every pool that a step names, with the first such step."""
        named = ((use.pool, node) for node in reversed(self.nodes) for use in node.rules.pools)
        return dict(named)

    def path(self, node: Node) -> list[Node]:
        """The node and the parts around it, from outside in, without the root."""
        found = []
        while node.parent is not None:
            found.append(node)
            node = self.nodes[node.parent]
        return found[::-1]

    def address(self, node: Node) -> str:
        """The node's labels from outside in, joined by slashes; items of eaches have no key."""
        return "/".join(one.label for one in self.path(node) if one.label) or self.name

    @cached_property
    def addresses(self) -> list[str]:
        """The address of every node; of a plan that is whole."""
        return [self.address(node) for node in self.nodes]

    def is_item(self, node: Node) -> bool:
        """Whether a node is what an each repeats."""
        parent = self.nodes[node.parent] if node.parent is not None else None
        return parent is not None and parent.kind is Kind.EACH and not node.follows

    def belongs(self, node: Node, part: int) -> bool:
        """Whether a node in a part, given by index, is of its plan and not of a follow-up in it."""
        while node.index != part:
            if node.follows or node.parent is None:
                return False
            node = self.nodes[node.parent]
        return True

    def own_label(self, node: Node) -> str:
        """The label that a part was given: of one with `instead` that of the fallback around it."""
        parent = self.nodes[node.parent] if node.parent is not None else None
        given = parent if parent is not None and parent.kind is Kind.FALLBACK else node
        return given.label

    def shown_label(self, node: Node) -> str:
        """The label that people see: of a part with `instead` its own, of a branch its value."""
        parent = self.nodes[node.parent] if node.parent is not None else None
        if parent is None or node.follows:
            return node.label
        if parent.kind is Kind.FALLBACK and node.position == 0:
            return parent.label
        if parent.choice and node.position < len(parent.choice.values):
            value = parent.choice.values[node.position]
            return value if isinstance(value, str) else json.dumps(value)
        return node.label

    def is_instead(self, node: Node) -> bool:
        """Whether a node is what runs in the place of another part that failed."""
        parent = self.nodes[node.parent] if node.parent is not None else None
        instead = parent is not None and parent.kind is Kind.FALLBACK and not node.follows
        return instead and node.position == 1

    def stands_in(self, node: Node) -> bool:
        """Whether a node is, or is in, what runs instead of another part or follows one."""
        here = node
        while here.parent is not None and not self.is_instead(here):
            here = self.nodes[here.parent]
        return node.in_follow_up or self.is_instead(here)

    def steps_in(self, node: Node) -> list[int]:
        """The nodes of all steps in a part, those that eaches repeat too, without follow-ups."""
        if node.kind is Kind.STEP:
            return [node.index]
        return [step for child in node.children for step in self.steps_in(self.nodes[child])]

    def steps(self) -> Iterator[Node]:
        """Every step of the plan, in plan order."""
        return (node for node in self.nodes if node.kind is Kind.STEP)


_SEGMENT = re.compile(r"([^\[\]/#]+)(?:\[([^\[\]/#]*)\])?\Z")
# Whatever is no letter, digit or harmless mark, in any script.
_UNSAFE = re.compile(r"[^\w.~@:+()=,;!$&'*-]")


def item_key(name: str | None, item: int) -> str:
    """How an item is called in addresses."""
    return str(item) if name is None else _UNSAFE.sub(lambda found: quote(found[0], safe=""), name)


def branch_label(value: JsonValue) -> str:
    """How a branch of a choose is called in addresses: by its value.

    Text that reads like another value, or like another label, is in quotes.
    """
    if not isinstance(value, str):
        return json.dumps(value)
    try:
        json.loads(value)
    except ValueError:
        if value and value not in (*RESERVED, OTHERWISE):
            return item_key(value, 0)
    return item_key(json.dumps(value, ensure_ascii=False), 0)


def address_in(plan: Plan, node: Node, keys: Mapping[int, str]) -> str:
    """The address of a node within a run.

    Args:
        plan: the run's plan.
        node: the node.
        keys: for every item that it stands in, by its node, the item's key.
    """
    segments: list[str] = []
    for one in plan.path(node):
        if one.label:
            segments.append(one.label)
        elif one.index in keys:
            segments[-1] += f"[{keys[one.index]}]"
    return "/".join(segments)


def split_address(address: str) -> list[tuple[str, str | None]] | None:
    """Labels from outside in, each with the key of an item or None; None if it is no address.

    Keys are as they stand in the address: still encoded.
    """
    found = []
    for segment in address.strip("/").split("/"):
        match = _SEGMENT.match(segment)
        if match is None:
            return None
        found.append((match[1], match[2]))
    return found


def item_name(key: str) -> str:
    """The name that a key stands for."""
    return unquote(key)
