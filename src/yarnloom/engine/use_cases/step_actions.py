"""What people decide about one step: pause, resume, cancel, retry, edit, skip, supply.

What is decided of a step that has not begun is kept by its address, and met when it comes up.
A step that failed has had consequences; to retry, skip or supply it in a run that goes on, it and
what was not reached because of it are renewed, up to the first part around it that still goes on.

Decision: `docs/decisions/05-pause-and-mend.md`.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from yarnloom.engine.commands import StepAction, handles
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.dispatch.kept_files import unknown_files, use_named
from yarnloom.engine.dispatch.pool_settings import refuse_unknown_pool
from yarnloom.engine.dispatch.worker_orders import WorkerOrders
from yarnloom.engine.part_contents.fates import Fate
from yarnloom.engine.part_contents.inputs import with_inputs
from yarnloom.engine.part_contents.renewals import CUT_SHORT, Renewals, Some, has_ended
from yarnloom.engine.queries.runs import record_of
from yarnloom.engine.records.runs import RunRecord
from yarnloom.engine.rules.limits import Pools
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    RUN_ENDED,
    STEP_ENDED,
    RunEvent,
    StepEvent,
    StepState,
    StopReason,
)
from yarnloom.engine.state.plans import Plans, Workflows
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.state.transitions import ASLEEP, Moves
from yarnloom.engine.use_cases.pause import Pausing
from yarnloom.errors import Conflict, InvalidInput, Problem
from yarnloom.plan import Node, source_schema
from yarnloom.plan.marked_values import rows_in, seal
from yarnloom.plan.validators import Schema
from yarnloom.secrets import Vault
from yarnloom.store import PartRow, RunRow, StepRow, Unit
from yarnloom.store.runs import effect_records
from yarnloom.store.runs import run_records as store
from yarnloom.values import JsonObject, JsonValue, encode, encode_given

FOR_A_MEND = {"edit", "skip", "supply"}
"""What is kept of a step whose run has ended, and met when the run is mended."""


@dataclass(slots=True)
class StepActions:
    """Changes single steps by hand."""

    unit: Unit
    time: RunTime
    plans: Plans
    changes: Changes
    settings: EngineSettings
    vault: Vault
    progress: Progress
    moves: Moves
    queue: StepQueue
    pools: Pools
    workflows: Workflows
    compositions: Compositions
    pausing: Pausing
    renewals: Renewals
    worker_orders: WorkerOrders

    @handles(StepAction)
    def act_on_step(self, command: StepAction) -> RunRecord:
        """Do what someone decided about a step; the answer is its run.

        Raises:
            NotFound: there is no such run.
            Conflict: not possible in the step's, or its run's, present state.
            InvalidInput: an input or output does not fit the task; nothing is changed.
        """
        return _Hand(self, command).do()


class _Hand:
    def __init__(self, needs: StepActions, command: StepAction) -> None:
        self.needs = needs
        self.command = command
        self.run: RunRow = needs.unit.run(command.run)
        self.plan = needs.plans.of(self.run)
        self.node: Node = self.plan.nodes[command.node]
        self.facts = self.plan.tasks[self.node.task]
        self.step: StepRow | None = None
        if command.holder is not None:
            self.step = needs.unit.steps.one("part = ? AND node = ?", command.holder, command.node)

    @property
    def state(self) -> str:
        return self.step.state if self.step else self._unborn_state()

    def do(self) -> RunRecord:
        again = self.command.action == "retry" and self.node.in_follow_up
        if self.run.state in RUN_ENDED and self.command.action not in FOR_A_MEND and not again:
            hint = "; `mend` runs again what failed" if self.command.action == "retry" else ""
            raise Conflict(
                f"run {self.run.number} is {self.run.state}, so its steps are past "
                f"{self.command.action}{hint}"
            )
        {
            "pause": self.pause,
            "resume": self.resume,
            "cancel": self.cancel,
            "retry": self.retry,
            "edit": self.edit,
            "skip": self.skip,
            "supply": self.supply,
        }[self.command.action]()
        store.log_command(
            self.needs.unit,
            self.needs.time.now,
            self.command.who,
            self.command.action,
            self.run.number,
            self.command.reason,
            step=self.command.address,
            **self._detail(),
        )
        self.needs.changes.runs.add(self.run.number)
        return record_of(self.needs.unit, self.needs.time, self.needs.plans, self.run)

    # Pause and resume

    def pause(self) -> None:
        if self.step is None or self.state == StepState.WAITING:
            raise self._refused("has not begun; pause its run, or what comes before it")
        if self.state in STEP_ENDED:
            raise self._refused(f"is {self.state}")
        if self.step.held is None:
            self.needs.pausing.hold_step(self.step)

    def resume(self) -> None:
        if self.step is None or (self.step.held is None and self.state != StepState.PAUSED):
            raise self._refused(f"is {self.state}, and not paused")
        if self.step.held is None:
            raise self._refused("is paused with its run; resume the run")
        self.needs.pausing.release_step(self.step)

    # Ends by hand

    def cancel(self) -> None:
        if self.state in STEP_ENDED:
            raise self._refused(f"is {self.state}")
        if self.step is not None and self.step.open is not None:
            self._say_why_cancelled()
            again = self.step.stop == StopReason.CANCEL
            self.needs.worker_orders.post_stop(
                self.step, StopReason.CANCEL, now=again or self.command.now
            )
            return
        self._meet("cancel")

    def skip(self) -> None:
        self._refuse_running()
        self._meet("skip")

    def supply(self) -> None:
        self._refuse_running()
        output = encode_given(self.command.output, "the output")
        schema = self.facts["output"]
        found = self.needs.settings.verdicts.problems(self.command.output, schema)
        problems = [Problem(f"/output{one.where}", one.message) for one in found]
        problems = problems or self._wrong_files(self.command.output, schema, "/output")
        if problems:
            raise InvalidInput(
                f"the output does not fit what task {self.node.task} returns; nothing was changed",
                problems=problems,
            )
        use_named(self.needs.unit, self.run.number, output)
        self._meet("supply", output)

    def _wrong_files(self, value: JsonValue, schema: Schema, at: str) -> list[Problem]:
        """Files in a value that are not kept, and rows of a file: nobody checks them here."""
        text = "rows of a file are checked at a start only; give a list here"
        unchecked = [
            Problem(at + where, text)
            for where, one, _ in rows_in(value, schema)
            if "list" not in one or "sha256" in one
        ]
        return unchecked or unknown_files(self.needs.unit, value, schema, at)

    def _meet(self, fate: str, output: str | None = None) -> None:
        """The step ends so: now if it has come up, else when it does."""
        if self.state == StepState.DONE or (
            self.state == StepState.SKIPPED and not self._is_run_by_a_mend()
        ):
            raise self._refused(f"is {self.state}")
        if self.run.state in RUN_ENDED:
            given = self.command.output if fate == "supply" else None
            self._keep(fate=fate, output=given, why=self._why())
            return
        step, over = self.step, self.state in (StepState.FAILED, StepState.CANCELLED)
        place = self._place_to_begin_again() if over else None
        if step is not None and not over and self.state != StepState.WAITING:
            self.needs.compositions.of(self.run).end_by_hand(step, Fate(fate, output, self._why()))
            return
        # It is met when the step comes up.
        given = self.command.output if fate == "supply" else None
        self._keep(fate=fate, output=given, why=self._why())
        if place is not None:
            self._begin_again(*place)

    def _is_run_by_a_mend(self) -> bool:
        """Whether a step that was passed over comes up again when its ended run is mended."""
        if self.run.state not in RUN_ENDED:
            return False
        if self.step is not None:
            return self.step.skip_reason in CUT_SHORT
        if self.command.holder is None:
            return False
        return self.needs.unit.parts.need(self.command.holder).rest_reason in CUT_SHORT

    def _say_why_cancelled(self) -> None:
        """What is told of the failure that its cancel is for the parts around it."""
        assert self.step is not None
        self.step.error = encode({"type": "Cancelled", "message": self._why()})
        self.needs.unit.steps.touch(self.step)

    def _why(self) -> str:
        reason = f": {self.command.reason}" if self.command.reason else ""
        return f"cancelled by {self.command.who}{reason}"

    # Again

    def retry(self) -> None:
        step = self.step
        if step is not None and step.state in ASLEEP:
            self.needs.moves.step(step, StepEvent.RETRY)
        elif self.state not in (StepState.FAILED, StepState.CANCELLED):
            raise self._refused(
                f"is {self.state}; only one that failed, was cancelled, backs off or rests can be "
                "tried again"
            )
        elif self.run.state in RUN_ENDED:
            self._follow_up_again()
        else:
            self._begin_again(*self._place_to_begin_again())

    def _follow_up_again(self) -> None:
        """Try a follow-up again in a run that has ended: nothing else is changed by it."""
        needs, run, step = self.needs, self.run, self.step
        assert step is not None
        if run.cancels > 1:
            raise self._refused("was stopped with its run, its follow-ups too; `mend` the run")
        if needs.workflows.is_full(run, self.plan):
            raise self._refused(f"is of {run.workflow}, of which as many run as may; try again")
        part = needs.unit.parts.need(step.part)
        while not self.plan.nodes[part.node].follows:
            part = needs.unit.around(part)
        if not needs.renewals.of(run, only=Some({step.id: step.rank})).part(part, set()):
            raise self._refused("failed, as was allowed; `mend` the run")
        needs.moves.run(run, RunEvent.REOPEN)
        run.renewed, run.reopened_from, run.ended_at = 1, run.ended_at, None
        needs.unit.runs.touch(run)
        needs.workflows.count_in(run)
        needs.compositions.of(run).follow_up_again(part)

    def _place_to_begin_again(self) -> tuple[PartRow, PartRow | None]:
        """The first part around the step that goes on, and the outermost below it that ended."""
        step = self.step
        if step is None:
            raise self._refused(f"never began: it is {self.state}; `mend` the run when it ended")
        part: PartRow | None = self.needs.unit.parts.need(step.part)
        top: PartRow | None = None
        assert part is not None
        while part.outcome is not None:
            if not has_ended(part):
                raise self._refused("is in a part whose follow-ups run; mend the run when it ended")
            top = part
            if self.plan.nodes[part.node].follows:
                raise self._refused("is in a follow-up; retry it when its run has ended")
            if part.parent is None:
                raise self._refused("is in a run that is ending; mend it when it has ended")
            part = self.needs.unit.around(part)
        if self.needs.compositions.of(self.run).is_barred(part):
            raise self._refused("is in a part that was stopped; mend the run when it has ended")
        return part, top

    def _begin_again(self, part: PartRow, top: PartRow | None) -> None:
        """Renew the step with what was not reached because of it, and let that begin."""
        step = self.step
        assert step is not None
        self.run.renewed = 1
        self.needs.unit.runs.touch(self.run)
        only = Some({step.id: step.rank})
        self.needs.renewals.of(self.run, only).in_live(step, part, top)
        node = self.plan.nodes[top.node if top else step.node]
        self.needs.compositions.of(self.run).go_on_with(node, part)

    # Edit

    def edit(self) -> None:
        self._refuse_running()
        command = self.command
        self._refuse_unfit_inputs(command.inputs or {})
        if command.pool:
            refuse_unknown_pool(self.needs.pools, command.pool)
        if not command.inputs and command.pool is None and command.priority is None:
            raise InvalidInput("nothing to edit: give inputs, pool or priority")
        known = effect_records.hand_of(self.needs.unit, self.run.number, command.address)
        given = self._sealed(command.inputs or {})
        inputs = {**known.get("inputs", {}), **given}
        use_named(self.needs.unit, self.run.number, json.dumps(inputs))
        self._keep(inputs=inputs, pool=command.pool, priority=command.priority)
        step = self.step
        if step is not None and step.state == StepState.DONE and inputs != known.get("inputs", {}):
            self._keep(edited_step=step.id)  # the next mend runs it again
        if step is None or step.state in STEP_ENDED or step.state == StepState.WAITING:
            return
        # The queue finds a step by its pool and priority, so it is out of it while these change.
        free = self.needs.queue.has(step)
        if free:
            self.needs.queue.remove(step)
        text = with_inputs(step.input, inputs)
        if text != step.input:
            step.saved = None  # what was saved belongs to other inputs
            self.needs.progress.step_moved(step)
        pool = step.pool if command.pool is None else command.pool
        if command.priority is not None:
            step.priority = command.priority
        self.needs.unit.steps.touch(step)
        self.needs.unit.steps.rewrite(step, input=text, pool=pool)
        if free:
            self.needs.queue.add(step)

    def _refuse_unfit_inputs(self, inputs: JsonObject) -> None:
        encode_given(inputs, "the inputs")
        schema = self.facts["input"]
        known = schema.get("properties", {})
        problems = [
            Problem(f"/inputs/{name}", f"the task has no such input; it has {', '.join(known)}")
            for name in inputs
            if name not in known
        ]
        for name in inputs.keys() & known.keys():
            one = {**schema, "properties": {name: known[name]}, "required": [name]}
            problems += [
                Problem(f"/inputs{found.where}", found.message)
                for found in self.needs.settings.verdicts.problems({name: inputs[name]}, one)
            ]
        if problems := problems or self._wrong_files(inputs, schema, "/inputs"):
            raise InvalidInput(
                f"the inputs do not fit task {self.node.task}; nothing was changed",
                problems=problems,
            )

    # What they share

    def _sealed(self, inputs: JsonObject) -> JsonObject:
        """Inputs as they are kept: sealed where the task, or what they stand in for, is secret."""
        found = {}
        for name, value in seal(inputs, self.facts["input"], self.needs.vault.seal).items():
            source = self.node.inputs.get(name)
            schema = {} if source is None else source_schema(self.plan, source)
            found[name] = seal(value, schema, self.needs.vault.seal)
        return found

    def _keep(self, **facts: Any) -> None:
        """Keep what was decided, beside what was before."""
        known = effect_records.hand_of(self.needs.unit, self.run.number, self.command.address)
        known |= {name: value for name, value in facts.items() if value is not None}
        effect_records.keep_hand(self.needs.unit, self.run.number, self.command.address, known)
        self.run.step_actions = 1
        self.needs.unit.runs.touch(self.run)

    def _refuse_running(self) -> None:
        if self.step is not None and self.step.open is not None:
            raise self._refused("has an attempt in hand; cancel or pause it first")

    def _refused(self, why: str) -> Conflict:
        return Conflict(f"step {self.run.number}/{self.command.address} {why}", state=self.state)

    def _unborn_state(self) -> str:
        """The state of a step without a row: what became of what never began around it."""
        if self.command.holder is None:
            return StepState.WAITING
        holder = self.needs.unit.parts.need(self.command.holder)
        return holder.rest_state or StepState.WAITING

    def _detail(self) -> JsonObject:
        command = self.command
        inputs = command.inputs and self._sealed(command.inputs)
        given = {"inputs": inputs, "pool": command.pool, "priority": command.priority}
        return {name: value for name, value in given.items() if value is not None}
