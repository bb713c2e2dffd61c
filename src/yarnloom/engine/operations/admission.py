"""How many runs of a workflow are under way: who enters, who waits, who makes room."""

from __future__ import annotations

from yarnloom.engine.composition.composition import Composition
from yarnloom.engine.operations.cancel import stop
from yarnloom.engine.rules.states import RUN_ENDED, Admission
from yarnloom.engine.state.transaction import Transaction
from yarnloom.engine.state.workflows import Workflows
from yarnloom.plan import IfBusy, Plan
from yarnloom.store import RunRow
from yarnloom.store import run_records as store


def is_busy(workflows: Workflows, plan: Plan) -> bool:
    """Whether as many runs of a workflow are under way as may be."""
    return plan.at_once is not None and workflows.under_way[plan.workflow] >= plan.at_once


def count_in(workflows: Workflows, run: RunRow) -> None:
    """A new run is under way, or waits."""
    workflows.counted(run.admission)[run.workflow] += 1


def make_room(transaction: Transaction, run: RunRow, plan: Plan) -> None:
    """A run came while its workflow is busy: it waits, is cancelled, or others are."""
    busy = f"{plan.at_once} of {plan.workflow} under way"
    if plan.if_busy is IfBusy.SKIP:
        stop(
            transaction, run, f"skipped: it came with {busy}, and the workflow says if_busy='skip'"
        )
        return
    if plan.if_busy is IfBusy.WAIT:
        return
    assert plan.at_once is not None
    others = store.runs_under_way(transaction.unit, run.workflow)
    under_way = [number for number, has_entered in others if has_entered]
    waiting = [number for number, has_entered in others if not has_entered]
    ending = [number for number in under_way if transaction.unit.run(number).stop]
    more = len(under_way) - len(ending) - plan.at_once + 1
    going_on = [number for number in under_way if number not in ending]
    for number in (*(one for one in waiting if one != run.number), *going_on[: max(0, more)]):
        stop(transaction, transaction.unit.run(number), f"replaced by run {run.number}")


def admit(transaction: Transaction) -> None:
    """Let runs begin that waited for others which have ended: by priority, then in order."""
    while transaction.afterwards.made_room:
        workflow = transaction.afterwards.made_room.pop()
        number = store.next_held(transaction.unit, workflow)
        if number is None:
            continue
        run = transaction.unit.run(number)
        if is_busy(transaction.memory.workflows, transaction.plans.of(run)):
            continue
        transaction.afterwards.made_room.add(workflow)  # there may be room for another
        transaction.memory.workflows.held[workflow] -= 1
        transaction.memory.workflows.under_way[workflow] += 1
        run.admission = Admission.ENTERED
        transaction.unit.runs.touch(run)
        root = transaction.unit.parts.one("run = ? AND parent IS NULL", number)
        assert root is not None
        assert run.state not in RUN_ENDED
        Composition(transaction, run).enter(root)
