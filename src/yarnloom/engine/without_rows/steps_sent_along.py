"""Relays: quick steps of a sequence that one process runs one behind the other.

The service sends the plain steps behind a step along with it, as many as the worker may hold ahead
(20 ms of work). The process passes outputs on; if a step does not end well, it gives the rest back.
So a chain needs few messages.

A *leg* is such a step until its turn comes. It has no rows, like every step that a sequence has not
reached; a row in `relays` records which worker may have begun it. Legs that a report names as done
get their rows at once, in their final form (`keep`). The first other leg gets the rows of a step
that was handed out, and the usual path goes on. A decision about a step of the run waits until its
legs have ended or are given back.

Decision: `docs/decisions/13-relays.md`.
"""

from __future__ import annotations

import json
from collections.abc import Container, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from itertools import takewhile

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.dispatch.worker_orders import WorkerOrders, post_drop, token_of_place
from yarnloom.engine.part_contents.inputs import PreparedStep, References, Resolver, prepare_step
from yarnloom.engine.part_contents.new_rows import NewRows
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import StepEvent, StepState, StopReason
from yarnloom.engine.state.plans import Plans, task_of
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.settings import EngineSettings, Folder
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.steps_sent_along import Anchor, Leg, Relays
from yarnloom.engine.state.transaction_notes import Composing, Ended
from yarnloom.engine.state.transitions import Moves, count_children
from yarnloom.engine.state.workers import Worker, Workers
from yarnloom.errors import ValueRefused
from yarnloom.plan import FromOutput, Kind, Node, Plan
from yarnloom.secrets import has_sealed
from yarnloom.store import PartRow, RunRow, StepRow, Unit
from yarnloom.store.runs import sent_step_records
from yarnloom.values import decode, size_of

LARGEST_INPUTS = 64 * 1024
"""Bytes of what the legs of a relay are given beside what those before them give."""

EndOfLeg = tuple[ReportItem, str]
"""A report that a leg is done, and its output as JSON text."""


Given = dict[str, str | int]
"""Inputs of a leg by name: JSON text, or the node of the relay that gives it."""


@dataclass(slots=True)
class RelaySteps:
    """Gives workers steps of sequences without rows."""

    unit: Unit
    time: RunTime
    plans: Plans
    settings: EngineSettings
    folder: Folder
    counts: Statistics
    composing: Composing
    progress: Progress
    moves: Moves
    workers: Workers
    queue: StepQueue
    relays: Relays
    new_rows: NewRows
    references: References
    worker_orders: WorkerOrders

    # Giving

    def extend(self, anchor: Anchor) -> None:
        """Send the steps behind an assigned one along with it, as many as there is room for."""
        step, run = anchor.step, self.unit.run(anchor.step.run)
        worker = self.workers[anchor.worker]
        most = min(worker.room(step.contract), worker.offer.ahead // max(1, worker.offer.places))
        task = task_of(step.contract)
        if most <= 0 or task in worker.offer.io_tasks or not self._is_usual(run, step):
            return
        plan, part = self.plans.of(run), self.unit.parts.need(step.part)
        sequence, node = plan.nodes[part.node], plan.nodes[step.node]
        first = node.position + 1
        if sequence.kind is not Kind.SEQUENCE or node.follow_ups or first == len(sequence.children):
            return
        places = self.relays.places
        fitting = takewhile(
            lambda child: (
                (part.id, child.position) not in places
                and _is_plain(self.workers, worker, plan, child, step.priority, run)
            ),
            (plan.nodes[index] for index in sequence.children[first : first + most]),
        )
        children = list(fitting)
        if not children:
            return
        given = list(self._inputs(run, part, node, children))
        del children[len(given) :]
        if children:
            self._give(worker, anchor, part, children, given)

    def _is_usual(self, run: RunRow, step: StepRow) -> bool:
        """Whether a step is at its first try, and nobody changed anything in its run."""
        first = step.attempts == 1 and step.item_part is None and not step.pool
        usual = not run.renewed and not run.step_actions and run.stop is None
        return (
            self.settings.straight
            and first
            and usual
            and run.number not in self.queue.paused
            and run.number not in self.relays.barred
            and not has_sealed(run.params)
        )

    def _inputs(
        self, run: RunRow, part: PartRow, anchor: Node, children: list[Node]
    ) -> Iterator[Given]:
        """What each of some steps begins with, until one whose input is not that plain."""
        resolver, room = self.references.resolver(run, self.plans.of(run)), LARGEST_INPUTS
        passed = {anchor.index}
        for child in children:
            given: Given = {}
            for name, source in child.inputs.items():
                if isinstance(source, FromOutput) and source.node in passed:
                    given[name] = source.node
                    continue
                try:
                    text = resolver.text(source, part)
                except ValueRefused:
                    return
                if text is not None:
                    room -= len(text)
                    if room < 0:
                        return
                    given[name] = text
            yield given
            passed.add(child.index)

    def _give(
        self,
        worker: Worker,
        anchor: Anchor,
        part: PartRow,
        children: list[Node],
        given: list[Given],
    ) -> None:
        """Tell a worker which steps it is to run behind another."""
        run = self.unit.run(part.run)
        plan, count, position = self.plans.of(run), len(children), children[0].position
        first = self.unit.new_ids("attempts", count)
        by_node = {anchor.step.node: anchor.attempt}
        known, code, legs = self.relays, [], []
        for attempt, (child, inputs) in enumerate(zip(children, given, strict=True), first):
            by_node[child.index] = attempt
            code_hash = worker.offer.tasks[child.task]
            code.append(code_hash)
            known.add(
                Leg(
                    attempt,
                    run.number,
                    part.id,
                    child.position,
                    child.index,
                    worker.id,
                    code_hash,
                    first,
                    tuple((_key(name), value) for name, value in inputs.items()),
                )
            )
            legs.append(
                {
                    "attempt": attempt,
                    "task": child.task,
                    "code_hash": code_hash,
                    "address": f"{run.number}/{plan.addresses[child.index]}",
                    "token": token_of_place(self.folder, part.id, child.index),
                    "input": {
                        name: decode(one) for name, one in inputs.items() if type(one) is str
                    },
                    "passed": {
                        name: by_node[one] for name, one in inputs.items() if type(one) is int
                    },
                }
            )
            worker.hold(attempt, child.task)
        anchor.message["relay"] = legs
        row = sent_step_records.RelayRow(
            first, count, run.number, part.id, position, worker.id, json.dumps(code)
        )
        sent_step_records.keep(self.unit, row)

    # Results

    def take_ended(self, part: PartRow, position: int) -> list[tuple[Leg, EndOfLeg]]:
        """The legs from one place of a sequence on that were reported as done, all of one relay."""
        found: list[tuple[Leg, EndOfLeg]] = []
        for leg in self.relays.from_place(part.id, position):
            end = self.composing.relayed.get(leg.attempt)
            if end is None or leg.relay != (found[0][0] if found else leg).relay:
                break
            del self.composing.relayed[leg.attempt]
            found.append((leg, end))
        return found

    def keep(self, resolver: Resolver, part: PartRow, ended: list[tuple[Leg, EndOfLeg]]) -> None:
        """Steps of a sequence are done, one behind the other: they get their rows, and count.

        Args:
            resolver: of their run.
            part: the sequence.
            ended: their ends.
        """
        run, plan, number = resolver.run, resolver.plan, len(ended)
        nodes = [plan.nodes[leg.node] for leg, _ in ended]
        share, priority = (
            run.share or f"run {run.number}",
            PreparedStep().priority_in(run, nodes[0]),
        )
        worker = self.workers[ended[0][0].worker]
        step, at = (
            self.unit.new_ids("steps", number),
            self.composing.left_at.get(part.id, self.time.now),
        )
        steps, attempts, waited = [], [], []
        for more, (node, (leg, (item, output))) in enumerate(zip(nodes, ended, strict=True)):
            begun_at, ended_at = _times(self.time, item, at)
            given = _input_of(resolver, part, node, leg)
            rank = part.rank + node.position.to_bytes(4, "big")
            where = (step + more, run.number, part.id, node.index, rank, plan.contract(node), share)
            steps.append((*where, given, priority, at, output, begun_at, ended_at))
            cpu = None if item.cpu is None else round(item.cpu * 1_000_000)
            about = (
                leg.attempt,
                step + more,
                run.number,
                leg.worker,
                leg.code_hash,
                at,
                at,
                run.round,
            )
            attempts.append((*about, item.pid, cpu, item.memory, begun_at, ended_at))
            self.composing.children[part.id, node.index] = Ended(
                StepState.DONE, None, output, size_of(output)
            )
            address, took = plan.addresses[node.index], ended_at - begun_at
            self.counts.hours.end(run.workflow, ended_at, address, "done", begun_at - at, took)
            waited.append((begun_at - at) / 1_000_000)
            at = ended_at
        if self.relays.ended([leg for leg, _ in ended]):
            self._drop_row(ended[0][0])
        self.composing.left_at[part.id] = at
        sent_step_records.keep_ended(self.unit, steps, attempts)
        worker.release_all([leg.attempt for leg, _ in ended])
        worker.last, worker.last_at = ended[-1][0].attempt, self.time.now
        if not worker.in_hand:
            worker.idle_since = self.time.now
        count_children(self.unit, part, number)
        self.progress.steps_done(run, part, nodes)
        run.attempts += number
        self.unit.runs.touch(run)
        self.counts.tally.all_done(waited)
        self.queue.lanes.started("", share, number)
        self.queue.lanes.ended("", share, number)

    def open_as_handed(self, resolver: Resolver, part: PartRow, leg: Leg) -> StepRow | None:
        """Give rows to a step whose turn has come and that its worker may have begun.

        Returns:
            The step; None if it cannot be run as it was given, and is taken back.
        """
        run, node = resolver.run, resolver.plan.nodes[leg.node]
        prepared = None if run.step_actions or run.renewed else prepare_step(resolver, node, part)
        if prepared is None or prepared.error or prepared.skip:
            self._drop(leg)
            return None
        step = self.new_rows.add_step(run, node, part, prepared)
        self.moves.step(step, StepEvent.OPEN)
        if self.queue.has(step):
            self.queue.remove(step)
        at = min(self.time.now, self.composing.left_at.get(part.id, self.time.now))
        self.new_rows.add_first_attempt(
            run, step, id=leg.attempt, worker=leg.worker, code_hash=leg.code_hash, at=at
        )
        self.queue.lanes.started("", step.share)
        if self.relays.ended([leg]):
            self._drop_row(leg)
        if run.number in self.queue.paused:
            self.worker_orders.post_stop(step, StopReason.PAUSE)
        return step

    def given_back(self, leg: Leg) -> None:
        """A worker did not begin a leg, and will not."""
        self.workers[leg.worker].release(leg.attempt)
        if self.relays.given_back(leg):
            self._drop_row(leg)

    def call_back(self, run: int) -> bool:
        """Ask workers for the legs of a run that have not begun; return whether it has any legs."""
        known = self.relays
        legs = known.of_run(run) if known.attempts else []
        for leg in legs:
            if leg.attempt not in known.called:
                known.called.add(leg.attempt)
                why = StopReason.PAUSE
                self.workers[leg.worker].messages.post(
                    kind="stop", attempt=leg.attempt, why=str(why)
                )
        return bool(legs)

    def is_in_the_way(self, run: int) -> bool:
        """Whether workers may have begun steps of a run without rows; ask for them.

        From then on the run gets no such steps.
        """
        called = self.call_back(run)
        if called:
            self.relays.barred.add(run)
        return called

    def drop_behind(self, step: StepRow) -> None:
        """Take the legs behind a step from a worker that lost the step's attempt."""
        if self.relays.attempts:
            position = self.plans.of(self.unit.run(step.run)).nodes[step.node].position
            for leg in list(self.relays.from_place(step.part, position + 1)):
                self._drop(leg)

    def drop_of_worker(self, worker: Worker, but: Container[int] = (), above: int = 0) -> None:
        """Take back the legs that a worker does not hold.

        Args:
            worker: the worker.
            but: attempts that it still has, or has ended.
            above: those up to this one were given out by records that are gone.
        """
        for leg in self.relays.of_worker(worker.id):
            if leg.attempt not in but or leg.attempt <= above:
                self.given_back(leg)

    def note_lost(self, worker: Worker, begun: Mapping[int, int]) -> None:
        """Remember the legs that a worker had begun when it was lost, unreported.

        Each becomes a lost attempt of its step, which has no row before the steps in front of it
        have run again.
        """
        relays = self.relays
        for leg in relays.of_worker(worker.id):
            if leg.attempt in begun:
                at = min(self.time.now, begun[leg.attempt] + self.time.ahead)
                lost = sent_step_records.LostLeg(
                    leg.attempt, leg.part, leg.node, leg.worker, leg.code_hash, at, self.time.now
                )
                relays.note_lost(lost)
                sent_step_records.keep_lost(self.unit, lost)

    def _drop(self, leg: Leg) -> None:
        worker = self.workers[leg.worker]
        self.given_back(leg)
        post_drop(worker, leg.attempt)

    def _drop_row(self, leg: Leg) -> None:
        """Nothing of a leg's relay is left."""
        never_begun = self.relays.never_begun.pop(leg.relay, 0)
        sent_step_records.drop(self.unit, leg.relay, never_begun)

    def rebuild(self) -> None:
        """After a restart: remember which legs workers may have; their workers are known by now."""
        for lost in sent_step_records.lost_legs(self.unit):
            part = self.unit.parts.get(lost.part)
            if part is None or part.outcome is not None:
                sent_step_records.drop_lost(self.unit, lost.attempt)
            else:
                self.relays.note_lost(lost)
        for row in sent_step_records.all_of(self.unit):
            have = sent_step_records.with_rows(self.unit, row)
            part, worker = (self.unit.parts.get(row.part), self.workers.get(row.worker))
            left = [more for more in range(row.steps) if row.attempt + more not in have]
            if part is None or part.outcome is not None or worker is None or not left:
                last = row.attempt + left[-1] if left else 0
                sent_step_records.drop(self.unit, row.attempt, last)
                continue
            plan, code = self.plans.of(self.unit.run(row.run)), json.loads(row.code)
            children = plan.nodes[part.node].children
            for more in left:
                attempt, position = row.attempt + more, row.position + more
                about = (attempt, row.run, row.part, position, children[position])
                self.relays.add(Leg(*about, row.worker, code[more], row.attempt))
                worker.hold(attempt, plan.nodes[children[position]].task)

    def address_of(self, leg: Leg) -> str:
        """The address of a leg's step."""
        return f"{leg.run}/{self.plans.of(self.unit.run(leg.run)).addresses[leg.node]}"


def _is_plain(
    workers: Workers, worker: Worker, plan: Plan, child: Node, priority: int, run: RunRow
) -> bool:
    """Whether a step needs nothing but its input, and a worker can run it."""
    return (
        child.index in plan.plain_steps
        and child.task in worker.offer.plain_tasks
        and PreparedStep().priority_in(run, child) == priority
        and worker.misfit(plan.contract(child), workers.contracts) is None
    )


def _input_of(resolver: Resolver, part: PartRow, node: Node, leg: Leg) -> str:
    """What a leg began with, as JSON text: every one before it is done."""
    if leg.given is None:
        return resolver.inputs(node, part)
    nodes = resolver.plan.nodes
    fields = [
        key + (one if isinstance(one, str) else resolver.child(part, nodes[one]).output or "null")
        for key, one in leg.given
    ]
    return "{" + ",".join(fields) + "}"


@lru_cache(1_000)
def _key(name: str) -> str:
    return json.dumps(name) + ":"


def _times(time: RunTime, item: ReportItem, at: int) -> tuple[int, int]:
    """When a leg began and ended, not before the one before it ended."""
    ended_ago = int(item.ended_ago * 1_000_000)
    begun_ago = ended_ago if item.begun_ago is None else int(item.begun_ago * 1_000_000)
    begun_at = max(at, time.now - begun_ago)
    return begun_at, max(begun_at, time.now - ended_ago)
