"""Workers with the addresses of what each runs."""

from __future__ import annotations

from collections.abc import Mapping

from yarnloom.engine.records.workers import AttemptInHand, WorkerRecord
from yarnloom.protocol import worker_answers
from yarnloom.protocol.worker_answers import WorkerAnswer, WorkerFacts
from yarnloom.service.render.answers import show
from yarnloom.values import JsonObject


def worker_answer(worker: WorkerRecord, attempts: Mapping[int, AttemptInHand]) -> WorkerAnswer:
    """Return a worker with what it runs, and what it ran last.

    Args:
        worker: the worker.
        attempts: by id those of which the addresses are known.
    """
    facts = WorkerFacts.model_validate(worker)
    if worker.last is not None and (last := attempts.get(worker.last.id)):
        known = show(worker_answers.AttemptInHand, last)
        ended = {"id": worker.last.id, "ended_at": worker.last.ended_at}
        facts.last = worker_answers.LastAttempt.model_validate({**ended, **known})
    runs = [attempts[attempt] for attempt in worker.in_hand if attempt in attempts]
    return WorkerAnswer.model_validate({**dict(facts), "runs": runs})


def without_tasks(worker: WorkerAnswer) -> JsonObject:
    """Return a worker as its watchers see it: there can be thousands of tasks."""
    shown = show(WorkerAnswer, worker)
    del shown["tasks"]
    return shown
