"""Inputs of parts: references, conditions, lists, inputs of steps and their pools.

Values are JSON texts throughout: large ones are passed on without being taken apart.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass, replace

from yarnloom.engine.part_contents.conditions import decide, fill_text
from yarnloom.engine.part_contents.fates import FATE_FIELDS, Fate
from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.part_contents.lists import DONE, FAILURES, dump_text, failed_item, fault_of
from yarnloom.engine.records.errors import StepError, TaskFailure
from yarnloom.engine.rules.limits import pool_key
from yarnloom.engine.rules.states import SkipReason, StepState
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.transaction_notes import Composing, Ended
from yarnloom.errors import ValueRefused
from yarnloom.plan import (
    NOT_GIVEN,
    Combination,
    Comparison,
    Constant,
    FieldOf,
    FromBadRows,
    FromFailure,
    FromFailures,
    FromItem,
    FromOutput,
    FromParam,
    FromPlannedAt,
    IsNull,
    Kind,
    ListOf,
    Node,
    ObjectOf,
    Plan,
    Source,
    TextOf,
    item_key,
)
from yarnloom.secrets import Vault, has_sealed
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.files import file_records
from yarnloom.store.runs import effect_records, item_records
from yarnloom.units import iso_time
from yarnloom.values import VALUE_LIMIT, JsonObject, JsonValue, decode, size_of

FAILURES_TOLD = 20

WAITING = Ended(StepState.WAITING)


class Resolver:
    """Resolves the references of one run within a transaction."""

    def __init__(self, needs: References, run: RunRow, plan: Plan) -> None:
        self.needs = needs
        self.run = run
        self.plan = plan

    def text(self, source: Source, around: PartRow) -> str | None:  # noqa: PLR0912
        """What a reference stands for as JSON text; None for a param or field that is not there.

        Args:
            source: the reference.
            around: the part that it stands in.

        Raises:
            ValueRefused: the value is too large to be passed on.
        """
        # One case a kind of source, each a line or two.
        match source:
            case Constant(value):
                return dump_text(value)
            case FromParam(path):
                return along(decode(self.run.params), path)
            case FromItem(each, path):
                return self._from_item(each, path, around)
            case FromOutput():
                return self._from_output(source, around)
            case FromFailures(each):
                return self._failures(self._row_of(each, around))
            case FromFailure():
                return self._failure(around)
            case FromPlannedAt():
                return dump_text(planned_at(self.run))
            case FromBadRows(path):
                return along(decode(self.run.params), (*path, "bad_rows")) or "null"
            case FieldOf(of, path):
                text = self.text(of, around)
                return None if text is None else along(decode(text), path)
            case Comparison() | IsNull() | Combination():
                return dump_text(bool(decide(source, lambda of: self.value(of, around))))
            case ListOf(of):
                return f"[{','.join(self.text(one, around) or 'null' for one in of)}]"
            case ObjectOf(names, of):
                return _object_text(zip(names, (self.text(one, around) for one in of), strict=True))
            case TextOf():
                return self._filled(source, around)

    def value(self, source: Source, around: PartRow) -> JsonValue:
        """What a reference stands for, secrets opened; `NOT_GIVEN` for what is not there."""
        text = self.text(source, around)
        if text is None:
            return NOT_GIVEN
        value = decode(text)
        return self.needs.vault.open(value) if has_sealed(text) else value

    def _filled(self, source: TextOf, around: PartRow) -> str:
        """A text with values put in; sealed if one of them is a secret."""
        filled = fill_text(source, lambda of: self.value(of, around))
        if any(has_sealed(self.text(one, around) or "") for one in source.of):
            return dump_text(self.needs.vault.seal(filled))
        return dump_text(filled)

    def inputs(self, node: Node, around: PartRow) -> str:
        """A step's input as JSON text, every reference replaced by its value."""
        return _object_text((name, self.text(of, around)) for name, of in node.inputs.items())

    def child(self, part: PartRow, node: Node) -> Ended:
        """How a child of a part stands."""
        known = self.needs.composing.children.get((part.id, node.index))
        if known is not None:
            return known
        if node.kind is Kind.STEP:
            step = self.needs.unit.steps.one("part = ? AND node = ?", part.id, node.index)
            if step is not None:
                return Ended(step.state, step.skip_reason, step.output, size_of(step.output))
        else:
            row = self._part_at(part, node.index)
            if row is not None:
                return Ended(row.outcome or row.state, row.skip_reason, row.output, row.size)
        return Ended(part.rest_state, part.rest_reason) if part.rest_state else WAITING

    def gap(self, node: Node, around: PartRow) -> bool:
        """Whether a part reads something that gave no output: it failed or was not reached."""
        return any(not self._target(self.plan.nodes[target], around).gave for target in node.reads)

    # Items

    def _from_item(self, each: int, path: tuple[str, ...], around: PartRow) -> str | None:
        wanted = self.plan.nodes[each].children[0]
        while around.node != wanted:
            around = self.needs.unit.around(around)
        assert around.value is not None
        return around.value if not path else along(decode(around.value), path)

    # Outputs

    def _from_output(self, source: FromOutput, around: PartRow) -> str:
        node = self.plan.nodes[source.node]
        ended = self._target(node, around)
        if ended.state != StepState.DONE:
            return "null" if source.default is NOT_GIVEN else dump_text(source.default)
        if source.only_done:
            row = self._row_of(node.index, around)
            assert row is not None, "an each that is done has a row"
            if (found := file_records.gathered_list(self.needs.unit, row.id, DONE)) is not None:
                return found
            self._refuse_large(node, row.size)
            return item_records.gathered(
                self.needs.unit, row.run, row.id, node.children[0], only_done=True
            )
        self._refuse_large(node, ended.size)
        return ended.output or "null"

    def _refuse_large(self, node: Node, size: int) -> None:
        if size > VALUE_LIMIT:
            raise ValueRefused(
                f"the output of {self.plan.address(node)!r} is {size:,} bytes together; at most "
                f"{VALUE_LIMIT:,} are passed on. Return less from each step, such as a file: "
                "ctx.save_file keeps one."
            )

    def _target(self, target: Node, around: PartRow) -> Ended:
        """How a node stands, as it is seen from inside a part."""
        holder = self._holder(target, around)
        return WAITING if holder is None else self.child(holder, target)

    def _row_of(self, node: int, around: PartRow) -> PartRow | None:
        holder = self._holder(self.plan.nodes[node], around)
        return self._part_at(holder, node) if holder is not None else None

    def _holder(self, target: Node, around: PartRow) -> PartRow | None:
        """The row of the part that a node stands in; None if that has not begun.

        References look outwards, and from there into parallels and sequences.
        """
        if target.parent is None:
            return None
        below = [target.parent]
        while True:
            here: PartRow | None = around
            while here is not None and here.node != below[-1]:
                here = self.needs.unit.parts.need(here.parent) if here.parent else None
            if here is not None:
                break
            parent = self.plan.nodes[below[-1]].parent
            if parent is None:
                return None
            below.append(parent)
        for index in reversed(below[:-1]):
            here = self._part_at(here, index)
            if here is None:
                return None
        return here

    def _part_at(self, part: PartRow, node: int) -> PartRow | None:
        return self.needs.unit.parts.one("parent = ? AND node = ? AND item = 0", part.id, node)

    # Failures

    def _failures(self, each: PartRow | None) -> str:
        if each is None:
            return "[]"  # seen from a follow-up: it was not reached
        if (kept := file_records.gathered_list(self.needs.unit, each.id, FAILURES)) is not None:
            return kept
        found, size = [], 0
        where = self.needs.plans.part_address(self.run, each)
        for item, name, error in item_records.failed_items(self.needs.unit, each.id, VALUE_LIMIT):
            found.append(failed_item(where, item, name, error))
            size += len(found[-1])
            if size > VALUE_LIMIT:
                raise ValueRefused(
                    f"{self.plan.nodes[each.node].label} has too many failures to be listed in "
                    f"{VALUE_LIMIT:,} bytes",
                    hint="look at them with `yarnloom show`",
                )
        return f"[{','.join(found)}]"

    def _failure(self, around: PartRow) -> str:
        """What failed in the part that the one around here follows or replaces."""
        node = self.plan.nodes[around.node]
        while not (node.follows or self.plan.is_instead(node)):
            around = self.needs.unit.around(around)
            node = self.plan.nodes[around.node]
        holder = self.needs.unit.around(around)
        assert node.parent is not None
        followed = self.plan.nodes[node.parent]
        if not node.follows:
            followed = self.plan.nodes[followed.children[0]]
            holder = self._part_at(holder, followed.index) or holder
        if followed.kind is Kind.STEP:
            return self._failure_of_step(holder, followed)
        if holder.outcome != StepState.FAILED:
            return "null"
        first = json.loads(holder.error or "{}")
        count = sum(
            number
            for index, number in item_records.failures_by_node(
                self.needs.unit, self.run.number, holder.rank
            )
            if self.plan.belongs(self.plan.nodes[index], holder.node)
        )
        failures = self._failed_under(holder)
        return dump_text({"first": _task_failure(first), "count": count, "failures": failures})

    def _failure_of_step(self, holder: PartRow, followed: Node) -> str:
        step = self.needs.unit.steps.one("part = ? AND node = ?", holder.id, followed.index)
        if step is None or step.state != StepState.FAILED:
            return "null"
        address = self.needs.plans.address(self.run, followed, holder)
        failure = _task_failure(_error_at(address, followed.task, step.attempts, step.error))
        return dump_text({"first": failure, "count": 1, "failures": [failure]})

    def first_failure(self, holder: PartRow) -> StepError | None:
        """Return the first failure in a part that is still there, as the errors of parts say it."""
        return next(iter(self._errors_under(holder)), None)

    def _failed_under(self, holder: PartRow) -> list[TaskFailure]:
        return [_task_failure(error) for error in self._errors_under(holder)]

    def _errors_under(self, holder: PartRow) -> list[StepError]:
        unit, number = self.needs.unit, self.run.number
        found: list[tuple[bytes, StepError]] = []
        for rank, index, part, attempts, error in item_records.failed_steps_under(
            unit, number, holder.rank, 2 * FAILURES_TOLD
        ):
            node = self.plan.nodes[index]
            if self.plan.belongs(node, holder.node):
                address = self.needs.plans.address(self.run, node, unit.parts.need(part))
                found.append((rank, _error_at(address, node.task, attempts, error)))
        for rank, index, part, fault in item_records.faulty_parts_under(
            unit, number, holder.rank, 2 * FAILURES_TOLD
        ):
            if self.plan.belongs(self.plan.nodes[index], holder.node):
                address = self.needs.plans.part_address(self.run, unit.parts.need(part))
                found.append((rank, _error_at(address, None, 0, fault)))
        found.sort(key=lambda one: one[0])
        return [one for _, one in found[:FAILURES_TOLD]]


def planned_at(run: RunRow) -> str | None:
    """The time that a run was planned for, as RFC 3339 text."""
    return run.planned_at or iso_time(run.start_at or run.created_at)


def _error_at(address: str, task: str | None, attempts: int, error: str | None) -> StepError:
    """Return an error, kept as JSON text, with the step that had it."""
    where = StepError(step=address, task=task, attempts=attempts)
    where.update(json.loads(error or "{}"))
    return where


def _task_failure(error: StepError) -> TaskFailure:
    """Return a failure as tasks get it."""
    return {
        "address": error.get("step", ""),
        "task": error.get("task"),
        "attempts": error.get("attempts", 0),
        "error": fault_of(error),
    }


def _object_text(fields: Iterable[tuple[str, str | None]]) -> str:
    """An object as JSON text, of fields as JSON text; those that are not there are left out."""
    given = (f"{json.dumps(name)}:{text}" for name, text in fields if text is not None)
    return "{" + ",".join(given) + "}"


def value_along(value: JsonValue, path: tuple[str | int, ...]) -> JsonValue:
    """The value at a path of fields and positions; `NOT_GIVEN` if there is none."""
    for name in path:
        if value is None:
            return None
        if isinstance(name, int):
            if not isinstance(value, list) or name >= len(value):
                return NOT_GIVEN
        elif not isinstance(value, dict) or name not in value:
            return NOT_GIVEN
        value = value[name]
    return value


def along(value: object, path: tuple[str | int, ...]) -> str | None:
    """What stands at a path, as JSON text; None if it was not given."""
    found = value_along(value, path)
    return None if found is NOT_GIVEN else dump_text(found)


@dataclass(slots=True)
class References:
    """Says what references stand for."""

    unit: Unit
    plans: Plans
    composing: Composing
    vault: Vault

    def resolver(self, run: RunRow, plan: Plan) -> Resolver:
        """Return what resolves the references of a run."""
        return Resolver(self, run, plan)


PER_LIMIT = 200


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
        rest = {name: value for name, value in hand.items() if name not in FATE_FIELDS}
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
    """The pools that limit a step, each with its weight and the value that it has a limit for."""
    uses = []
    for use in node.rules.pools:
        key = use.pool
        if use.per is not None:
            key += f"[{item_key(_per_value(resolver, use.per, around), 0)}]"
        uses.append((key, use.weight))
    return pool_key(uses)


def _per_value(resolver: Resolver, per: Source, around: PartRow) -> str:
    text = text_of(resolver, per, around)
    value = None if text is None else decode(text)
    if value is not None and not isinstance(value, str | int):
        raise ItemFault(f"per is {text:.60}; expected text, a whole number, true, false or null")
    shown = value if isinstance(value, str) else text or "null"
    if len(shown) > PER_LIMIT:
        raise ItemFault(f"per is {len(shown)} letters long; expected at most {PER_LIMIT}")
    return shown
