"""Items that go straight to workers: the usual path of many short items, without rows.

An each of one step, at the top of a run and with nothing special about it, *offers* its next items.
A worker whose tasks are short is *given* many of them at once: one row in `grants` says which.
Those that end well at their first try are kept in *segments*, many in one row (`segments.py`).

Whatever else happens to an item, it gets the rows that it would have had all along, and from there
on everything goes as always (`unfold`): it began some milliseconds ago and goes on, fails, saves,
prints a value that is kept, its worker is lost, its run is paused. For readers an item that was
given and has no rows has not begun yet. Its worker reports its begin if it takes long. One of which
nothing is heard for `UNSEEN_SECONDS` gets rows, too, so that it can be asked back.

Decision: `docs/decisions/12-items-without-rows.md`.
"""

from __future__ import annotations

from itertools import islice, takewhile

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.compact import segments
from yarnloom.engine.compact.item_inputs import input_of, own_input, straight_of
from yarnloom.engine.parts.create_rows import add_first_attempt, add_part, add_step
from yarnloom.engine.parts.inputs import PreparedStep
from yarnloom.engine.parts.items import Window, item_of, raw_item, raw_items
from yarnloom.engine.parts.list_values import name_of
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState, StepEvent
from yarnloom.engine.state.contracts import task_of
from yarnloom.engine.state.due_times import GRANT_DUE
from yarnloom.engine.state.grants import Given, Grant, Grants, Straight
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.timers import Timers
from yarnloom.engine.state.transaction import Folder, Statistics, Transaction
from yarnloom.engine.state.transitions import count_children
from yarnloom.engine.state.workers import Worker, Workers
from yarnloom.plan import item_key
from yarnloom.store import PartRow, RunRow, Unit, grant_records
from yarnloom.values import JsonValue, dump, size_of

UNTAKEN_SECONDS = 0.5
"""After which items are offered with rows, if no worker takes any of their each."""

UNSEEN_SECONDS = 5.0
"""After which an item gets rows that a worker was given and of which nothing was heard."""

UNSEEN_AT_ONCE = 50
"""Such items a second, at most: a service that is slow must not make itself slower."""

GROUP_BYTES = 256 * 1024
"""Of inputs in one message; more of them come with the next."""

EndOf = tuple[Given, ReportItem, str]
"""A done item, its report, and its output as JSON text."""

Ends = list[EndOf]


# Whether an each's items go straight


def offer(
    transaction: Transaction, run: RunRow, each: PartRow, limits: Window, *, barred: bool
) -> bool:
    """Offer the next items of an each to workers; False if its items need rows from the start.

    Args:
        transaction: the transaction.
        run: its run.
        each: the each.
        limits: how many may be under way.
        barred: whether nothing more begins in it.
    """
    known = transaction.memory.grants
    straight = known.eaches.get(each.id)
    rated = straight is not None and transaction.memory.pools.rated(straight.pool)
    if (
        barred
        or rated
        or not _goes_on_as_usual(transaction.settings, transaction.memory.queue, run, each)
    ):
        if straight is not None:
            withdraw(transaction, straight)
        return False
    if straight is None:
        if each.id in known.not_straight or not _somebody_is_quick(transaction.memory.workers):
            return False
        straight = straight_of(transaction, run, each)
        if straight is None or transaction.memory.pools.rated(straight.pool):
            known.not_straight.add(each.id)
            return False
        known.eaches[each.id] = straight
    under_way = each.begun + each.following + len(straight.given)
    if limits.passes_over:
        under_way -= each.sleeping_children
    _set_offer(
        transaction.time,
        transaction.memory.queue,
        transaction.memory.grants,
        transaction.memory.timers,
        straight,
        max(0, min(each.total - straight.next, limits.straight - under_way)),
    )
    return True


def _goes_on_as_usual(
    settings: EngineSettings, queue: StepQueue, run: RunRow, each: PartRow
) -> bool:
    usual = run.state == RunState.RUNNING and not run.renewed and not run.step_actions
    begun = run.started_at is not None and each.rest_state is None and not each.items_to_rerun
    return settings.straight and usual and begun and run.number not in queue.paused


def _somebody_is_quick(workers: Workers) -> bool:
    """Whether a worker's tasks are so short that it is handed more than it has places."""
    return any(worker.offer.ahead and worker.session.registered for worker in workers.values())


def _set_offer(
    time: RunTime, queue: StepQueue, grants: Grants, timers: Timers, straight: Straight, count: int
) -> None:
    more = count - straight.offered
    if not more:
        return
    lanes, offers = queue.lanes, grants.offers
    if more > 0:
        lanes.add(*straight.lane, more)
    else:
        lanes.remove(*straight.lane, -more)
    straight.offered = count
    if count:
        offers.setdefault(straight.lane, {})[straight.each] = straight
        straight.since = time.mono
        timers.set(GRANT_DUE, time.mono + UNTAKEN_SECONDS)
    else:
        _forget_offer(grants, straight)


def _forget_offer(grants: Grants, straight: Straight) -> None:
    offers = grants.offers
    of_lane = offers.get(straight.lane)
    if of_lane is not None:
        of_lane.pop(straight.each, None)
        if not of_lane:
            del offers[straight.lane]


def withdraw(transaction: Transaction, straight: Straight) -> None:
    """Offer nothing more of an each, and give rows to what workers have of it."""
    _set_offer(
        transaction.time,
        transaction.memory.queue,
        transaction.memory.grants,
        transaction.memory.timers,
        straight,
        0,
    )
    for given in list(straight.given.values()):
        unfold(transaction, given)
    transaction.memory.grants.eaches.pop(straight.each, None)


# Giving


def give(transaction: Transaction, worker: Worker, straight: Straight, count: int) -> None:
    """Give a worker the next items of an each."""
    unit, run = transaction.unit, transaction.unit.run(straight.run)
    each = unit.parts.need(straight.each)
    task = task_of(straight.lane[3])
    code_hash = worker.offer.tasks[task]
    attempt, part, step = (unit.new_ids(one, count) for one in ("attempts", "parts", "steps"))
    grant = Grant(attempt, count)
    row = grant_records.GrantRow(
        *(
            attempt,
            each.id,
            straight.next,
            count,
            part,
            step,
            worker.id,
            code_hash,
            transaction.time.now,
        )
    )
    grant_records.keep(unit, row)
    values = raw_items(
        transaction.unit,
        transaction.memory.parts,
        transaction.folder,
        each,
        straight.facts,
        straight.next,
        count,
    )
    name = straight.facts.name
    now, mono, known = (
        transaction.time.now,
        transaction.time.mono,
        transaction.memory.grants.attempts,
    )
    for more, raw in enumerate(values):
        index = straight.next + more
        straight.given[index] = known[attempt + more] = Given(
            straight,
            grant,
            index,
            name_of(raw, name) if name is not None else None,
            raw,
            worker.id,
            code_hash,
            now,
            mono,
            attempt + more,
            part + more,
            step + more,
        )
    attempts = range(attempt, attempt + count)
    worker.hold_all(attempts, task)
    _post(transaction.folder, worker, straight, [known[one] for one in attempts])
    transaction.pool_places.enter(straight.pool, run.number, attempts)
    straight.next += count
    straight.offered -= count
    straight.since = transaction.time.mono
    if not straight.offered:
        _forget_offer(transaction.memory.grants, straight)
    transaction.memory.queue.lanes.remove(*straight.lane, count)
    transaction.memory.queue.lanes.started(straight.pool, straight.share, count)
    transaction.memory.timers.set(GRANT_DUE, transaction.time.mono + UNTAKEN_SECONDS)
    transaction.changes.runs.add(run.number)
    transaction.changes.workers = True


def _post(folder: Folder, worker: Worker, straight: Straight, some: list[Given]) -> None:
    """Tell a worker which items it is given, in messages that are not too large."""
    shared = straight.shared
    items: list[JsonValue] = []
    size = first = 0
    for at, given in enumerate(some):
        own = own_input(straight, given.raw)
        items.append((item_key(given.name, given.item), own))
        size += sum(map(_bytes_of, own.values()))
        if size > GROUP_BYTES or at + 1 == len(some):
            before = some[first]
            worker.messages.post_works(
                before.attempt,
                items,
                size,
                task=task_of(straight.lane[3]),
                code_hash=before.code_hash,
                address=(f"{straight.address}[", f"]/{straight.step.label}"),
                token=folder.token,
                step=before.step,
                input=shared,
            )
            items, size, first = [], 0, at + 1


def _bytes_of(value: JsonValue) -> int:
    """About how many bytes a value has as JSON."""
    if isinstance(value, str):
        return len(value)
    return len(dump(value)) if isinstance(value, list | dict) else 10


# How it ends


def end(transaction: Transaction, run: RunRow, straight: Straight, ends: Ends) -> PartRow:
    """Items of an each ended well: they are kept, and the each counts them; the each."""
    each = transaction.unit.parts.need(straight.each)
    done = _done(transaction.time.now, ends)
    _count(transaction.counts, run, straight, each, done)
    segments.keep(transaction.unit, transaction.time, run, straight, done)
    attempts = [one.given.attempt for one in done]
    worker = transaction.memory.workers[done[0].given.worker]
    worker.release_all(attempts)
    worker.last, worker.last_at = attempts[-1], transaction.time.now
    if not worker.in_hand:
        worker.idle_since = transaction.time.now
    for one in done:
        _is_over(transaction.unit, transaction.memory.grants, one.given)
    count = len(done)
    each.unmade -= count
    if straight.do.wanted:
        each.size += sum([max(len("null"), size_of(one.output)) + 1 for one in done])
    else:
        each.size += (len("null") + 1) * count
    count_children(transaction.unit, each, count)
    transaction.progress.items_done(run, each, straight.do, count)
    run.attempts += count
    transaction.unit.runs.touch(run)
    transaction.memory.queue.lanes.ended(straight.pool, straight.share, count)
    transaction.pool_places.leave(straight.pool, run.number, attempts, begun=True)
    transaction.changes.runs.add(run.number)
    transaction.afterwards.settling.add(run.number)
    transaction.changes.workers = True
    return each


def _done(now: int, ends: Ends) -> list[segments.Done]:
    """When each item began and how long it took, from the report of its end."""
    done = []
    for given, item, output in ends:
        ended = int(item.ended_ago * 1_000_000)
        begun = ended if item.begun_ago is None else int(item.begun_ago * 1_000_000)
        since = now - given.at
        began = since - begun if since > begun else 0
        took = since - ended - began
        cpu = None if item.cpu is None else round(item.cpu * 1_000_000)
        done.append(segments.Done(given, began, max(0, took), item.pid, cpu, item.memory, output))
    return done


def _count(
    counts: Statistics, run: RunRow, straight: Straight, each: PartRow, done: list[segments.Done]
) -> None:
    """Count items that are done, and how long they waited and took."""
    step = straight.step.index
    counts.eaches.count(each, step, "done", len(done))
    counts.eaches.took(each, step, *[one.took for one in done])
    runs = [
        (one.given.at, one.given.at + one.began, one.given.at + one.began + one.took)
        for one in done
    ]
    counts.times.done(run.number, step, runs)
    ended = [(one.given.at + one.began + one.took, one.began, one.took) for one in done]
    counts.hours.end_all(run.workflow, straight.plan_address, "done", ended)
    counts.tally.all_done([one.began / 1_000_000 for one in done])


def _is_over(unit: Unit, grants: Grants, given: Given) -> None:
    """Forget an item that has rows now; delete its grant with the last item."""
    del grants.attempts[given.attempt]
    del given.straight.given[given.item]
    given.grant.left -= 1
    if not given.grant.left:
        grant_records.drop(unit, given.grant.attempt)


def unfold(transaction: Transaction, given: Given) -> None:
    """Give an item that a worker has in hand the rows that it would have had all along."""
    straight = given.straight
    run, each = transaction.unit.run(straight.run), transaction.unit.parts.need(straight.each)
    _is_over(transaction.unit, transaction.memory.grants, given)
    each.unmade -= 1
    value, _ = item_of(given.raw, straight.facts)
    item = add_part(
        transaction.unit,
        transaction.time,
        run,
        straight.do,
        each,
        given.item,
        value,
        given.name,
        id=given.part,
    )
    prepared = PreparedStep(input_of(straight, given.raw, value), straight.pool)
    step = add_step(
        transaction.unit,
        transaction.time,
        transaction.plans,
        transaction.memory.relays,
        transaction.progress,
        run,
        straight.step,
        item,
        prepared,
        id=given.step,
    )
    transaction.moves.step(step, StepEvent.OPEN)
    item.started_at = given.at
    transaction.memory.queue.remove(step)
    add_first_attempt(
        transaction.unit,
        transaction.due_times,
        run,
        step,
        id=given.attempt,
        worker=given.worker,
        code_hash=given.code_hash,
        at=given.at,
    )
    transaction.changes.runs.add(run.number)


def unfold_attempt(transaction: Transaction, attempt: int) -> None:
    """The same by an attempt, if it is one that has no rows."""
    if given := transaction.memory.grants.attempts.get(attempt):
        unfold(transaction, given)


def unfold_of_worker(transaction: Transaction, worker: str) -> None:
    """The same for all that a worker has in hand."""
    for given in [
        attempt
        for attempt in transaction.memory.grants.attempts.values()
        if attempt.worker == worker
    ]:
        unfold(transaction, given)


def withdraw_of_run(transaction: Transaction, run: int) -> list[PartRow]:
    """Offer nothing more of a run, and give rows to what workers have of it; its eaches."""
    found = [each for each in transaction.memory.grants.eaches.values() if each.run == run]
    for straight in found:
        withdraw(transaction, straight)
    return [transaction.unit.parts.need(one.each) for one in found]


def withdraw_of_pool(transaction: Transaction, pool: str) -> list[Straight]:
    """Give rows to what workers have of a pool, and offer nothing more in it; the eaches."""
    found = [each for each in transaction.memory.grants.eaches.values() if each.pool == pool]
    for straight in found:
        withdraw(transaction, straight)
    return found


def unseen(transaction: Transaction) -> list[Straight]:
    """Give rows to items of which nothing was heard; return eaches whose offer no worker took."""
    now, known = transaction.time.mono, transaction.memory.grants
    # The dict has them in the order in which they were given.
    unheard = takewhile(lambda one: one.mono <= now - UNSEEN_SECONDS, known.attempts.values())
    for given in list(islice(unheard, UNSEEN_AT_ONCE)):
        unfold(transaction, given)
    offered = [each for each in known.eaches.values() if each.offered]
    late = [each for each in offered if each.since <= now - UNTAKEN_SECONDS and not each.given]
    first = next(iter(known.attempts.values()), None)
    times = [] if first is None else [max(now + 1.0, first.mono + UNSEEN_SECONDS)]
    times += [max(now, each.since) + UNTAKEN_SECONDS for each in offered if each not in late]
    if times:
        transaction.memory.timers.set(GRANT_DUE, min(times))
    return late


def rebuild(transaction: Transaction) -> None:
    """After a restart: give rows to all items that workers have in hand."""
    for row in grant_records.all_of(transaction.unit):
        have = grant_records.ended_items(transaction.unit, row)
        each = transaction.unit.parts.need(row.each)
        straight = straight_of(transaction, transaction.unit.run(each.run), each)
        assert straight is not None, "an item that was given can get rows"
        missing = [more for more in range(row.items) if row.item + more not in have]
        grant = Grant(row.attempt, len(missing))
        if not missing:
            grant_records.drop(transaction.unit, row.attempt)
        for more in missing:
            index = row.item + more
            raw = raw_item(
                transaction.unit,
                transaction.memory.parts,
                transaction.folder,
                each,
                straight.facts,
                index,
            )
            _, name = item_of(raw, straight.facts)
            given = Given(
                straight,
                grant,
                index,
                name,
                raw,
                row.worker,
                row.code_hash,
                row.handed_at,
                transaction.time.mono,
                row.attempt + more,
                row.part + more,
                row.step + more,
            )
            straight.given[index] = transaction.memory.grants.attempts[given.attempt] = given
            unfold(transaction, given)
    transaction.unit.flush()


def run_of_attempt(unit: Unit, grants: Grants, attempt: int) -> int:
    """The run of an attempt in hand, with rows or without."""
    given = grants.attempts.get(attempt)
    return given.straight.run if given else unit.attempts.need(attempt).run
