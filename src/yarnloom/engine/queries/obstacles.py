"""What is in the way of a step that could run: its pool, the workers, who is before it."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping
from typing import Any

from yarnloom.engine.compact import granted_items
from yarnloom.engine.rules.fair_queue import MOST_AHEAD
from yarnloom.engine.rules.limits import BlockReason, PoolBlocked, base_of
from yarnloom.engine.state.contracts import (
    Misfit,
    needs_of,
    task_of,
)
from yarnloom.engine.state.transaction import Transaction
from yarnloom.engine.state.workers import (
    Worker,
)
from yarnloom.store import StepRow
from yarnloom.units import (
    duration_text,
)

View = dict[str, Any]


SHOWN = 50
NO_PLACE, ELSEWHERE, DRAINING, TROUBLE = "no_place", "elsewhere", "draining", "trouble"
NAMED = 3


FLAWS = (TROUBLE, DRAINING, ELSEWHERE, *reversed(Misfit))
"""Why a worker does not take a step, what is mended most easily first."""


def reason_of(kind: str, text: str, **facts: Any) -> View:
    """Return a reason as `why` shows it."""
    return {"kind": kind, "text": text, **facts}


def obstacles(
    transaction: Transaction, step: StepRow, waiters: Mapping[int, int], *, order: bool
) -> Iterator[View]:
    """Everything that keeps a ready step from starting.

    Args:
        transaction: the transaction.
        step: the step.
        waiters: attempts in which a task waits for another run, and for which.
        order: whether it is told who comes before.
    """
    pool_reasons = list(_of_pool(transaction, step))
    yield from pool_reasons
    yield from _of_itself(transaction, step, waiters)
    worker_reason = _of_workers(transaction, step)
    if worker_reason is not None:
        yield worker_reason
    if pool_reasons or (worker_reason and worker_reason["kind"] == NO_PLACE):
        if order:
            yield from _of_order(transaction, step)
    elif worker_reason is None:
        yield reason_of("moment", "a worker has a place for it and takes it in a moment")


def _of_itself(
    transaction: Transaction, step: StepRow, waiters: Mapping[int, int]
) -> Iterator[View]:
    """That every place for a step is held by a task that waits for it: nothing can go on."""
    fitting = [
        one
        for one in transaction.memory.workers.values()
        if one.session.registered and _flaws(transaction, one, step) in ([], [NO_PLACE])
    ]
    held = [attempt for one in fitting for attempt in one.holding(step.contract)]
    if not held or any(one.has_place(step.contract) for one in fitting):
        return
    waited = {waiters[attempt] for attempt in held if attempt in waiters}
    if any(attempt not in waiters for attempt in held) or step.run not in waited:
        return
    for attempt_id in (
        one for worker in transaction.memory.workers.values() for one in worker.in_hand
    ):
        if _run_of(transaction, attempt_id) in waited and attempt_id not in waiters:
            return  # it ends, and then they go on
    runs = sorted({transaction.unit.attempts.need(attempt).run for attempt in held})
    places = "the only place is" if len(held) == 1 else f"all {len(held)} places are"
    text = (
        f"can never begin: {places} held by {run_words(runs)}, in which a task waits for this run. "
        "Give the worker more places, or do not wait in a task: end it, and be told by `on_run_end`"
    )
    yield reason_of("itself", text, runs=runs)


def _run_of(transaction: Transaction, attempt: int) -> int:
    """The run of an attempt in hand, with rows or without."""
    leg = transaction.memory.relays.attempts.get(attempt)
    return leg.run if leg else granted_items.run_of_attempt(transaction, attempt)


def _of_pool(transaction: Transaction, step: StepRow) -> Iterator[View]:
    if not step.pool:
        return
    limiter = transaction.memory.pools.limiter(step.pool)
    for closed in limiter.obstacles(transaction.mono):
        facts = {
            "pool": step.pool,
            "limit": limiter.settings.limit,
            "in_use": limiter.in_use.total(),
        }
        yield reason_of(f"pool_{closed.why}", _pool_text(transaction, step.pool, closed), **facts)


def _pool_text(transaction: Transaction, pool: str, closed: PoolBlocked) -> str:
    limiter = transaction.memory.pools.limiter(pool)
    match closed.why:
        case BlockReason.PAUSED:
            paused = limiter.settings.paused or {}
            reason = f": {paused['reason']}" if paused.get("reason") else ""
            return f"pool {base_of(pool)} is paused by {paused.get('by')}{reason}"
        case BlockReason.HALTED:
            return f"pool {base_of(pool)} has the limit 0"
        case BlockReason.FULL:
            runs = [run for run, _ in limiter.in_use.most_common()]
            count, limit = limiter.in_use.total(), limiter.settings.limit
            return f"waits for pool {pool} ({count} of {limit} in use by {run_words(runs)})"
    left = (
        ""
        if closed.until is None
        else f", the next in {seconds_left(closed.until - transaction.mono)}"
    )
    return f"waits for pool {pool} (at most {limiter.settings.rate} begin{left})"


def seconds_left(seconds: float) -> str:
    """Return how long something still takes, in words."""
    return duration_text(max(0.0, round(seconds, 1 if seconds >= 1 else 3)))


def _of_workers(transaction: Transaction, step: StepRow) -> View | None:
    """Why no worker takes it; None if one has a place."""
    workers = [one for one in transaction.memory.workers.values() if one.session.registered]
    if not workers:
        return reason_of(
            "no_worker", "no worker is connected: `yarnloom worker --load MODULE:LOOM`"
        )
    flaws = [(one, _flaws(transaction, one, step)) for one in workers]
    if not all(found for _, found in flaws):
        return None
    full = [worker for worker, found in flaws if found == [NO_PLACE]]
    if not full:
        return _no_worker_fits(transaction, step, flaws)
    places = sum(_places(one, step.contract) for one in full)
    names = [one.name for one in full]
    if not places:
        text = f"waits for a place: no process of {listed(names)} has loaded the loom yet"
        return reason_of(NO_PLACE, text, workers=names)
    taken = "the only place" if places == 1 else f"all {places} places"
    verb = "is" if places == 1 else "are"
    text = f"waits for a place: {taken} of {listed(names)} {verb} taken"
    return reason_of(NO_PLACE, text, workers=names)


def _places(worker: Worker, contract: str) -> int:
    return (
        worker.offer.io_places
        if task_of(contract) in worker.offer.io_tasks
        else worker.offer.places
    )


def _flaws(transaction: Transaction, worker: Worker, step: StepRow) -> list[str]:
    """Everything because of which a worker does not take a step; nothing if it can."""
    misfit = worker.misfit(step.contract, transaction.memory.workers.contracts)
    found = [] if misfit in (None, Misfit.LACKS) else [str(misfit)]
    if needs_of(step.contract) - worker.offer.has:
        found.append(str(Misfit.LACKS))
    if not worker.takes_from(step.pool):
        found.append(ELSEWHERE)
    if worker.session.draining:
        found.append(DRAINING)
    if worker.session.trouble is not None and not _places(worker, step.contract):
        found.append(TROUBLE)
    elif not worker.has_place(step.contract):
        found.append(NO_PLACE)
    return found


def _no_worker_fits(
    transaction: Transaction, step: StepRow, flaws: list[tuple[Worker, list[str]]]
) -> View:
    """What is missing in each worker; those that lack the least first."""
    groups: dict[tuple[str, ...], list[Worker]] = {}
    for worker, found in flaws:
        kinds = [one for one in found if one != NO_PLACE]
        groups.setdefault(tuple(kinds), []).append(worker)
    nearest_first = sorted(groups, key=lambda kinds: [len(kinds), *map(FLAWS.index, kinds)])
    facts = [{"worker": worker.name, "why": found} for worker, found in flaws[:SHOWN]]
    if len(groups) == 1 and nearest_first[0][0] == Misfit.NO_TASK:
        text = f"no worker knows task {task_of(step.contract)}{_near(step, flaws)}"
    else:
        text = "; ".join(
            f"worker {listed([group.name for group in groups[kinds]])} "
            + " and ".join(_flaw_text(step, kind, groups[kinds]) for kind in kinds)
            for kinds in nearest_first
        )
    return reason_of(nearest_first[0][0], text, workers=facts)


def _flaw_text(step: StepRow, kind: str, workers: list[Worker]) -> str:
    task = task_of(step.contract)
    match kind:
        case "elsewhere":
            where = f"pool {base_of(step.pool)}" if step.pool else "steps without a pool"
            return f"does not take from {where} (its --pools)"
        case "draining":
            return "is draining"
        case "trouble":
            said = (workers[0].session.trouble or "").partition("\n")[0]
            return f"lives, but has no process that can take it: {said}"
        case Misfit.LACKS:
            missing = {
                word for worker in workers for word in needs_of(step.contract) - worker.offer.has
            }
            return f"has no {' or '.join(sorted(missing))} (only_on)"
        case Misfit.OTHER_CODE:
            return f"has {task} in another version, and its code is pinned"
        case Misfit.OTHER_TYPES:
            return f"has {task} in another version, whose types do not fit"
    return f"does not know task {task}"


def _near(step: StepRow, flaws: list[tuple[Worker, list[str]]]) -> str:
    """The nearest task that a worker knows."""
    known = sorted({name for worker, _ in flaws for name in worker.offer.tasks})
    close = difflib.get_close_matches(task_of(step.contract), known, n=1)
    return f"; near: {close[0]}" if close else ""


def _of_order(transaction: Transaction, step: StepRow) -> Iterator[View]:
    """Who comes first when there is room."""
    higher, shares = transaction.memory.queue.lanes.ahead_of(step.pool, step.priority, step.share)
    if higher:
        steps = "1 step" if higher == 1 else f"{higher:,} steps"
        text = f"{steps} of higher priority than {step.priority} come first"
        yield reason_of("priority", text, steps=higher, priority=step.priority)
    if shares:
        text = (
            f"{listed(shares, is_cut=len(shares) == MOST_AHEAD)} {has_words(shares)} a turn before"
        )
        yield reason_of("turn", text, shares=shares[:SHOWN])


def listed(names: list[str], *, is_cut: bool = False) -> str:
    """Some of many names: "a, b and 3 more", or "at least 3 more" where the list is cut."""
    shown = names[:NAMED]
    if len(names) > NAMED:
        return f"{', '.join(shown)} and {'at least ' if is_cut else ''}{len(names) - NAMED} more"
    return " and ".join([", ".join(shown[:-1]), shown[-1]] if len(shown) > 1 else shown)


def has_words(named: list[Any]) -> str:
    """Return "has", or "have" for several."""
    return "has" if len(named) == 1 else "have"


def run_words(numbers: list[int]) -> str:
    """Return runs by number, in words."""
    return ("run " if len(numbers) == 1 else "runs ") + listed([str(number) for number in numbers])
