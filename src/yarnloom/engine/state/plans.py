"""Plans that runs started with, and addresses in them."""

from __future__ import annotations

from yarnloom.engine.state.contracts import Contracts
from yarnloom.plan import Node, Plan, address_in, item_key, read_plan
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.workers import workflow_records


class Plans:
    """The plans that are kept, each read once.

    Args:
        unit: the store's unit of work.
        known: plans that were read, by id.
        contracts: learns what a plan expects of its tasks.
    """

    __slots__ = ("_contracts", "_known", "_unit")

    def __init__(self, unit: Unit, known: dict[int, Plan], contracts: Contracts) -> None:
        self._unit = unit
        self._known = known
        self._contracts = contracts

    def of(self, run: RunRow) -> Plan:
        """Return the plan that a run started with."""
        return self.by_id(run.plan)

    def by_id(self, plan_id: int) -> Plan:
        """Return a plan that is kept."""
        plan = self._known.get(plan_id)
        if plan is None:
            plan = read_plan(workflow_records.plan_document(self._unit, plan_id))
            self.keep(plan_id, plan)
        return plan

    def keep(self, plan_id: int, plan: Plan) -> None:
        """Keep a plan that was read, or has just been published."""
        self._known[plan_id] = plan
        self._contracts.learn(plan)

    def address(self, run: RunRow, node: Node, part: PartRow) -> str:
        """Return the address of a node that is in a part: `1042/harbours[brackwater]/fetch`."""
        keys: dict[int, str] = {}
        inside = part.id if part.value is not None else part.item_part
        while inside is not None:
            item = self._unit.parts.need(inside)
            keys[item.node] = item_key(item.name, item.item)
            inside = item.item_part
        return f"{run.number}/{address_in(self.of(run), node, keys)}"

    def part_address(self, run: RunRow, part: PartRow) -> str:
        """Return the address of a part."""
        return self.address(run, self.of(run).nodes[part.node], part).rstrip("/")
