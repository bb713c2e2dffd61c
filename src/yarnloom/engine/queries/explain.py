"""Why a step is not running: what is in its way, from the same questions that decide.

Whether a pool is closed (`Gate.obstacles`), whether a worker fits (`Worker.misfit`), takes from the
pool and has a place: handing out asks these, and so does this. All obstacles are named at once.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import islice

from yarnloom.engine.commands import ListQuiet, Why, handles
from yarnloom.engine.part_contents.lists import READ
from yarnloom.engine.queries.obstacles import SHOWN, Obstacles, reason
from yarnloom.engine.queries.part_records import step_progress
from yarnloom.engine.records.waits import Reason, WaitRecord, WhyRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import (
    HELD_RUN,
    NOT_BEGUN,
    RUN_ENDED,
    Admission,
    RunState,
    StepState,
)
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.due_times import BEGIN_SECONDS
from yarnloom.engine.state.plans import Plans, queue_of
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.workers import Worker, Workers
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import AttemptRow, PartRow, RunRow, StepRow, Unit
from yarnloom.store.runs import paused_runs
from yarnloom.store.runs import run_records as store
from yarnloom.units import iso_time
from yarnloom.values import decode

TAKEN_BACK_OFTEN = 3


@dataclass(slots=True)
class Explanations:
    """Explains why runs and steps wait."""

    unit: Unit
    time: RunTime
    plans: Plans
    settings: EngineSettings
    workers: Workers
    attempts: OpenAttempts
    obstacles: Obstacles

    @handles(Why)
    def why(self, command: Why) -> WhyRecord:
        """Return what a run, or a part of it, waits for.

        Returns:
            The run's number and state, reasons that hold for all of it, and an entry for each step
            that has not ended and each part that has not begun, in plan order, up to `SHOWN`.

        Raises:
            NotFound: there is no such run.
        """
        run = self.unit.run(command.run)
        teller = _Explainer(self, run, command)
        entries = [] if run.state in RUN_ENDED else teller.entries(command)
        return WhyRecord(
            run=run.number,
            workflow=run.workflow,
            state=str(run.state),
            reasons=list(teller.of_run()),
            waits=[entry for _, entry in entries[:SHOWN]],
            more=len(entries) > SHOWN,
        )

    @handles(ListQuiet)
    def list_quiet(self, _: ListQuiet) -> list[int]:
        """Runs with an attempt that says nothing of its progress for longer than it is to."""
        found = set()
        for attempt_id, heard in self.attempts.heard.items():
            attempt = self.unit.attempts.need(attempt_id)
            run = self.unit.run(attempt.run)
            step = self.unit.steps.need(attempt.step)
            limit = self.plans.of(run).nodes[step.node].rules.quiet_for
            if limit is not None and self.time.mono - heard >= limit:
                found.add(run.number)
        return sorted(found)


class _Explainer:
    def __init__(self, needs: Explanations, run: RunRow, command: Why) -> None:
        self.needs = needs
        self.waiters = command.waiters
        self.order = command.order
        self.run = run
        self.plan: Plan = needs.plans.of(run)

    def of_run(self) -> Iterator[Reason]:
        """What holds for all of a run."""
        run = self.run
        if run.state in RUN_ENDED:
            yield self.of_end()
            return
        if run.stop is not None:
            message = json.loads(run.error or "{}").get("message")
            yield reason("stopping", {"message": message, "why": str(run.stop)})
        if run.state in HELD_RUN:
            yield self.of_pause(None, pausing=run.state != RunState.PAUSED)
        if run.admission == Admission.AHEAD:
            yield self.of_start()
        if run.admission == Admission.HELD:
            others = store.runs_under_way(self.needs.unit, queue_of(run))
            numbers = [number for number, admission in others if admission]
            words = {"workflow": run.workflow, "runs": numbers, "per": run.queue}
            yield reason("busy", words, at_once=self.plan.at_once, runs=numbers[:SHOWN])

    def of_end(self) -> Reason:
        """How the run ended, and what failed first if anything did."""
        run = self.run
        error = json.loads(run.error or "{}")
        words = {"state": str(run.state), "message": error.get("message")}
        return reason("ended", words, address=error.get("step"))

    def of_start(self) -> Reason:
        """A start time that is ahead."""
        run = self.run
        if run.start_at is None or run.start_at <= self.needs.time.now:
            return reason("scheduled")
        words = {"start_by": run.start_by}
        return reason("scheduled", words, start_at=iso_time(run.start_at))

    def entries(self, command: Why) -> list[tuple[bytes, WaitRecord]]:
        """Everything in the scope that has not ended, in plan order."""
        unit = self.needs.unit
        found = [
            (step.rank, self.of_step(step))
            for step in unit.steps.select(
                "run = ? AND ended_at IS NULL AND rank >= ? AND rank < ? ORDER BY rank LIMIT ?",
                *(self.run.number, command.rank, command.rank + b"\xff" * 5, SHOWN + 1),
            )
        ]
        parts = unit.parts.select(
            "run = ? AND ended_at IS NULL AND item_part IS ? AND value IS NULL ORDER BY rank",
            *(self.run.number, command.item),
        )
        if command.item is not None:
            parts.insert(0, unit.parts.need(command.item))
        if self.run.admission == Admission.ENTERED:
            for part in parts[: SHOWN + 1]:
                if part.outcome is None and part.rest_state is None:
                    found += islice(self.to_come(part, command.rank), SHOWN + 1)
        return sorted(found, key=lambda one: one[0])

    # What has not begun

    def to_come(self, part: PartRow, scope: bytes) -> Iterator[tuple[bytes, WaitRecord]]:
        """What has not begun in a part that has."""
        node = self.plan.nodes[part.node]
        if node.kind is Kind.EACH:
            if part.awaits is not None and (part.rank + b"\xff").startswith(scope):
                yield part.rank + b"\xff", self.of_list_job(part, node)
            if part.unmade + part.items_to_rerun and (part.rank + b"\xff").startswith(scope):
                yield part.rank + b"\xff", self.of_items(part, node)
            return
        unit, here = self.needs.unit, "= ? AND state <> 'waiting'"
        begun = {row.node for row in unit.parts.select(f"parent {here}", part.id)}
        begun |= {row.node for row in unit.steps.select(f"part {here}", part.id)}
        for index in node.children:
            child = self.plan.nodes[index]
            rank = part.rank + child.position.to_bytes(4, "big")
            if index not in begun and rank.startswith(scope):
                yield rank, self.of_child(part, node, child)

    def of_child(self, part: PartRow, node: Node, child: Node) -> WaitRecord:
        """Which earlier parts a child of a part waits for."""
        if node.kind is Kind.SEQUENCE:
            earlier = [node.children[child.position - 1]] if child.position else []
        else:
            earlier = child.waits_for
        names = [self.address(self.plan.nodes[one], part) for one in earlier]
        return self.entry(child, part, "waiting", [reason("earlier", parts=names)])

    def of_list_job(self, part: PartRow, node: Node) -> WaitRecord:
        """What is done beside the service, that an each waits for."""
        if part.awaits == READ:
            awaited = reason("reading")
        else:
            awaited = reason("gathering", items=part.total)
        return self.entry(node, self.needs.unit.around(part), part.state, [awaited])

    def of_items(self, part: PartRow, node: Node) -> WaitRecord:
        """Why an each has not made all its items."""
        assert node.each is not None
        limit = node.each.at_once
        count = part.unmade + part.items_to_rerun
        limited = reason("at_once", at_once=limit, items=count)
        return self.entry(node, self.needs.unit.around(part), part.state, [limited])

    # Steps

    def of_step(self, step: StepRow) -> WaitRecord:
        """What a step waits for that could begin, or did."""
        node, around = self.plan.nodes[step.node], self.needs.unit.parts.need(step.part)
        attempt = None if step.open is None else self.needs.unit.attempts.need(step.open)
        worker = self.needs.workers.get(attempt.worker) if attempt else None
        name = worker.name if worker else "a worker"
        begun: AttemptRow | None = None
        # First the step's own state, then what holds it before an attempt, then its attempt.
        if step.state == StepState.BACKING_OFF:
            reasons = [self.of_back_off(step)]
        elif step.state == StepState.RESTING:
            reasons = [self.of_rest(step)]
        elif step.state == StepState.PAUSED and step.held is not None:
            reasons = [self.of_pause(self.address(node, around))]
        elif attempt is None and self.run.state in HELD_RUN:
            reasons = [reason("held")]
        elif attempt is None:
            reasons = list(self.needs.obstacles.obstacles(step, self.waiters, order=self.order))
            reasons += self.of_taken_back(step)
        elif attempt.begun_at is None:
            reasons = [*self.of_worker(worker), self.of_hand_out(attempt, name)]
        else:
            spent = (self.needs.time.now - attempt.begun_at) / 1_000_000
            reasons = [
                *self.of_worker(worker),
                *self.of_silence(step, attempt),
                *self.of_bare_loop(step),
                reason("running", {"seconds": spent}, worker=name),
            ]
            if attempt.id in self.waiters:
                other = self.waiters[attempt.id]
                reasons.append(reason("waits_for_run", runs=[other]))
            begun = attempt
        if step.stop is not None:
            reasons.append(reason("stop_asked", why=step.stop))
        return replace(
            self.entry(node, around, step.state, reasons),
            attempt=None if begun is None else begun.id,
            begun_at=None if begun is None else begun.begun_at,
            deadline_at=step.deadline_at,
        )

    def of_worker(self, worker: Worker | None) -> Iterator[Reason]:
        """That a worker is not heard of, and when it is given up."""
        if worker is None:
            return
        left = worker.session.lease_until - self.needs.time.mono
        silent = self.needs.settings.lease - left
        if silent < self.needs.settings.lease / 2:
            return
        at = iso_time(self.needs.time.now + round(max(0.0, left) * 1_000_000))
        words = {"seconds": silent}
        yield reason("worker_silent", words, worker=worker.name, given_up_at=at)

    def of_hand_out(self, attempt: AttemptRow, worker: str) -> Reason:
        """Which worker has it, and since when if it does not begin there."""
        spent = (self.needs.time.now - attempt.handed_at) / 1_000_000
        facts = {"worker": worker, "handed_at": iso_time(attempt.handed_at)}
        words = {"seconds": spent, "late": spent >= BEGIN_SECONDS}
        return reason("handed_out", words, **facts)

    def of_silence(self, step: StepRow, attempt: AttemptRow) -> Iterator[Reason]:
        """That an attempt has said nothing of its progress for too long."""
        limit = self.plan.nodes[step.node].rules.quiet_for
        heard = self.needs.attempts.heard.get(attempt.id)
        if limit is None or heard is None or self.needs.time.mono - heard < limit:
            return
        progress = step_progress({"saved": step.saved, "state": step.state})
        words = {"seconds": self.needs.time.mono - heard, "done": progress and progress.done}
        yield reason("quiet", words, quiet_for=limit)

    def of_bare_loop(self, step: StepRow) -> Iterator[Reason]:
        """That a loop resumed, and nobody has said whether it adds anything up."""
        places = {} if step.saved is None else decode(step.saved).get("places", {})
        for name, place in places.items():
            if place.get("bare"):
                yield reason("resumed", loop=name, at=place["at"])

    def of_taken_back(self, step: StepRow) -> Iterator[Reason]:
        """That workers got a step and did not begin it, again and again."""
        count, last = paused_runs.taken_back(self.needs.unit, step.id, NOT_BEGUN)
        if count >= TAKEN_BACK_OFTEN:
            yield reason("taken_back", {"last": last}, times=count)

    def of_pause(self, address: str | None, *, pausing: bool = False) -> Reason:
        """Who paused the run or a step of it, when and why."""
        found = paused_runs.paused_by(self.needs.unit, self.run.number, address)
        if found is None:
            return reason("paused", {"pausing": pausing})
        who, at, why_paused = found
        words = {"pausing": pausing}
        return reason("paused", words, by=who, at=iso_time(at), reason=why_paused)

    def of_rest(self, step: StepRow) -> Reason:
        """Until when a step rests."""
        left = max(0.0, ((step.due_at or 0) - self.needs.time.now) / 1_000_000)
        return reason("rest", {"seconds": left}, until=iso_time(step.due_at))

    def of_back_off(self, step: StepRow) -> Reason:
        """Until when a step backs off, and after what."""
        error = json.loads(step.error or "{}")
        left = max(0.0, ((step.due_at or 0) - self.needs.time.now) / 1_000_000)
        words = {"seconds": left, "type": error.get("type"), "message": error.get("message", "")}
        return reason("back_off", words, until=iso_time(step.due_at), tries=step.tries)

    def entry(self, node: Node, around: PartRow, state: str, reasons: list[Reason]) -> WaitRecord:
        """Return a part or step with its reasons."""
        return WaitRecord(self.address(node, around), str(state), reasons)

    def address(self, node: Node, around: PartRow) -> str:
        """Its address within the run."""
        return self.needs.plans.address(self.run, node, around).partition("/")[2]
