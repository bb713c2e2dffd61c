"""The plan as the engine reads it: nodes by index, every reference resolved to a node.

A plan travels and is kept as JSON (`docs/plan-format.md`); this is its form in memory.
Nodes are numbered in plan order, so a smaller index stands earlier.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from yarnloom.values import fingerprint

PLAN_FORMAT = 1
RESERVED_LABELS = frozenset({"on_failure", "on_end"})


class Kind(StrEnum):
    """What a node of a plan is."""

    STEP = "step"
    SEQUENCE = "sequence"


@dataclass(frozen=True, slots=True)
class Constant:
    """An input's value, known when the plan is written."""

    value: Any


@dataclass(frozen=True, slots=True)
class FromParam:
    """An input taken from the params, along a path of fields."""

    path: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class FromOutput:
    """An input taken from the output of another node."""

    node: int


Source = Constant | FromParam | FromOutput


@dataclass(slots=True)
class Node:
    """One part of a plan.

    Attributes:
        index: its number in plan order; 0 is the root.
        kind: step or sequence.
        label: its name among its siblings; the root's is the workflow's name.
        parent: index of the part around it; None for the root.
        position: its place among its siblings, from 0.
        children: indices of the parts in it, in order.
        task: of a step: the task's full name, `loom/task`.
        inputs: of a step: where each input comes from.
    """

    index: int
    kind: Kind
    label: str
    parent: int | None
    position: int
    children: list[int] = field(default_factory=list)
    task: str = ""
    inputs: dict[str, Source] = field(default_factory=dict)


@dataclass(slots=True)
class Plan:
    """A compiled workflow.

    Attributes:
        loom: the loom's name.
        name: the workflow's name within its loom.
        document: the JSON form.
        nodes: in plan order.
    """

    loom: str
    name: str
    document: dict[str, Any]
    nodes: list[Node]

    @property
    def workflow(self) -> str:
        """The full name, `loom/workflow`."""
        return f"{self.loom}/{self.name}"

    @property
    def version(self) -> str:
        """Twelve hexadecimal digits that depend on the plan's content alone."""
        return fingerprint(self.document)[:12]

    @property
    def params_schema(self) -> dict[str, Any]:
        """JSON Schema of the params."""
        schema: dict[str, Any] = self.document["params"]
        return schema

    @property
    def tasks(self) -> dict[str, dict[str, Any]]:
        """For each task used, by full name: its input and output schema."""
        tasks: dict[str, dict[str, Any]] = self.document["tasks"]
        return tasks

    def path(self, node: Node) -> list[Node]:
        """The node and the parts around it, from outside in, without the root."""
        found = []
        while node.parent is not None:
            found.append(node)
            node = self.nodes[node.parent]
        return found[::-1]

    def address(self, node: Node) -> str:
        """The node's labels from outside in, joined by slashes."""
        return "/".join(inner.label for inner in self.path(node)) or self.name

    def steps(self) -> Iterator[Node]:
        """Every step of the plan, in plan order."""
        return (node for node in self.nodes if node.kind is Kind.STEP)
