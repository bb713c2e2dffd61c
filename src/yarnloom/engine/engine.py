"""The engine: many commands, one transaction.

Synchronous, without a clock of its own. `execute` takes a batch of commands and the time, and
gives an answer to each; what it answers is durable. A command that is refused changes nothing. A
command that breaks (a bug) is undone alone: the batch is rolled back and done again one by one.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from yarnloom.engine import (
    attending,
    by_hand,
    changing,
    chores,
    commands,
    data_commands,
    effects,
    explaining,
    filing,
    folding,
    granting,
    links,
    mending,
    pausing,
    pooling,
    publishing,
    relaying,
    reporting,
    saved,
    scheduling,
    starting,
    stopping,
    ticking,
)
from yarnloom.engine.admitting import admit
from yarnloom.engine.flow import Flow
from yarnloom.engine.following import follow, listeners_of
from yarnloom.engine.handing_out import hand_out
from yarnloom.engine.hours import Hours
from yarnloom.engine.items import FILL_DUE
from yarnloom.engine.memory import Memory
from yarnloom.engine.recent import MINUTE, MINUTES, Recent, Tally
from yarnloom.engine.time_of_runs import Moment, Time
from yarnloom.engine.turn import (
    BACK_OFF_DUE,
    DEADLINE_DUE,
    FILES_DUE,
    RUN_DEADLINE_DUE,
    SCHEDULE_DUE,
    START_BY_DUE,
    START_DUE,
    Late,
    Settings,
    Turn,
)
from yarnloom.engine.weaving import Weave
from yarnloom.errors import CannotStore, Refused
from yarnloom.plan import Plan
from yarnloom.secrets import Vault
from yarnloom.store import Database, Printer, StoreFailed, Unit, timing, weights
from yarnloom.store import writing as store

STORE_PAUSE = 1.0


@dataclass(slots=True)
class Results:
    """What came of a batch.

    Attributes:
        answers: one for each command, in order: its answer, or the exception that refused it.
        messages: for workers with an open request: what is to be sent to them now.
        gone: workers that left or were lost; none of their requests will get an answer.
        changed: numbers of the runs that look different now.
        ended: numbers of the runs that have ended now.
        pools: names of the pools that look different now.
        schedules: the same of schedules.
        workers: whether a worker came, went, took something or was rid of it.
        commit_seconds: how long the disk took to make it durable; None if nothing was stored.
        chores: what is to be done by others, each ended by `EndChore`.
        dropped: hashes of files whose bytes may be removed.
        fault: why nothing could be stored.
        next_due: when `Tick` is to be submitted, on the steady clock; None if never.
    """

    answers: list[Any] = field(default_factory=list)
    messages: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    gone: set[str] = field(default_factory=set)
    changed: set[int] = field(default_factory=set)
    ended: set[int] = field(default_factory=set)
    pools: set[str] = field(default_factory=set)
    schedules: set[str] = field(default_factory=set)
    workers: bool = False
    chores: list[data_commands.Chore] = field(default_factory=list)
    dropped: list[str] = field(default_factory=list)
    commit_seconds: float | None = None
    next_due: float | None = None
    fault: str | None = None


_USE_CASES: dict[type, Callable[[Turn, Any], Any]] = {
    commands.Publish: publishing.publish,
    commands.StartRun: starting.start_run,
    commands.CheckStarts: starting.check_starts,
    commands.StartMany: starting.start_many,
    data_commands.KeepFile: filing.keep_file,
    data_commands.KeepRows: filing.keep_rows,
    data_commands.EndChore: chores.end_chore,
    commands.CancelRun: stopping.cancel_run,
    commands.PauseRun: pausing.pause_run,
    commands.ResumeRun: pausing.resume_run,
    commands.MendRun: mending.mend_run,
    commands.Unfold: folding.unfold,
    commands.ChangeRun: changing.change_run,
    commands.RerunRun: starting.rerun,
    commands.HandleStep: by_hand.handle_step,
    commands.BeginEffect: effects.begin_effect,
    commands.EndEffect: effects.end_effect,
    commands.SettleEffect: effects.settle_effect,
    commands.Register: attending.register,
    commands.Ask: attending.ask,
    commands.CloseAsk: attending.close_ask,
    commands.Report: attending.take_report,
    commands.InHand: attending.in_hand,
    commands.MakeLink: links.make_link,
    commands.RevokeLink: links.revoke_link,
    commands.SaveFilter: saved.save_filter,
    commands.DropFilter: saved.drop_filter,
    commands.Leave: attending.leave,
    commands.LoseWorker: attending.lose_worker,
    commands.Tick: ticking.tick,
    commands.ListWorkers: attending.list_workers,
    commands.DrainWorker: attending.drain_worker,
    commands.MakePool: pooling.make_pool,
    commands.ChangePool: pooling.change_pool,
    commands.RemovePool: pooling.remove_pool,
    commands.ListPools: pooling.list_pools,
    commands.MakeSchedule: scheduling.make_schedule,
    commands.ChangeSchedule: scheduling.change_schedule,
    commands.RemoveSchedule: scheduling.remove_schedule,
    commands.StartSchedule: scheduling.start_schedule,
    commands.ListSchedules: scheduling.list_schedules,
    commands.Why: explaining.why,
    commands.ListQuiet: explaining.list_quiet,
    commands.Recently: pooling.recently,
}


_QUESTIONS = (
    *(commands.Why, commands.ListQuiet, commands.Recently),
    *(commands.ListWorkers, commands.ListPools, commands.ListSchedules),
)
"""Commands that change nothing: they are answered also while nothing can be stored."""


def _by_day(turn: Turn, wall: int | None) -> int | None:
    return None if wall is None else wall + turn.ahead


_BY_TIME: dict[str, Callable[[Turn], int | None]] = {
    BACK_OFF_DUE: lambda turn: store.next_due(turn.unit),
    DEADLINE_DUE: lambda turn: store.next_step_deadline(turn.unit),
    RUN_DEADLINE_DUE: lambda turn: store.next_run_deadline(turn.unit),
    START_DUE: lambda turn: timing.next_to_open(turn.unit, turn.ahead),
    START_BY_DUE: lambda turn: _by_day(turn, timing.next_to_expire(turn.unit)),
    SCHEDULE_DUE: lambda turn: _by_day(turn, timing.next_firing(turn.unit)),
    FILES_DUE: filing.next_drop,
}


_ABOUT_RUNS = (
    *(commands.CancelRun, commands.PauseRun, commands.ResumeRun, commands.MendRun),
    *(commands.ChangeRun, commands.HandleStep, commands.SettleEffect),
)
"""Commands that change the open steps of a run."""

ABOUT_ROWS = (commands.MendRun, commands.HandleStep)
"""Commands that read or change ended steps of a run: its items get rows before."""


class Engine:
    """The one writer of a data folder.

    Args:
        database: opened and locked.
        moment: the present time, for the workers' first leases.
        settings: leases and limits.
    """

    def __init__(
        self, database: Database, moment: Moment, settings: Settings | None = None
    ) -> None:
        self._database = database
        self._settings = settings or Settings()
        if self._settings.vault is None:
            self._settings = replace(self._settings, vault=Vault(database.folder))
        self._unit = Unit(database.writer, database.past)
        self._flow = Flow(self._unit)
        self._hours = Hours()
        self._plans: dict[int, Plan] = {}
        self._memory = Memory()
        self._stale = self._unwritable = False
        self._time = Time(moment, database.past.latest)
        self._recent = Recent()
        self._recall_recent(moment)
        self._rebuild(moment)

    @property
    def takes_work(self) -> bool:
        """Whether a worker is there that takes work: registered, not draining, with a place."""
        return any(
            worker.registered and not worker.draining and (worker.places or worker.io_places)
            for worker in list(self._memory.workers.values())
        )

    def processes(self) -> dict[str, dict[str, Any]]:
        """By worker which process it says that it is, as far as workers say it."""
        found = ((one.id, one.facts.get("process")) for one in list(self._memory.workers.values()))
        return {worker: process for worker, process in found if isinstance(process, dict)}

    @property
    def ahead(self) -> int:
        """By how many microseconds the time of runs is ahead of the clock, which was set back."""
        return self._time.ahead

    def in_hand(self, command: commands.InHand) -> dict[int, Printer | None] | None:
        """Answer a question from memory; None where that takes a transaction."""
        return None if self._stale else attending.in_hand_now(self._memory, command)

    def execute(self, batch: Sequence[commands.Command], moment: Moment) -> Results:
        """Do a batch of commands in one transaction."""
        if fault := self._fault():
            return self._only_read(batch, fault, moment)
        if self._stale and (failed := self._rebuild_after_failure(moment)):
            return self._busy(batch, failed, moment)
        moved = self._time.look(moment, busy=self._memory.is_busy)
        turn = self._turn(moment)
        try:
            self._follow_clock(turn, moved=moved)
            answers = [self._one(turn, command) for command in batch]
            pausing.settle_all(turn)
            while turn.ended_now or turn.made_room:
                follow(turn)
                admit(turn)
            hand_out(turn, relaying.extend)
            attending.dismiss_idle(turn)
            self._database.past.latest = turn.now
            self._flow.write(turn)
            self._hours.write(self._unit)
            commit_seconds = self._unit.commit()
            if taken := self._database.taken_away():
                raise StoreFailed(taken)  # what was stored there is nobody's any more
        except StoreFailed as error:
            self._undo()
            return self._busy(batch, error, moment)
        except Exception as error:
            self._undo()
            if len(batch) == 1:
                return Results([error], next_due=moment.mono)
            return self._one_by_one(batch, moment)
        self._time.shift = 0
        self._remember(turn)
        results = self._results(turn, batch, answers)
        results.commit_seconds = commit_seconds
        return results

    def _remember(self, turn: Turn) -> None:
        """What a transaction did that has succeeded counts for the last hour."""
        self._recent.add(turn.now, turn.tally)
        memory = self._memory
        self._recent.sample(turn.pools, memory.pools, memory.lanes, turn.now, turn.mono)

    def _one(self, turn: Turn, command: commands.Command) -> Any:
        if isinstance(command, ABOUT_ROWS) and relaying.is_in_the_way(turn, command.run):
            return commands.StillRunning(command.run)
        self._make_plain(turn, command)
        before = self._unit.changes
        try:
            return _USE_CASES[type(command)](turn, command)
        except Refused as refused:
            if self._unit.changes != before:
                raise  # it had begun to change things: undo all, and do the others again
            return refused

    def _make_plain(self, turn: Turn, command: commands.Command) -> None:
        """What a command is about that is not usual has rows before it."""
        known = turn.memory.grants
        if isinstance(command, ABOUT_ROWS):
            folding.unfold_all(turn, command.run)
        if isinstance(command, _ABOUT_RUNS):
            relaying.call_back(turn, command.run)
        if not known.eaches:
            return
        if isinstance(command, commands.ChangePool | commands.RemovePool):
            for straight in granting.withdraw_of_pool(turn, command.name):
                weave = Weave(turn, turn.run(straight.run))
                weave.fill_plainly(turn.unit.parts.need(straight.each))
            return
        if (attempt := getattr(command, "attempt", None)) is not None:
            granting.unfold_attempt(turn, attempt)
        elif isinstance(command, _ABOUT_RUNS) and any(
            one.run == command.run for one in known.eaches.values()
        ):
            Weave(turn, turn.run(command.run)).make_plain()

    def _one_by_one(self, batch: Sequence[commands.Command], moment: Moment) -> Results:
        total = Results()
        for command in batch:
            results = self.execute([command], moment)
            total.answers += results.answers
            total.gone |= results.gone
            total.changed |= results.changed
            total.ended |= results.ended
            total.pools |= results.pools
            total.schedules |= results.schedules
            total.workers |= results.workers
            total.chores += results.chores
            total.dropped += results.dropped
            for worker, messages in results.messages.items():
                total.messages.setdefault(worker, []).extend(messages)
            total.next_due = results.next_due
            total.fault = results.fault
        return total

    def _results(
        self, turn: Turn, batch: Sequence[commands.Command], answers: list[Any]
    ) -> Results:
        answers = [answer.make() if isinstance(answer, Late) else answer for answer in answers]
        results = Results(
            answers,
            gone=turn.gone,
            changed=turn.changed,
            ended=turn.ended,
            pools=turn.pools,
            schedules=turn.schedules,
            workers=turn.workers,
            chores=self._memory.new_chores,
            dropped=turn.dropped,
            next_due=self._memory.due.next_at,
        )
        self._memory.new_chores = []
        for command, answer in zip(batch, answers, strict=True):
            if not isinstance(command, commands.Report):
                continue
            # One that left in the same batch gets nothing more.
            worker = self._memory.workers.get(command.worker)
            if worker is not None and isinstance(answer, commands.Reported):
                answer.messages = worker.take_unsent()
        for worker in self._memory.workers.values():
            if worker.listening and worker.unsent and (messages := worker.take_unsent()):
                worker.listening = False
                results.messages[worker.id] = messages
        return results

    def _turn(self, moment: Moment) -> Turn:
        return Turn(
            self._unit,
            self._database.files,
            self._memory,
            self._settings,
            self._plans,
            self._database.id,
            self._database.past,
            self._recent,
            self._flow,
            self._hours,
            moment.now + self._time.ahead,
            moment.mono,
            self._time.ahead,
        )

    def _busy(
        self, batch: Sequence[commands.Command], error: StoreFailed, moment: Moment
    ) -> Results:
        busy = CannotStore(f"the change could not be stored: {error}. Nothing changed; try again.")
        fault = str(error)
        return Results([busy] * len(batch), next_due=moment.mono + STORE_PAUSE, fault=fault)

    def _fault(self) -> StoreFailed | None:
        """Why nothing can be stored; after a failure that is tried."""
        if taken := self._database.taken_away():
            return StoreFailed(taken)
        if self._unwritable:
            try:
                self._unit.rollback()
                store.try_to_write(self._unit)
            except StoreFailed as error:
                return error
            self._unwritable = False
        return None

    def _only_read(
        self, batch: Sequence[commands.Command], fault: StoreFailed, moment: Moment
    ) -> Results:
        """Nothing can be stored: questions are answered from what can be read."""
        results = self._busy(batch, fault, moment)
        if not any(isinstance(command, _QUESTIONS) for command in batch):
            return results
        try:
            if self._stale:
                self._unit.rollback()
                self._rebuild(moment)
            turn = self._turn(moment)
            results.answers = [
                self._one(turn, command) if isinstance(command, _QUESTIONS) else refused
                for command, refused in zip(batch, results.answers, strict=True)
            ]
            self._unit.rollback()
        except StoreFailed:
            self._stale = True
        return results

    def _undo(self) -> None:
        """Roll back; the memory is rebuilt before the next command.

        Workers must register again then, as after a restart: what was posted to them may be void.
        """
        self._stale = self._unwritable = True
        self._plans.clear()
        self._flow.forget()
        self._hours.forget()
        with contextlib.suppress(StoreFailed):
            self._unit.rollback()

    def _rebuild_after_failure(self, moment: Moment) -> StoreFailed | None:
        try:
            self._unit.rollback()
            self._rebuild(moment)
        except StoreFailed as error:
            return error
        return None

    def _rebuild(self, moment: Moment) -> None:
        self._memory = Memory()
        turn = self._turn(moment)
        self._memory.workflows = store.current_plans(self._unit)
        self._memory.weights = weights.newest(self._unit)
        pooling.recall(turn)
        pausing.recall(turn)
        granting.recall(turn)
        for pool, priority, share, contract, count, run in store.ready_by_lane(self._unit):
            turn.plan(turn.run(run))  # so that it is known what its steps expect of a worker
            self._memory.lanes.add(pool, priority, share, contract, count)
        for workflow, entered, count in store.runs_by_workflow(self._unit):
            self._memory.counted(entered)[workflow] += count
        self._memory.listeners = listeners_of(turn)
        scheduling.look_again(turn)
        self._remind(turn)
        for each in store.unfinished_eaches(self._unit):
            self._memory.due.add(moment.mono, FILL_DUE, str(each))
        chores.recall(turn)
        for worker_id, name, facts in store.workers_present(self._unit):
            attending.remember(turn, worker_id, name, facts)
        for worker in self._memory.workers.values():
            for attempt in worker.in_hand:
                self._remember_attempt(turn, attempt)
        relaying.recall(turn)
        for worker in self._memory.workers.values():
            for attempt_id, (pool, run) in worker.abandoned.items():
                if pool:
                    self._memory.pools.gate(pool).in_use[run] += 1
                    self._memory.pools.gate(pool).unbegun.discard(attempt_id)
        pooling.recall_begins(turn, self._memory.pools.settings)
        for number in self._memory.paused:
            pausing.settle(turn, turn.run(number))
        self._flow.write(turn)
        self._hours.write(self._unit)
        self._unit.commit()
        self._stale = False

    def _recall_recent(self, moment: Moment) -> None:
        """Count what the records say of the last hour, the newest attempts of very many."""
        since = moment.now - MINUTES * MINUTE
        found = []
        for ready_at, begun_at, ended_at, outcome in store.recent_attempts(self._unit, since):
            waited = max(0, begun_at - ready_at) / 1_000_000
            found.append((begun_at, Tally(begun=1, waited=waited, longest=waited)))
            if ended_at is not None:
                found.append((ended_at, Tally(ended=1, failed=outcome in reporting.TROUBLE)))
        for at, tally in sorted(found, key=lambda one: one[0]):
            self._recent.add(at, tally)

    def _remind(self, turn: Turn) -> None:
        """Set a timer for each kind of what the store keeps by the time of day."""
        for kind, next_of in _BY_TIME.items():
            if (at := next_of(turn)) is not None:
                turn.remind(kind, at)

    def _follow_clock(self, turn: Turn, *, moved: bool) -> None:
        """The clock was set, or the machine slept: durations stay as long as they are."""
        if self._time.shift:
            timing.move_waits(self._unit, self._time.shift)
        if moved or self._time.shift:
            scheduling.look_again(turn)
            self._remind(turn)

    def _remember_attempt(self, turn: Turn, attempt_id: int) -> None:
        """An attempt that a worker has in hand counts for turns, in its pool, and in time."""
        attempt = self._unit.attempts.need(attempt_id)
        step = self._unit.steps.need(attempt.step)
        self._memory.lanes.started(step.pool, step.share)
        if step.pool:
            self._memory.pools.gate(step.pool).hand_out(step.run, attempt_id)
        if attempt.begun_at is None:
            turn.expect_begin(attempt_id)
        else:
            reporting.watch(turn, attempt, step)
