"""Orders to workers: run an attempt, stop it, or go on with it after all."""

from __future__ import annotations

import contextlib
import json
from dataclasses import dataclass

from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import Outcome, StopReason
from yarnloom.engine.state.attempts import OpenAttempts
from yarnloom.engine.state.plans import Plans, task_of
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.settings import Folder
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.engine.state.workers import Message, Worker, Workers
from yarnloom.errors import FolderUnusable
from yarnloom.secrets import Vault, has_sealed
from yarnloom.store import AttemptRow, StepRow, Unit
from yarnloom.values import JsonObject, decode


@dataclass(slots=True)
class WorkerOrders:
    """Tells workers to begin and to stop."""

    unit: Unit
    plans: Plans
    changes: Changes
    vault: Vault
    folder: Folder
    workers: Workers

    def post_work(self, worker: Worker, step: StepRow, attempt: AttemptRow) -> Message:
        """Tell a worker to run an attempt, and return the message."""
        run = self.unit.run(step.run)
        node = self.plans.of(run).nodes[step.node]
        secrets: list[str] = []
        given = decode(step.input)
        if has_sealed(step.input):
            with contextlib.suppress(FolderUnusable):  # then the task's own check refuses it
                given = self.vault.open(given, secrets)
        serial = worker.messages.post(
            size=len(step.input) + len(step.saved or ""),
            kind="work",
            attempt=attempt.id,
            address=self.plans.address(run, node, self.unit.parts.need(step.part)),
            number=attempt.number,
            code_hash=attempt.code_hash,
            tries=attempt.try_,
            task=task_of(step.contract),
            input=given,
            token=token_of(self.folder, step),
            **({"memory": node.rules.memory} if node.rules.memory else {}),
            **({"begin": "recorded"} if node.rules.losses is not None else {}),
            **({"saved": json.loads(step.saved)} if step.saved else {}),
            **({"secrets": secrets} if secrets else {}),
        )
        return worker.messages.unacknowledged[serial][0]

    def post_stop(
        self, step: StepRow, why: StopReason, *, raise_in: float | None = None, now: bool = False
    ) -> bool:
        """Tell the worker that has a step in hand to stop it; False if none has.

        Args:
            step: the step.
            why: the reason.
            raise_in: of one whose time is over: seconds until it is, when the stop is raised in it.
            now: raise it at once, without a grace.
        """
        if step.open is None:
            return False
        attempt = self.unit.attempts.need(step.open)
        step.stop = why
        self.unit.steps.touch(step)
        self.changes.runs.add(step.run)
        worker = self.workers[attempt.worker]
        more: JsonObject = {} if raise_in is None else {"raise_in": raise_in}
        more |= {"now": True} if now else {}
        worker.messages.post(kind="stop", attempt=attempt.id, why=str(why), **more)
        return True

    def post_go_on(self, step: StepRow) -> None:
        """Tell the worker that has a step in hand that it need not stop."""
        assert step.open is not None
        attempt = self.unit.attempts.need(step.open)
        step.stop = None
        self.unit.steps.touch(step)
        self.changes.runs.add(step.run)
        self.workers[attempt.worker].messages.post(kind="go_on", attempt=attempt.id)


def post_drop(worker: Worker, attempt: int) -> None:
    """Tell a worker to end an attempt that is not its own any longer, and to report nothing."""
    worker.messages.post(kind="drop", attempt=attempt)


def post_give_back(worker: Worker, attempt: int) -> int:
    """Tell a worker to give an attempt back that has not begun; return the serial number."""
    return worker.messages.post(kind="give_back", attempt=attempt)


def post_drain(worker: Worker) -> None:
    """Tell a worker to take nothing new, and to end."""
    worker.messages.post(kind="drain")


def post_idle(worker: Worker) -> None:
    """Tell a worker that no work is left, so that it can end."""
    worker.messages.post(kind="idle")


@dataclass(slots=True)
class Release:
    """Takes attempts from workers."""

    time: RunTime
    changes: Changes
    pool_places: PoolPlaces
    workers: Workers
    queue: StepQueue
    attempts: OpenAttempts

    def release(self, step: StepRow, attempt: AttemptRow) -> None:
        """Release an attempt that has ended: its worker, its lane and its pool have room again."""
        worker = self.workers.get(attempt.worker)
        if worker:
            worker.release(attempt.id)
            worker.last, worker.last_at = attempt.id, self.time.now
            if not worker.in_hand:
                worker.idle_since = self.time.now
            self.changes.workers = True
        self.queue.lanes.ended(step.pool, step.share)
        self.attempts.timeouts.pop(attempt.id, None)
        self.attempts.unbegun.pop(attempt.id, None)
        if attempt.abandoned and worker:
            worker.abandoned[attempt.id] = (step.pool, step.run)
        else:
            self.pool_places.leave(
                step.pool, step.run, [attempt.id], never_began=never_began(attempt)
            )


def never_began(attempt: AttemptRow) -> bool:
    """Whether a worker gave an attempt back before it began."""
    return attempt.outcome == Outcome.HANDED_BACK and attempt.begun_at is None


def token_of(folder: Folder, step: StepRow) -> str:
    """Return a text that is the same over all attempts of a step, and of no other's."""
    if step.item_part is None:
        return token_of_place(folder, step.part, step.node)
    return f"{tokens_begin(folder)}{step.id}"


def token_of_place(folder: Folder, part: int, node: int) -> str:
    """Return the token of a step in no item, which may have no row yet."""
    return f"{tokens_begin(folder)}{part}.{node}"


def tokens_begin(folder: Folder) -> str:
    """Return the begin of the tokens of all steps."""
    return f"{folder.id}-"
