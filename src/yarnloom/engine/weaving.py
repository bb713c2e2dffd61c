"""How parts begin and end: the rules of composition.

A part begins by `open_node`, and tells the part around it that it ended by `child_ended`.
Nothing here looks at more rows than the part's depth.
"""

from __future__ import annotations

import json

from yarnloom.engine.states import (
    PART_TABLE,
    PartState,
    RunEvent,
    SkipReason,
    StepEvent,
    StepState,
    StopReason,
    next_state,
)
from yarnloom.engine.turn import Turn
from yarnloom.plan import Constant, FromOutput, FromParam, Kind, Node, Plan
from yarnloom.store import PartRow, RunRow, StepRow
from yarnloom.values import decode


def open_root(turn: Turn, run: RunRow) -> PartRow:
    """Begin a run's plan; its root part."""
    return _open_part(turn, run, turn.plan(run).nodes[0], None)


def open_node(turn: Turn, run: RunRow, node: Node, around: PartRow) -> None:
    """Begin a part: nothing before it is missing any more."""
    if node.kind is Kind.STEP:
        _open_step(turn, run, node, around)
    else:
        _open_part(turn, run, node, around)


def _open_part(turn: Turn, run: RunRow, node: Node, around: PartRow | None) -> PartRow:
    part = turn.unit.parts.add(
        PartRow(
            id=turn.unit.new_id("parts"),
            run=run.number,
            parent=around.id if around else None,
            node=node.index,
            rank=_rank(around, node),
            total=len(node.children),
            started_at=turn.now,
            state=next_state(PART_TABLE, PartState.WAITING, StepEvent.OPEN, node.label),
        )
    )
    if around:
        turn.count_child(around.id, None, part.state)
    _open_child(turn, run, node, part, 0)
    return part


def step_ended(turn: Turn, step: StepRow) -> None:
    """A step has ended: what follows from it."""
    run = turn.run(step.run)
    plan = turn.plan(run)
    turn.outputs[step.part, step.node] = step.output
    if step.state == StepState.FAILED and run.error is None:
        address = turn.address(run, plan.nodes[step.node])
        run.error = json.dumps(
            {"step": address, "task": step.task, **json.loads(step.error or "{}")}
        )
        turn.unit.runs.touch(run)
    _child_ended(turn, run, turn.unit.parts.need(step.part), plan.nodes[step.node], step.state)


def _open_child(turn: Turn, run: RunRow, node: Node, part: PartRow, position: int) -> None:
    plan = turn.plan(run)
    open_node(turn, run, plan.nodes[node.children[position]], part)


def _child_ended(turn: Turn, run: RunRow, part: PartRow, child: Node, state: str) -> None:
    """A sequence goes on, or ends, with the child that ended."""
    node = turn.plan(run).nodes[part.node]
    last = child.position == len(node.children) - 1
    goes_on = state == StepState.DONE and not last
    if goes_on and run.stop != StopReason.CANCEL:
        _open_child(turn, run, node, part, child.position + 1)
        return
    if not last:
        _drop_rest(turn, run, part)
    if part.failed:
        _end_part(turn, run, part, StepEvent.FAIL)
    elif part.cancelled:
        _end_part(turn, run, part, StepEvent.CANCEL)
    elif part.skipped == part.total:
        _end_part(turn, run, part, StepEvent.SKIP)
    else:
        part.output = turn.outputs.get((part.id, child.index))
        _end_part(turn, run, part, StepEvent.FINISH)


def _drop_rest(turn: Turn, run: RunRow, part: PartRow) -> None:
    """The children that never began will not: cancelled with their run, else not reached."""
    ended = part.done + part.failed + part.cancelled + part.skipped
    left = part.total - ended
    if run.stop == StopReason.CANCEL:
        part.rest_state = StepState.CANCELLED
        part.cancelled += left
    else:
        part.rest_state = StepState.SKIPPED
        part.rest_reason = SkipReason.NOT_REACHED
        part.skipped += left
    turn.unit.parts.touch(part)


def _end_part(turn: Turn, run: RunRow, part: PartRow, event: StepEvent) -> None:
    plan = turn.plan(run)
    node = plan.nodes[part.node]
    before = part.state
    part.state = next_state(PART_TABLE, before, event, f"part {node.label} of run {run.number}")
    part.ended_at = turn.now
    turn.unit.parts.touch(part)
    if part.parent is None:
        _end_run(turn, run, part)
        return
    around = turn.unit.parts.need(part.parent)
    turn.outputs[around.id, node.index] = part.output
    turn.count_child(around.id, before, part.state)
    _child_ended(turn, run, around, node, part.state)


def _end_run(turn: Turn, run: RunRow, root: PartRow) -> None:
    if root.state == PartState.FAILED:
        turn.move_run(run, RunEvent.FAIL)
    elif root.state == PartState.CANCELLED:
        turn.move_run(run, RunEvent.STOP)
    else:
        # A cancel that came too late leaves `stop` behind, and no error.
        run.output, run.error = root.output, None
        turn.move_run(run, RunEvent.FINISH)


def _open_step(turn: Turn, run: RunRow, node: Node, around: PartRow) -> None:
    step = StepRow(
        id=turn.unit.new_id("steps"),
        run=run.number,
        part=around.id,
        node=node.index,
        rank=_rank(around, node),
        task=node.task,
        pool="",
        share=run.share or f"run {run.number}",
        input=_input(turn, run, node, around),
        priority=run.priority,
        state=StepState.WAITING,
        ready_at=turn.now,
    )
    turn.unit.steps.add(step)
    turn.move_step(step, StepEvent.OPEN)


def _rank(around: PartRow | None, node: Node) -> bytes:
    """Positions from outside in, four bytes each, so that bytes compare as plan order."""
    return (around.rank if around else b"") + node.position.to_bytes(4, "big")


def _input(turn: Turn, run: RunRow, node: Node, around: PartRow) -> str:
    """A step's input as JSON text, every reference replaced by its value.

    Values that are texts already are put together as texts: large ones are not taken apart.
    """
    plan = turn.plan(run)
    fields = []
    for name, source in node.inputs.items():
        match source:
            case Constant(value):
                text = json.dumps(value, ensure_ascii=False)
            case FromParam(path):
                text = json.dumps(_along(decode(run.params), path), ensure_ascii=False)
            case FromOutput(target):
                text = _output(turn, plan, around, target) or "null"
        fields.append(f"{json.dumps(name)}:{text}")
    return "{" + ",".join(fields) + "}"


def _along(value: object, path: tuple[str, ...]) -> object:
    for name in path:
        value = value.get(name) if isinstance(value, dict) else None
    return value


def _output(turn: Turn, plan: Plan, around: PartRow, target: int) -> str | None:
    """The output of a node, as it is seen from inside a part."""
    holder = plan.nodes[target].parent
    while around.node != holder:
        assert around.parent is not None, "a plan's references look outwards only"
        around = turn.unit.parts.need(around.parent)
    if (around.id, target) in turn.outputs:
        return turn.outputs[around.id, target]
    if plan.nodes[target].kind is Kind.STEP:
        step = turn.unit.steps.one("part = ? AND node = ?", around.id, target)
        return step.output if step else None
    part = turn.unit.parts.one("run = ? AND parent = ? AND node = ?", around.run, around.id, target)
    return part.output if part else None
