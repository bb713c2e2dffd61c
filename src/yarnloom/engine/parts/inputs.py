"""What a part needs before it can begin: its condition, its list, a step's input and its pool."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace

from yarnloom.engine.parts.list_values import ItemFault
from yarnloom.engine.parts.references import Resolver
from yarnloom.engine.rules.states import SkipReason
from yarnloom.errors import ValueRefused
from yarnloom.plan import Node, Source, item_key
from yarnloom.store import PartRow, RunRow, effect_records
from yarnloom.values import JsonObject, decode

PER_LIMIT = 200


_OF_FATE = ("fate", "output", "why")


@dataclass(frozen=True, slots=True)
class Fate:
    """What someone decided is to become of a step that nobody runs.

    Attributes:
        kind: `skip`, `cancel` or `supply`.
        output: of a supply, as JSON text.
        why: of a cancel: who and why.
    """

    kind: str
    output: str | None
    why: str


@dataclass(frozen=True, slots=True)
class PreparedStep:
    """What a step begins with, or why it does not.

    Attributes:
        given: its input as JSON text.
        pool: what limits how many run at once, with its value; empty for nothing.
        skip: why it is skipped.
        error: why it fails at once, as JSON text.
        priority: as someone decided by hand; None for the plan's.
        fate: what someone decided is to become of it.
    """

    given: str = "{}"
    pool: str = ""
    skip: SkipReason | None = None
    error: str | None = None
    priority: int | None = None
    fate: Fate | None = None

    def priority_in(self, run: RunRow, node: Node) -> int:
        """How urgent it is: as decided by hand, else as its plan says, else as its run is."""
        if self.priority is not None:
            return self.priority
        return run.priority if node.rules.priority is None else node.rules.priority


def prepare_step(resolver: Resolver, node: Node, around: PartRow) -> PreparedStep:
    """Work out what a step begins with, and what people decided about it."""
    prepared = _prepare(resolver, node, around)
    run = resolver.run
    if not run.step_actions:
        return prepared
    address = resolver.needs.plans.address(run, node, around).partition("/")[2]
    hand = effect_records.hand_of(resolver.needs.unit, run.number, address)
    if not hand or prepared.skip is SkipReason.NOT_REACHED:
        return prepared
    prepared = replace(prepared, priority=hand.get("priority"))
    if hand.get("pool") is not None:
        prepared = replace(prepared, pool=hand["pool"])
    if hand.get("inputs"):
        prepared = replace(prepared, given=with_inputs(prepared.given, hand["inputs"]))
    if fate := hand.get("fate"):
        output = json.dumps(hand.get("output"), ensure_ascii=False, separators=(",", ":"))
        prepared = replace(prepared, fate=Fate(fate, output, hand["why"]))
        # It is met now, and holds for no later round.
        rest = {name: value for name, value in hand.items() if name not in _OF_FATE}
        effect_records.keep_hand(resolver.needs.unit, run.number, address, rest)
    return prepared


def with_inputs(given: str, inputs: JsonObject) -> str:
    """A step's input as JSON text, with some of its values replaced."""
    return json.dumps({**decode(given), **inputs}, ensure_ascii=False, separators=(",", ":"))


def _prepare(resolver: Resolver, node: Node, around: PartRow) -> PreparedStep:
    try:
        if resolver.gap(node, around):
            return PreparedStep(skip=SkipReason.NOT_REACHED)
        if not is_allowed(resolver, node, around):
            return PreparedStep(skip=SkipReason.ONLY_IF)
        return PreparedStep(resolver.inputs(node, around), _pool(resolver, node, around))
    except ItemFault as fault:
        kind, message = fault.type, str(fault)
    except ValueRefused as refused:
        kind, message = "ValueRefused", str(refused)
    error = json.dumps({"type": kind, "message": message}, ensure_ascii=False)
    return PreparedStep(error=error)


def is_allowed(resolver: Resolver, node: Node, part: PartRow) -> bool:
    """Whether a part's condition lets it begin.

    Raises:
        ItemFault: it is neither true nor false.
    """
    if node.only_if is None:
        return True
    text = text_of(resolver, node.only_if, part)
    if text not in ("true", "false"):
        raise ItemFault(f"only_if is {(text or 'null'):.60}; expected true or false")
    return text == "true"


def text_of(resolver: Resolver, source: Source, part: PartRow) -> str | None:
    """What a reference stands for as JSON text; None for what is not there.

    Raises:
        ItemFault: it is too large to be passed on.
    """
    try:
        return resolver.text(source, part)
    except ValueRefused as refused:
        raise ItemFault(str(refused), "ValueRefused") from refused


def _pool(resolver: Resolver, node: Node, around: PartRow) -> str:
    """The pool that limits a step, with the value that it has a limit for."""
    rules = node.rules
    if rules.per is None:
        return rules.pool
    text = text_of(resolver, rules.per, around)
    value = None if text is None else decode(text)
    if value is not None and not isinstance(value, str | int):
        raise ItemFault(f"per is {text:.60}; expected text, a whole number, true, false or null")
    shown = value if isinstance(value, str) else text or "null"
    if len(shown) > PER_LIMIT:
        raise ItemFault(f"per is {len(shown)} letters long; expected at most {PER_LIMIT}")
    return f"{rules.pool}[{item_key(shown, 0)}]"
