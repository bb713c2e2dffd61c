"""Workers come, ask, are thought to live, leave, and are lost."""

from __future__ import annotations

import hashlib
from collections.abc import Container, Mapping
from dataclasses import dataclass

from yarnloom.engine.commands import (
    ClosePoll,
    DrainWorker,
    LeaveService,
    ListWorkers,
    LoseWorker,
    Poll,
    Register,
    Report,
    Reported,
    handles,
)
from yarnloom.engine.dispatch.worker_orders import (
    WorkerOrders,
    never_began,
    post_drain,
    post_drop,
    post_idle,
)
from yarnloom.engine.records.workers import LastAttempt, Registered, WorkerRecord
from yarnloom.engine.rules.limits import Pools, pools_in
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import StopReason
from yarnloom.engine.state.due_times import DueTimes, Timers
from yarnloom.engine.state.plans import Plans, task_of
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.settings import EngineSettings, Folder
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.steps_sent_along import Relays
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.state.workers import Session, Worker, Workers
from yarnloom.engine.use_cases.attempt_reports import AttemptReports
from yarnloom.engine.use_cases.reports import Reports
from yarnloom.engine.without_rows.giving_items import GrantedItems
from yarnloom.engine.without_rows.steps_sent_along import RelaySteps
from yarnloom.errors import Conflict, NotFound, WorkerUnknown, nearest
from yarnloom.store import Unit
from yarnloom.store.runs import due_records
from yarnloom.store.runs import run_records as store
from yarnloom.store.workers import pool_records, worker_records, workflow_records
from yarnloom.values import JsonObject

LEASE_DUE = "lease"
WENT_BACK = "the service's records went back in time"


@dataclass(slots=True)
class WorkerSessions:
    """Workers come, report and go."""

    unit: Unit
    time: RunTime
    plans: Plans
    due_times: DueTimes
    changes: Changes
    settings: EngineSettings
    folder: Folder
    pool_places: PoolPlaces
    workers: Workers
    queue: StepQueue
    pools: Pools
    relays: Relays
    timers: Timers
    attempt_reports: AttemptReports
    granted_items: GrantedItems
    relay_steps: RelaySteps
    reports: Reports
    worker_orders: WorkerOrders

    @handles(Register)
    def register(self, command: Register) -> Registered:
        """Take a worker in, for the first time or again after this service was restarted.

        What the records say it has in hand and it has not is sent to it again, under the same
        numbers. What it has in hand and the records do not is ordered to be dropped. One that comes
        with another epoch is only told of the present one: it is to end what it has, and to come
        again.
        """
        if _has_seen_more(self.folder, command):
            self._begin_epoch()
        about = Registered(
            worker=command.worker,
            service=self.folder.id,
            lease=self.settings.lease,
            epoch=self.folder.past.epoch,
        )
        if command.service == self.folder.id and command.epoch not in ("", self.folder.past.epoch):
            return about
        worker_records.keep_worker(
            self.unit, command.worker, command.name, command.facts, self.time.now
        )
        known = self.workers.get(command.worker)
        worker = known or self.remember(command.worker, command.name, command.facts)
        self.granted_items.unfold_of_worker(worker.id)
        self.relay_steps.drop_of_worker(worker, command.in_hand, self.folder.past.above["attempts"])
        worker.name, worker.facts = command.name, command.facts
        worker.offer.tasks, worker.offer.io_tasks = dict(command.tasks), frozenset(command.io_tasks)
        worker.offer.plain_tasks = frozenset(command.plain_tasks)
        worker.offer.types, worker.offer.graces = dict(command.offers), dict(command.graces)
        worker.misfits.clear()
        for name, source in command.sources.items():
            workflow_records.keep_code(self.unit, name, command.tasks[name], source, self.time.now)
        worker.offer.places, worker.offer.io_places = command.places, command.io_places
        worker.offer.ahead, worker.offer.has = command.ahead, frozenset(command.has)
        worker.offer.pools = None if command.pools is None else frozenset(command.pools)
        worker.session.draining, worker.session.until_idle = command.draining, command.until_idle
        self._hold_again(worker)
        # One that only has new tasks still has its open request; what is sent there in vain
        # otherwise is sent again with the next.
        worker.session.registered, worker.session.trouble = True, command.trouble
        worker.messages.clear()
        self.renew(worker)
        self.changes.workers = True
        legs = self.relays.attempts
        for attempt_id in sorted(worker.in_hand):
            if attempt_id in legs:
                continue
            if attempt_id <= self.folder.past.above["attempts"]:
                self.attempt_reports.lose(
                    attempt_id, f"{WENT_BACK}; worker {worker.name} had it before"
                )
                continue
            attempt = self.unit.attempts.need(attempt_id)
            step = self.unit.steps.need(attempt.step)
            if attempt.begun_at is None:
                self.due_times.expect_begin(attempt_id)
            if attempt_id not in command.in_hand:
                self.worker_orders.post_work(worker, step, attempt)
            if step.stop:
                self.worker_orders.post_stop(step, StopReason(step.stop))
        for attempt_id in sorted(worker.abandoned.keys() - set(command.abandoned)):
            self.attempt_reports.free(worker.id, attempt_id)
        for attempt_id in sorted(set(command.in_hand) - worker.in_hand.keys()):
            post_drop(worker, attempt_id)
        return about

    def _task_of(self, attempt: int) -> str:
        """The task of an attempt in hand, with rows or without."""
        if leg := self.relays.attempts.get(attempt):
            return self.plans.of(self.unit.run(leg.run)).nodes[leg.node].task
        step = self.unit.steps.need(self.unit.attempts.need(attempt).step)
        return task_of(step.contract)

    def _begin_epoch(self) -> None:
        """The records went back: what workers have in hand was given out by records that are gone.

        It is lost when a worker has ended it and comes again, or when its lease is over.
        """
        self.unit.begin_epoch()
        for worker in self.workers.values():
            worker.session.registered = worker.session.polling = False
            self.changes.gone.add(worker.id)  # for its open request

    @handles(Poll)
    def poll(self, command: Poll) -> None:
        """A worker's open request has come; everything not acknowledged is for its answer."""
        worker = self._heard_from(command)
        worker.session.polling = True
        worker.messages.send_again()

    @handles(ClosePoll)
    def close_poll(self, command: ClosePoll) -> None:
        """A worker's open request ended without an answer."""
        worker = self.workers.get(command.worker)
        if worker:
            worker.session.polling = False

    @handles(Report)
    def take_report(self, command: Report) -> Reported:
        """A worker's report; its answer can carry work at once."""
        self._heard_from(command)
        answer = self.reports.report(command)
        self.changes.reporters.add(command.worker)
        return answer

    @handles(LeaveService)
    def leave(self, command: LeaveService) -> None:
        """A worker has ended on purpose; what it still had in hand was never finished."""
        worker = self._taken_out(command.worker)
        if worker is None:
            return
        for attempt in sorted(worker.in_hand):
            self.attempt_reports.hand_back(attempt)
        self._gone(worker)

    @handles(LoseWorker)
    def lose_worker(self, command: LoseWorker) -> None:
        """A worker is gone: its attempts are lost, which spends no try."""
        worker = self._taken_out(command.worker, command.begun)
        if worker is None:
            return
        why = f"worker {worker.name} is gone: {command.why}"
        for attempt in sorted(worker.in_hand):
            self._lose_or_hand_back(attempt, why, command.begun)
        self._gone(worker)
        store.log_command(
            self.unit,
            self.time.now,
            "service",
            "lose_worker",
            None,
            command.why,
            worker=worker.name,
        )

    def _lose_or_hand_back(
        self, attempt_id: int, why: str, begun: Mapping[int, int] | None
    ) -> None:
        """Give up an attempt of a worker that is gone: only one that had begun counts as lost.

        Where nobody can tell, all attempts of the worker count as lost, except of steps that record
        their begin first.
        """
        attempt = self.unit.attempts.need(attempt_id)
        if attempt.begun_at is None:
            rules = (
                self.plans.of(self.unit.run(attempt.run))
                .nodes[self.unit.steps.need(attempt.step).node]
                .rules
            )
            if begun is None and rules.losses is not None:  # its worker asks before it begins
                begun = {}
            if begun is None:
                why += ". Whether it had begun is not known"
            elif attempt_id not in begun:
                self.attempt_reports.hand_back(attempt_id, f"{why}; it had not begun")
                return
            else:
                ago = self.time.now - self.time.ahead - begun[attempt_id]
                self.attempt_reports.record_begin(attempt, ago=max(0, ago) / 1_000_000)
        self.attempt_reports.lose(attempt_id, why)

    def _taken_out(self, worker_id: str, begun: Mapping[int, int] | None = None) -> Worker | None:
        """Remove a worker from memory, and give rows to the attempts that it had in hand."""
        self.granted_items.unfold_of_worker(worker_id)
        worker = self.workers.get(worker_id)
        if worker is not None:
            self.relay_steps.note_lost(worker, begun or {})
            self.relay_steps.drop_of_worker(worker)
            del self.workers[worker_id]
        return worker

    def remember(self, worker_id: str, name: str, facts: JsonObject) -> Worker:
        """Put a worker into memory, with a full lease and what the records say it has in hand."""
        session = Session(self.time.mono + self.settings.lease, seen_at=self.time.now)
        worker = Worker(worker_id, name, facts, session, idle_since=self.time.now)
        worker.in_hand.update(
            dict.fromkeys(worker_records.open_attempts(self.unit, worker_id), False)
        )
        for attempt_id in pool_records.abandoned_attempts(self.unit, worker_id):
            attempt = self.unit.attempts.need(attempt_id)
            worker.abandoned[attempt_id] = (attempt.pool, attempt.run)
        self.workers[worker_id] = worker
        self.timers.add(worker.session.lease_until, LEASE_DUE, worker_id)
        return worker

    def resume_sessions(self, before: Workers, but: Container[str]) -> None:
        """After a rebuild in this process, let registered workers go on without registering again.

        Args:
            before: the workers as they were when a command broke.
            but: those whose sessions the broken commands changed; they register again.
        """
        for worker in self.workers.values():
            known = before.get(worker.id)
            if known is None or not known.session.registered or worker.id in but:
                continue
            worker.name, worker.facts = known.name, known.facts
            worker.offer, worker.session, worker.messages = (
                known.offer,
                known.session,
                known.messages,
            )
            if worker.messages.undo() & {"drain", "idle"}:
                worker.session.draining = False
            self.timers.add(worker.session.lease_until, LEASE_DUE, worker.id)
            self._hold_again(worker)

    def _hold_again(self, worker: Worker) -> None:
        """Count the attempts in hand by kind, once it is known which tasks are io tasks."""
        held = {attempt: self._task_of(attempt) for attempt in worker.in_hand}
        worker.in_hand, worker.io_in_hand = {}, 0
        for attempt, task in held.items():
            worker.hold(attempt, task)

    def renew(self, worker: Worker) -> None:
        """The worker was heard of. Nothing is written for it."""
        worker.session.lease_until = self.time.mono + self.settings.lease
        worker.session.seen_at = self.time.now

    @handles(DrainWorker)
    def drain_worker(self, command: DrainWorker) -> WorkerRecord:
        """Let a worker take nothing new, and end when it has nothing in hand; what is told of it.

        Raises:
            NotFound: no worker has that name or id.
            Conflict: several have that name.
        """
        known = self.workers
        found = [one for one in known.values() if command.worker in (one.id, one.name)]
        if not found:
            names = [one.name for one in known.values()]
            raise NotFound(f"there is no worker {command.worker!r}{nearest(command.worker, names)}")
        if len(found) > 1:
            ids = ", ".join(sorted(one.id for one in found))
            raise Conflict(f"{len(found)} workers are called {command.worker!r}; give an id: {ids}")
        (worker,) = found
        if not worker.session.draining:
            worker.session.draining = self.changes.workers = True
            post_drain(worker)
            store.log_command(
                self.unit,
                self.time.now,
                command.who,
                "drain",
                None,
                command.reason,
                worker=worker.name,
            )
        return _worker_record(worker)

    def dismiss_idle(self) -> None:
        """Tell workers that want to end when nothing is left to do that nothing is."""
        workers = self.workers.values()
        waiting = [
            one
            for one in workers
            if one.session.until_idle and one.session.registered and not one.session.draining
        ]
        if not waiting or any(one.in_hand for one in workers):
            return
        if due_records.next_due(self.unit) is not None:
            return
        for worker in waiting:
            if not self._has_work(worker):
                worker.session.draining = True
                post_idle(worker)

    def _has_work(self, worker: Worker) -> bool:
        """Whether anything is ready for a worker, in a pool that nobody has halted."""
        for pool, contract in self.queue.lanes.ready_contracts():
            settings = [self.pools.need(name) for name in pools_in(pool)]
            halted = any(setting.paused is not None or setting.limit == 0 for setting in settings)
            fits = worker.misfit(contract, self.workers.contracts) is None and worker.takes_from(
                pool
            )
            if fits and not halted:
                return True
        return False

    def _gone(self, worker: Worker) -> None:
        """A worker is gone, and with it the processes of attempts that were abandoned."""
        worker_records.worker_gone(self.unit, worker.id, self.time.now)
        self.changes.gone.add(worker.id)
        self.changes.workers = True
        for attempt_id, (pool, run) in worker.abandoned.items():
            attempt = self.unit.attempts.need(attempt_id)
            attempt.abandoned = 0
            self.unit.attempts.touch(attempt)
            self.pool_places.leave(pool, run, [attempt.id], never_began=never_began(attempt))
        worker.abandoned.clear()

    @handles(ListWorkers)
    def list_workers(self, _: ListWorkers) -> list[WorkerRecord]:
        """The workers as they are now."""
        return [_worker_record(worker) for worker in self.workers.values()]

    def _heard_from(self, command: Poll | Report) -> Worker:
        worker = self.workers.get(command.worker)
        if worker is None or not worker.session.registered:
            raise WorkerUnknown(f"worker {command.worker} is not registered here; register again")
        if command.epoch not in (None, self.folder.past.epoch):
            raise WorkerUnknown(f"{WENT_BACK} since then; register again")
        worker.messages.acknowledge(command.received)
        if command.places is not None:
            worker.offer.places = command.places
        if command.io_places is not None:
            worker.offer.io_places = command.io_places
        if command.ahead is not None:
            worker.offer.ahead = command.ahead
            self.changes.workers |= worker.session.trouble != command.trouble
            worker.session.trouble = command.trouble
        self.renew(worker)
        return worker


def _has_seen_more(folder: Folder, command: Register) -> bool:
    """Whether a worker knows of commits that these records have not: they went back."""
    if command.service != folder.id or not command.epoch:
        return False  # it knows of other records, or of none
    if not folder.past.knows(command.epoch):
        return True
    return command.epoch == folder.past.epoch and command.commits > folder.past.commits


def _worker_record(worker: Worker) -> WorkerRecord:
    return WorkerRecord(
        id=worker.id,
        name=worker.name,
        facts=worker.facts,
        registered=worker.session.registered,
        places=worker.offer.places,
        io_places=worker.offer.io_places,
        has=sorted(worker.offer.has),
        pools=None if worker.offer.pools is None else sorted(worker.offer.pools),
        draining=worker.session.draining,
        trouble=worker.session.trouble,
        in_hand=sorted(worker.in_hand),
        idle_since=None if worker.in_hand else worker.idle_since,
        last=LastAttempt(worker.last, worker.last_at) if worker.last else None,
        tasks=dict(worker.offer.tasks),
        code=_code_of(worker),
        seen_at=worker.session.seen_at,
    )


def _code_of(worker: Worker) -> str:
    """A hash of all its code, so that two generations of workers are told apart."""
    text = "\n".join(f"{name} {code}" for name, code in sorted(worker.offer.tasks.items()))
    return hashlib.blake2s(text.encode(), digest_size=6).hexdigest()
