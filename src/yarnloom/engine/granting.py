"""Items that go straight to workers: the usual path of many short items, without rows.

An each of one step, at the top of a run and with nothing special about it, *offers* its next items.
A worker whose tasks are short is *given* many of them at once: one row in `grants` says which.
Those that end well at their first try are kept in *segments*, many in one row (`folding`).

Whatever else happens to an item, it gets the rows that it would have had all along, and from there
on everything goes as always (`unfold`): it began some milliseconds ago and goes on, fails, saves,
prints a value that is kept, its worker is lost, its run is paused. For readers an item that was
given and has no rows has not begun yet; it has them after `UNSEEN_SECONDS` at the latest.
"""

from __future__ import annotations

from typing import Any

from yarnloom.engine import folding
from yarnloom.engine.commands import ReportItem
from yarnloom.engine.items import Window, item_of, raw_item, raw_items
from yarnloom.engine.lists import name_of
from yarnloom.engine.memory import Given, Grant, Straight, Worker, task_of
from yarnloom.engine.placing import add_first_attempt, add_part, add_step
from yarnloom.engine.pools import base_of
from yarnloom.engine.preparing import Prepared
from yarnloom.engine.progress import items_done
from yarnloom.engine.ready import Lane, Place
from yarnloom.engine.states import RunState, StepEvent
from yarnloom.engine.straight import input_of, own_input, straight_of
from yarnloom.engine.turn import GRANT_DUE, Turn
from yarnloom.plan import item_key
from yarnloom.store import PartRow, RunRow, grants
from yarnloom.values import dump, size_of

UNSEEN_SECONDS = 0.5
"""After which an item has rows that a worker was given, whatever becomes of it."""

GROUP_BYTES = 256 * 1024
"""Of inputs in one message; more of them come with the next."""

EndOf = tuple[Given, ReportItem, str]
"""A done item, its report, and its output as JSON text."""

Ends = list[EndOf]


# Whether an each's items go straight


def offer(turn: Turn, run: RunRow, each: PartRow, limits: Window, *, barred: bool) -> bool:
    """Offer the next items of an each to workers; False if its items need rows from the start.

    Args:
        turn: the transaction.
        run: its run.
        each: the each.
        limits: how many may be under way.
        barred: whether nothing more begins in it.
    """
    known = turn.memory.grants
    straight = known.eaches.get(each.id)
    rated = straight is not None and turn.memory.pools.rated(straight.pool)
    if barred or rated or not _goes_on_as_usual(turn, run, each):
        if straight is not None:
            withdraw(turn, straight)
        return False
    if straight is None:
        if each.id in known.not_straight or not _somebody_is_quick(turn):
            return False
        straight = straight_of(turn, run, each)
        if straight is None or turn.memory.pools.rated(straight.pool):
            known.not_straight.add(each.id)
            return False
        known.eaches[each.id] = straight
    under_way = each.begun + each.following + len(straight.given)
    if limits.passes_over:
        under_way -= each.asleep
    _set_offer(turn, straight, max(0, min(each.total - straight.next, limits.straight - under_way)))
    return True


def _goes_on_as_usual(turn: Turn, run: RunRow, each: PartRow) -> bool:
    usual = run.state == RunState.RUNNING and not run.renewed and not run.hands
    begun = run.started_at is not None and each.rest_state is None and not each.again
    return turn.settings.straight and usual and begun and run.number not in turn.memory.paused


def _somebody_is_quick(turn: Turn) -> bool:
    """Whether a worker's tasks are so short that it is handed more than it has places."""
    return any(one.ahead and one.registered for one in turn.memory.workers.values())


def _set_offer(turn: Turn, straight: Straight, count: int) -> None:
    more = count - straight.offered
    if not more:
        return
    lanes, offers = turn.memory.lanes, turn.memory.grants.offers
    if more > 0:
        lanes.add(*straight.lane, more)
    else:
        lanes.remove(*straight.lane, -more)
    straight.offered = count
    if count:
        offers.setdefault(straight.lane, {})[straight.each] = straight
        straight.since = turn.mono
        turn.memory.arm(GRANT_DUE, turn.mono + UNSEEN_SECONDS)
    else:
        _forget_offer(turn, straight)


def _forget_offer(turn: Turn, straight: Straight) -> None:
    offers = turn.memory.grants.offers
    of_lane = offers.get(straight.lane)
    if of_lane is not None:
        of_lane.pop(straight.each, None)
        if not of_lane:
            del offers[straight.lane]


def withdraw(turn: Turn, straight: Straight) -> None:
    """Offer nothing more of an each, and give rows to what workers have of it."""
    _set_offer(turn, straight, 0)
    for given in list(straight.given.values()):
        unfold(turn, given)
    turn.memory.grants.eaches.pop(straight.each, None)


# Handing out


def first_offer(turn: Turn, lane: Lane) -> tuple[Place, Straight] | None:
    """The first item that is offered in a lane, and whose it is."""
    offers = turn.memory.grants.offers.get(lane)
    if not offers:
        return None
    return min(
        (((one.run, one.rank_of_next, 0), one) for one in offers.values()), key=lambda one: one[0]
    )


def offered_in(turn: Turn, lane: Lane) -> int:
    """How many items are offered in a lane."""
    offers = turn.memory.grants.offers.get(lane)
    return sum(one.offered for one in offers.values()) if offers else 0


def give(turn: Turn, worker: Worker, straight: Straight, count: int) -> None:
    """Give a worker the next items of an each."""
    unit, run = turn.unit, turn.run(straight.run)
    each = unit.parts.need(straight.each)
    task = task_of(straight.lane[3])
    code_hash = worker.tasks[task]
    attempt, part, step = (unit.new_ids(one, count) for one in ("attempts", "parts", "steps"))
    grant = Grant(attempt, count)
    row = grants.GrantRow(
        *(attempt, each.id, straight.next, count, part, step, worker.id, code_hash, turn.now)
    )
    grants.keep(unit, row)
    values = raw_items(turn, each, straight.facts, straight.next, count)
    name = straight.facts.name
    now, mono, known = turn.now, turn.mono, turn.memory.grants.attempts
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
    _post(turn, worker, straight, [known[one] for one in attempts])
    if straight.pool:
        gate = turn.memory.pools.gate(straight.pool)
        for one in attempts:
            gate.hand_out(run.number, one)
        gate.note(gate.closed(turn.mono), turn.now)
        turn.pools.add(base_of(straight.pool))
    straight.next += count
    straight.offered -= count
    straight.since = turn.mono
    if not straight.offered:
        _forget_offer(turn, straight)
    turn.memory.lanes.remove(*straight.lane, count)
    turn.memory.lanes.started(straight.pool, straight.share, count)
    turn.memory.arm(GRANT_DUE, turn.mono + UNSEEN_SECONDS)
    turn.changed.add(run.number)
    turn.workers = True


def _post(turn: Turn, worker: Worker, straight: Straight, some: list[Given]) -> None:
    """Tell a worker which items it is given, in messages that are not too large."""
    shared = straight.shared
    items: list[Any] = []
    size = first = 0
    for at, given in enumerate(some):
        own = own_input(straight, given.raw)
        items.append((item_key(given.name, given.item), own))
        size += sum(map(_bytes_of, own.values()))
        if size > GROUP_BYTES or at + 1 == len(some):
            before = some[first]
            worker.post_works(
                before.attempt,
                items,
                size,
                task=task_of(straight.lane[3]),
                code_hash=before.code_hash,
                address=(f"{straight.address}[", f"]/{straight.step.label}"),
                token=turn.token,
                step=before.step,
                input=shared,
            )
            items, size, first = [], 0, at + 1


def _bytes_of(value: Any) -> int:
    """About how many bytes a value has as JSON."""
    if isinstance(value, str):
        return len(value)
    return len(dump(value)) if isinstance(value, list | dict) else 10


# How it ends


def end(turn: Turn, run: RunRow, straight: Straight, ends: Ends) -> PartRow:
    """Items of an each ended well: they are kept, and the each counts them; the each."""
    each = turn.unit.parts.need(straight.each)
    done = _done(turn.now, ends)
    _count(turn, run, straight, each, done)
    folding.keep(turn, run, straight, done)
    attempts = [one.given.attempt for one in done]
    worker = turn.memory.workers[done[0].given.worker]
    worker.release_all(attempts)
    worker.last, worker.last_at = attempts[-1], turn.now
    if not worker.in_hand:
        worker.idle_since = turn.now
    for one in done:
        _is_over(turn, one.given)
    count = len(done)
    each.unmade -= count
    if straight.do.wanted:
        each.size += sum([max(len("null"), size_of(one.output)) + 1 for one in done])
    else:
        each.size += (len("null") + 1) * count
    turn.count_children(each, count)
    items_done(turn, run, each, straight.do, count)
    run.attempts += count
    turn.unit.runs.touch(run)
    turn.memory.lanes.ended(straight.pool, straight.share, count)
    if straight.pool:
        _leave_pool(turn, straight, attempts)
    turn.changed.add(run.number)
    turn.settling.add(run.number)
    turn.workers = True
    return each


def _done(now: int, ends: Ends) -> list[folding.Done]:
    """When each item began and how long it took, from the report of its end."""
    done = []
    for given, item, output in ends:
        ended = int(item.ended_ago * 1_000_000)
        begun = ended if item.begun_ago is None else int(item.begun_ago * 1_000_000)
        since = now - given.at
        began = since - begun if since > begun else 0
        took = since - ended - began
        cpu = None if item.cpu is None else round(item.cpu * 1_000_000)
        done.append(folding.Done(given, began, max(0, took), item.pid, cpu, item.memory, output))
    return done


def _count(
    turn: Turn, run: RunRow, straight: Straight, each: PartRow, done: list[folding.Done]
) -> None:
    """Count items that are done, and how long they waited and took."""
    step = straight.step.index
    turn.flow.count(each, step, "done", len(done))
    turn.flow.took(each, step, *[one.took for one in done])
    ended = [(one.given.at + one.began + one.took, one.began, one.took) for one in done]
    turn.hours.end_all(run.workflow, straight.plan_address, "done", ended)
    turn.tally.all_done([one.began / 1_000_000 for one in done])


def _leave_pool(turn: Turn, straight: Straight, attempts: list[int]) -> None:
    """Remove done items from their pool, so that waiting steps may start."""
    pools, pool = turn.memory.pools, straight.pool
    gate, settings = pools.gate(pool), pools.need(pool)
    for attempt in attempts:
        gate.end(straight.run, attempt, turn.mono)
        settings.count_begun(turn.mono)
    gate.note(gate.closed(turn.mono), turn.now)
    turn.memory.lanes.reopen(pool)
    if not turn.memory.lanes.waiting_in(pool):
        pools.tidy(pool, turn.mono)
    turn.pools.add(pool)


def _is_over(turn: Turn, given: Given) -> None:
    """Forget an item that has rows now; delete its grant with the last item."""
    del turn.memory.grants.attempts[given.attempt]
    del given.straight.given[given.item]
    given.grant.left -= 1
    if not given.grant.left:
        grants.drop(turn.unit, given.grant.attempt)


def unfold(turn: Turn, given: Given) -> None:
    """Give an item that a worker has in hand the rows that it would have had all along."""
    straight = given.straight
    run, each = turn.run(straight.run), turn.unit.parts.need(straight.each)
    _is_over(turn, given)
    each.unmade -= 1
    value, _ = item_of(given.raw, straight.facts)
    item = add_part(turn, run, straight.do, each, given.item, value, given.name, id=given.part)
    prepared = Prepared(input_of(straight, given.raw, value), straight.pool)
    step = add_step(turn, run, straight.step, item, prepared, id=given.step)
    turn.move_step(step, StepEvent.OPEN)
    item.started_at = given.at
    turn.take_out_of_lane(step)
    add_first_attempt(
        turn,
        run,
        step,
        id=given.attempt,
        worker=given.worker,
        code_hash=given.code_hash,
        at=given.at,
    )
    turn.changed.add(run.number)


def unfold_attempt(turn: Turn, attempt: int) -> None:
    """The same by an attempt, if it is one that has no rows."""
    if given := turn.memory.grants.attempts.get(attempt):
        unfold(turn, given)


def unfold_of_worker(turn: Turn, worker: str) -> None:
    """The same for all that a worker has in hand."""
    for given in [one for one in turn.memory.grants.attempts.values() if one.worker == worker]:
        unfold(turn, given)


def withdraw_of_run(turn: Turn, run: int) -> list[PartRow]:
    """Offer nothing more of a run, and give rows to what workers have of it; its eaches."""
    found = [one for one in turn.memory.grants.eaches.values() if one.run == run]
    for straight in found:
        withdraw(turn, straight)
    return [turn.unit.parts.need(one.each) for one in found]


def room_in_pool(turn: Turn, straight: Straight) -> int:
    """How many items may be given before the pool is full."""
    if not straight.pool:
        return straight.offered
    gate = turn.memory.pools.gate(straight.pool)
    limit = gate.settings.limit
    return straight.offered if limit is None else max(1, limit - gate.in_use.total())


def withdraw_of_pool(turn: Turn, pool: str) -> list[Straight]:
    """Give rows to what workers have of a pool, and offer nothing more in it; the eaches."""
    found = [one for one in turn.memory.grants.eaches.values() if one.pool == pool]
    for straight in found:
        withdraw(turn, straight)
    return found


def unseen(turn: Turn) -> list[Straight]:
    """Give rows to items that were given a while ago; return eaches whose offer no worker took."""
    due = turn.mono - UNSEEN_SECONDS
    known = turn.memory.grants
    for given in [one for one in known.attempts.values() if one.mono <= due]:
        unfold(turn, given)
    left = [one.mono for one in known.attempts.values()]
    late = [one for one in known.eaches.values() if one.offered and one.since <= due]
    left += [one.since for one in known.eaches.values() if one.offered and one.since > due]
    if left:
        turn.memory.arm(GRANT_DUE, min(left) + UNSEEN_SECONDS)
    return late


def recall(turn: Turn) -> None:
    """After a restart: give rows to all items that workers have in hand."""
    for row in grants.all_of(turn.unit):
        have = grants.ended_items(turn.unit, row)
        each = turn.unit.parts.need(row.each)
        straight = straight_of(turn, turn.run(each.run), each)
        assert straight is not None, "an item that was given can get rows"
        missing = [more for more in range(row.items) if row.item + more not in have]
        grant = Grant(row.attempt, len(missing))
        if not missing:
            grants.drop(turn.unit, row.attempt)
        for more in missing:
            index = row.item + more
            raw = raw_item(turn, each, straight.facts, index)
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
                turn.mono,
                row.attempt + more,
                row.part + more,
                row.step + more,
            )
            straight.given[index] = turn.memory.grants.attempts[given.attempt] = given
            unfold(turn, given)
    turn.unit.flush()


def run_of_attempt(turn: Turn, attempt: int) -> int:
    """The run of an attempt in hand, with rows or without."""
    given = turn.memory.grants.attempts.get(attempt)
    return given.straight.run if given else turn.unit.attempts.need(attempt).run
