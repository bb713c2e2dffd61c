"""Mending an ended run: a new round of it, in which runs again what has to.

Plan, params, what was decided by hand and the ledger stay. Attempt numbers go on; tries, the
deadline and follow-ups begin anew.

Decision: `docs/decisions/05-pause-and-mend.md`.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import FailuresOf, MendRun, PauseRun, handles
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.part_contents.renewals import Renewals, Some
from yarnloom.engine.queries.failures_by_kind import pattern_of
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RUN_ENDED, RUN_TABLE, Admission, RunEvent, next_state
from yarnloom.engine.state.due_times import RUN_DEADLINE_DUE, DueTimes
from yarnloom.engine.state.plans import Misfit, Plans, Workflows, task_of
from yarnloom.engine.state.transitions import Moves
from yarnloom.engine.state.workers import Workers
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.errors import Conflict, NotFound, nearest
from yarnloom.plan import Plan
from yarnloom.store import RunRow, Unit
from yarnloom.store.runs import effect_records, paused_runs
from yarnloom.store.runs import run_records as store

_OTHER: dict[Misfit | None, str] = {
    Misfit.OTHER_TYPES: "its types do not fit",
    Misfit.OTHER_CODE: "its code is pinned",
}


@dataclass(slots=True)
class Mending:
    """Begins new rounds of runs that have ended."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    moves: Moves
    workers: Workers
    workflows: Workflows
    compositions: Compositions
    pausing: Pausing
    renewals: Renewals

    @handles(MendRun)
    def mend_run(self, command: MendRun) -> RunRecord:
        """Run again what failed, was cancelled or not reached, and what read its output.

        Raises:
            NotFound: there is no such run.
            IllegalTransition: it has not ended.
            Conflict: there is nothing to mend, no worker's code fits, or its workflow is busy.
        """
        run = self.unit.run(command.run)
        next_state(RUN_TABLE, run.state, RunEvent.MEND, f"run {run.number}")
        plan = self.plans.of(run)
        if self.workflows.is_full(run, plan):
            raise Conflict(
                f"{plan.at_once} of {plan.workflow} under way, which is as many as may be; mend "
                f"run {run.number} when there is room",
                state=str(run.state),
            )
        root = self.unit.parts.one("run = ? AND parent IS NULL", run.number)
        assert root is not None
        self._refuse_misfits(paused_runs.contracts_not_done(self.unit, run.number))
        only = None if command.only is None else _some(self.unit, run, plan, command.only)
        edited = Some({} if only else effect_records.edited_steps(self.unit, run.number))
        if not self.renewals.of(run, only, edited).part(root, set()):
            why = f"run {run.number} has nothing to mend: nothing in it failed or was missed"
            raise Conflict(why, state=str(run.state))
        if only is None:
            effect_records.forget_edited_steps(self.unit, run.number)
        self.moves.run(run, RunEvent.MEND)
        run.renewed, run.admission = 1, Admission.ENTERED
        run.round += 1
        run.stop = run.error = run.output = run.ended_at = run.started_at = None
        run.cancels = run.paused_micros = 0
        run.progress = run.left_micros = run.sampled_at = None
        self.workflows.count_in(run)
        if plan.deadline is not None:
            run.deadline_at = self.time.now + round(plan.deadline * 1_000_000)
            self.due_times.set(RUN_DEADLINE_DUE, run.deadline_at)
        self.unit.runs.touch(run)
        store.log_command(
            self.unit,
            self.time.now,
            command.who,
            "mend",
            run.number,
            command.reason,
            round=run.round,
        )
        self.compositions.of(run).begin_round(root)
        if command.paused and run.state not in RUN_ENDED:
            return self.pausing.pause_run(PauseRun(command.run, command.who, command.reason))
        return record_of(self.unit, self.time, self.plans, run)

    def _refuse_misfits(self, contracts: list[str]) -> None:
        """Refuse to mend with code that does not fit any more, where workers have other."""
        bad = []
        for contract in contracts:
            having = [
                worker
                for worker in self.workers.values()
                if task_of(contract) in worker.offer.tasks
            ]
            misfits = [one.misfit(contract, self.workers.contracts) for one in having]
            if misfits and all(misfit in _OTHER for misfit in misfits):
                bad.append(f"{task_of(contract)} ({_OTHER[misfits[0]]})")
        if bad:
            raise Conflict(
                f"the workers have other code than this run's plan expects: {', '.join(bad)}. "
                "Start a worker with code that fits, or start the workflow anew.",
                hint="Anew: `yarnloom rerun`",
            )


def _some(unit: Unit, run: RunRow, plan: Plan, only: FailuresOf) -> Some:
    """The failed steps that are meant.

    Raises:
        Conflict: there are none.
    """
    nodes = [
        node
        for node in plan.nodes
        if node.task and only.task in (None, node.task) and only.address in ("", plan.address(node))
    ]
    # Nothing chosen is a mistake, and says which: a task, an address, or a kind of failure.
    if not nodes and not only.address:
        tasks = {node.task for node in plan.nodes if node.task}
        hint = nearest(only.task or "", tasks)
        raise NotFound(f"no step of run {run.number} has the task {only.task!r}{hint}")
    if not nodes:
        steps = [plan.address(node) for node in plan.nodes if node.task]
        raise NotFound(
            f"{only.address!r}, an address without the keys of items, is no step of run "
            f"{run.number}{nearest(only.address, steps)}"
        )
    found = {
        step: rank
        for node in nodes
        for step, rank, type_, message in paused_runs.failed_of_node(unit, run.number, node.index)
        if only.type in (None, type_)
        and (only.pattern is None or pattern_of(message or "") == only.pattern)
    }
    if not found:
        kind = f" with {only.type}" if only.type else ""
        at = f"at {only.address}" if only.address else f"with the task {only.task}"
        raise Conflict(
            f"no step {at} of run {run.number} failed{kind}",
            hint=f"`yarnloom show {run.number}` lists the kinds of failures",
            state=str(run.state),
        )
    return Some(found)
