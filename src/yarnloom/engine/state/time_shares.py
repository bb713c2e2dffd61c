"""How much of the time each part of a plan takes, as the newest done runs of its workflow did.

A run keeps what was known when it started. What follows one another outside of items shares the
time of the clock; what goes on beside one another, and what is in items, shares the work, so that
waiting for a worker counts nowhere twice.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import earlier_times

if TYPE_CHECKING:
    from yarnloom.engine.state.plans import Plans, Workflows


@dataclass(frozen=True, slots=True)
class Paces:
    """What is known of how long a plan takes.

    Attributes:
        seconds: the whole run; None if nothing is known.
        times: seconds by node, outside of items.
        shares: by node the share in the part around it; what is not in it has the same as its
            siblings.
        works: by node the seconds of an attempt of a step, also in items; of an each those of all
            attempts in it.
    """

    seconds: float | None = None
    times: Mapping[int, float] = field(default_factory=dict)
    shares: Mapping[int, float] = field(default_factory=dict)
    works: Mapping[int, float] = field(default_factory=dict)


LEAST = 0.002
"""The least share of a child, so that none stands still for long."""

REMEMBERED = 200
"""Of how many plans and weights the paces are kept at hand: kilobytes for each."""


UNKNOWN = Paces()


def paces(
    plan: Plan, seconds: float, times: earlier_times.Times, works: earlier_times.Times
) -> Paces:
    """Return what follows for a plan from seconds by address."""
    by_node = {
        node.index: times[address]
        for node in plan.nodes
        if node.parent is not None and (address := plan.address(node)) in times
    }
    works_by_node = {
        node.index: works[address]
        for node in plan.nodes
        if (address := plan.address(node)) in works
    }
    return Paces(seconds, by_node, shares(plan, times), works_by_node)


def paces_of(unit: Unit, plans: Plans, workflows: Workflows, run: RunRow) -> Paces:
    """What was known of a run when it started."""
    if run.weights is None:
        return UNKNOWN
    known = workflows.paces
    key = run.weights, run.plan
    if key not in known:
        while len(known) >= REMEMBERED:
            del known[next(iter(known))]
        known[key] = paces(
            plans.of(run),
            *earlier_times.times_of(unit.execute, run.weights),
            earlier_times.works_of(unit.execute, run.weights),
        )
    return known[key]


def share_of(shares: Mapping[int, float], node: Node, child: int) -> float:
    """The share of a child in its part: all of it where only one of several runs.

    A fallback is as far as the part itself, until the other has ended in its place.
    """
    if node.kind is Kind.FALLBACK:
        return 1.0 if child == node.children[0] else 0.0
    if node.kind is Kind.CHOOSE:
        return 1.0
    return shares.get(child) or 1 / len(node.children)


def shares(plan: Plan, times: earlier_times.Times) -> dict[int, float]:
    """Return the shares that follow from seconds by address."""
    found: dict[int, float] = {}
    for node in plan.nodes:
        if node.kind not in (Kind.SEQUENCE, Kind.PARALLEL) or len(node.children) < 2:
            continue
        taken = [times.get(plan.address(plan.nodes[child])) for child in node.children]
        known = [seconds for seconds in taken if seconds is not None]
        if not sum(known):
            continue
        # One of which nothing is known counts like the mean of the others.
        mean = sum(known) / len(known)
        least = LEAST * mean * len(taken)
        parts = [max(least, mean if seconds is None else seconds) for seconds in taken]
        for child, seconds in zip(node.children, parts, strict=True):
            found[child] = seconds / sum(parts)
    return found
