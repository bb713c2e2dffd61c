"""What the items of an each share that go straight to workers, and the input of each.

It follows from the plan, the run and what ended before the each. So rows of items can be made later
from the list of the each alone: while a worker has them, and when they are done (`segments.py`).
"""

from __future__ import annotations

import json
from dataclasses import dataclass

from yarnloom.engine.part_contents.inputs import PreparedStep, References, along, value_along
from yarnloom.engine.state.given_items import Field, Straight
from yarnloom.engine.state.plans import Plans
from yarnloom.errors import ValueRefused
from yarnloom.plan import NOT_GIVEN, FromItem, Kind
from yarnloom.secrets import has_sealed
from yarnloom.store import PartRow, RunRow
from yarnloom.values import JsonObject, JsonValue, decode

SHORT_TIMEOUT = 2.0
"""Seconds; with a shorter time-out the begin of each item must be known at once."""


@dataclass(slots=True)
class ItemInputs:
    """Works out the inputs of items without rows."""

    plans: Plans
    references: References

    def straight_of(self, run: RunRow, each: PartRow) -> Straight | None:
        """Compute the facts that all items of an each share; None if its items need rows."""
        plan = self.plans.of(run)
        node = plan.nodes[each.node]
        do = plan.nodes[node.children[0]]
        step = plan.nodes[do.children[0]]
        assert node.each is not None
        # Whatever may need a row before the end of an item rules out the quick path: other parts,
        # conditions, limits by value, deadlines, recorded begins, secrets.
        plain = do.kind is Kind.SEQUENCE and len(do.children) == 1 and step.kind is Kind.STEP
        if not plain or each.item_part is not None or node.each.batch or has_sealed(run.params):
            return None
        if any(one.follow_ups or one.only_if is not None for one in (do, step)):
            return None
        rules = step.rules
        if not rules.is_simple or rules.memory or rules.quiet_for is not None:
            return None
        if rules.deadline is not None or rules.losses is not None:
            return None
        if rules.timeout is not None and rules.timeout < SHORT_TIMEOUT:
            return None
        resolver = self.references.resolver(run, plan)
        fields: list[Field] = []
        try:
            if resolver.gap(step, each):
                return None
            for name, source in step.inputs.items():
                key = json.dumps(name) + ":"
                if isinstance(source, FromItem):
                    fields.append(Field(name, key, path=source.path))
                elif (text := resolver.text(source, each)) is not None:
                    fields.append(Field(name, key, text, decode(text)))
        except ValueRefused:
            return None
        lane = (rules.pool, PreparedStep().priority_in(run, step), run.share or f"run {run.number}")
        return Straight(
            each=each.id,
            run=run.number,
            facts=node.each,
            do=do,
            step=step,
            lane=(*lane, plan.contract(step)),
            address=self.plans.part_address(run, each),
            plan_address=plan.address(step),
            fields=fields,
            rank=each.rank,
            next=each.total - each.unmade,
        )


def input_of(straight: Straight, raw: JsonValue, value: str) -> str:
    """A step's input for an item, as JSON text.

    Args:
        straight: its each.
        raw: the item's value.
        value: the same as JSON text.
    """
    fields = []
    for _, key, text, _, path in straight.fields:
        if text is not None:
            fields.append(key + text)
        elif not path:
            fields.append(key + value)
        elif (found := along(raw, path)) is not None:
            fields.append(key + found)
    return "{" + ",".join(fields) + "}"


def own_input(straight: Straight, raw: JsonValue) -> JsonObject:
    """Those inputs of a step that are not the same for all items."""
    own = {}
    for name, _, text, _, path in straight.fields:
        if text is None and (value := value_along(raw, path)) is not NOT_GIVEN:
            own[name] = value
    return own
