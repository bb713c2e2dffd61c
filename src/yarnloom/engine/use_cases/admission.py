"""How many runs of a workflow are under way: who enters, who waits, who makes room."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.rules.states import RUN_ENDED, Admission
from yarnloom.engine.state.plans import Plans, Workflows, queue_of
from yarnloom.engine.state.transaction_notes import Afterwards
from yarnloom.engine.use_cases.cancel import Cancelling
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.plan import IfBusy, Plan
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import run_records as store


@dataclass(slots=True)
class HeldRuns:
    """Runs that wait for others of their workflow to end."""

    unit: Unit
    plans: Plans
    afterwards: Afterwards
    workflows: Workflows
    cancelling: Cancelling
    compositions: Compositions
    pausing: Pausing

    def make_room(self, run: RunRow, plan: Plan) -> None:
        """A run came while its workflow is busy: it waits, is cancelled, or others are."""
        value = f" for {run.queue}" if plan.per is not None else ""
        busy = f"{plan.at_once} of {plan.workflow}{value} under way"
        if plan.if_busy is IfBusy.SKIP:
            self.cancelling.stop(
                run, f"skipped: it came with {busy}, and the workflow says if_busy='skip'"
            )
            return
        if plan.if_busy is IfBusy.WAIT:
            return
        assert plan.at_once is not None
        others = store.runs_under_way(self.unit, queue_of(run))
        under_way = [number for number, has_entered in others if has_entered]
        waiting = [number for number, has_entered in others if not has_entered]
        ending = [number for number in under_way if self.unit.run(number).stop]
        more = len(under_way) - len(ending) - plan.at_once + 1
        going_on = [number for number in under_way if number not in ending]
        for number in (*(one for one in waiting if one != run.number), *going_on[: max(0, more)]):
            self.cancelling.stop(self.unit.run(number), f"replaced by run {run.number}")

    def admit(self) -> None:
        """Let runs begin that waited for others which have ended: by priority, then in order."""
        while self.afterwards.made_room:
            queue = self.afterwards.made_room.pop()
            number = store.next_held(self.unit, queue)
            if number is None:
                continue
            run = self.unit.run(number)
            if self.workflows.is_full(run, self.plans.of(run)):
                continue
            self.afterwards.made_room.add(queue)  # there may be room for another
            self.workflows.count_out(run)
            run.admission = Admission.ENTERED
            self.workflows.count_in(run)
            self.unit.runs.touch(run)
            assert run.state not in RUN_ENDED
            if run.put_off:
                self.go_on(run)
            else:
                composition = self.compositions.of(run)
                composition.enter(composition.root())

    def go_on(self, run: RunRow) -> None:
        """Let a run go on that was put off: what is in its plan is ready already."""
        run.put_off = 0
        self.pausing.release(run)
