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

from yarnloom.engine import folding
from yarnloom.engine.commands import ReportItem
from yarnloom.engine.items import Window, item_of, raw_item
from yarnloom.engine.memory import Given, Grant, Straight, Worker, task_of
from yarnloom.engine.placing import add_part, add_step
from yarnloom.engine.pools import base_of
from yarnloom.engine.preparing import Prepared
from yarnloom.engine.progress import items_done
from yarnloom.engine.ready import Lane, Place
from yarnloom.engine.states import RunState, StepEvent
from yarnloom.engine.straight import input_of, straight_of
from yarnloom.engine.turn import GRANT_DUE, Turn
from yarnloom.store import AttemptRow, PartRow, RunRow, grants
from yarnloom.values import size_of

UNSEEN_SECONDS = 0.5
"""After which an item has rows that a worker was given, whatever becomes of it."""

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
    token = turn.token_of
    gate = turn.memory.pools.gate(straight.pool) if straight.pool else None
    for more in range(count):
        index = straight.next + more
        raw = raw_item(turn, each, straight.facts, index)
        value, name = item_of(raw, straight.facts)
        text, inputs = input_of(straight, raw, value)
        given = Given(
            *(straight, grant, index, name, value, text, worker.id, code_hash, turn.now, turn.mono),
            *(attempt + more, part + more, step + more),
        )
        straight.given[index] = turn.memory.grants.attempts[given.attempt] = given
        worker.hold(given.attempt, task)
        worker.post(
            size=len(text),
            kind="work",
            attempt=given.attempt,
            address=straight.address_of(index, name),
            number=1,
            code_hash=code_hash,
            tries=1,
            task=task,
            input=inputs,
            token=token(given.step),
        )
        if gate:
            gate.hand_out(run.number, given.attempt)
    if gate:
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


# How it ends


def end(turn: Turn, run: RunRow, straight: Straight, ends: Ends) -> PartRow:
    """Items of an each ended well: they are kept, and the each counts them; the each."""
    each = turn.unit.parts.need(straight.each)
    done = [_done(turn, given, item, output) for given, item, output in ends]
    worker = turn.memory.workers[ends[0][0].worker]
    size = 0
    for one in done:
        given = one.given
        begun_at, took = given.at + one.began, one.took
        turn.flow.took(each, straight.step.index, took)
        turn.hours.end(
            *(run.workflow, begun_at + took, straight.plan_address, "done", one.began, took)
        )
        turn.tally.begin(one.began / 1_000_000)
        turn.tally.end(failed=False)
        if straight.do.wanted:
            size += max(len("null"), size_of(one.output)) + 1
        worker.release(given.attempt)
    folding.keep(turn, run, straight, done)
    for one in done:
        _is_over(turn, one.given)
    worker.last, worker.last_at = ends[-1][0].attempt, turn.now
    if not worker.in_hand:
        worker.idle_since = turn.now
    count = len(ends)
    turn.flow.count(each, straight.step.index, "done", count)
    each.unmade -= count
    each.size += size if straight.do.wanted else (len("null") + 1) * count
    turn.count_children(each, count)
    items_done(turn, run, each, straight.do, count)
    run.attempts += count
    turn.unit.runs.touch(run)
    turn.memory.lanes.ended(straight.pool, straight.share, count)
    if straight.pool:
        _leave_pool(turn, straight, ends)
    turn.changed.add(run.number)
    turn.settling.add(run.number)
    turn.workers = True
    return each


def _done(turn: Turn, given: Given, item: ReportItem, output: str) -> folding.Done:
    """When an item began and how long it took, from what was reported of its end."""
    begun = item.ended_ago if item.begun_ago is None else item.begun_ago
    began = max(0, turn.now - round(begun * 1_000_000) - given.at)
    took = max(0, turn.now - round(item.ended_ago * 1_000_000) - given.at - began)
    cpu = None if item.cpu is None else round(item.cpu * 1_000_000)
    return folding.Done(given, began, took, item.pid, cpu, item.memory, output)


def _leave_pool(turn: Turn, straight: Straight, ends: Ends) -> None:
    """Remove done items from their pool, so that waiting steps may start."""
    pools, pool = turn.memory.pools, straight.pool
    gate = pools.gate(pool)
    for given, _, _ in ends:
        gate.end(straight.run, given.attempt, turn.mono)
        pools.need(pool).count_begun(turn.mono)
    gate.note(gate.closed(turn.mono), turn.now)
    turn.memory.lanes.reopen(pool)
    if not turn.memory.lanes.waiting_in(pool):
        pools.tidy(pool, turn.mono)
    turn.pools.add(pool)


def _is_over(turn: Turn, given: Given) -> None:
    """Forget an item that has rows now; delete its grant with the last item."""
    del turn.memory.grants.attempts[given.attempt]
    del given.straight.given[given.index]
    given.grant.left -= 1
    if not given.grant.left:
        grants.drop(turn.unit, given.grant.attempt)


def unfold(turn: Turn, given: Given) -> None:
    """Give an item that a worker has in hand the rows that it would have had all along."""
    straight = given.straight
    run, each = turn.run(straight.run), turn.unit.parts.need(straight.each)
    _is_over(turn, given)
    each.unmade -= 1
    item = add_part(
        turn, run, straight.do, each, given.index, given.value, given.name, id=given.part
    )
    step = add_step(
        turn, run, straight.step, item, Prepared(given.text, straight.pool), id=given.step
    )
    turn.move_step(step, StepEvent.OPEN)
    item.started_at = step.ready_at = given.at
    turn.take_out_of_lane(step)
    turn.unit.attempts.add(
        AttemptRow(
            id=given.attempt,
            step=step.id,
            run=run.number,
            number=1,
            try_=1,
            worker=given.worker,
            code_hash=given.code_hash,
            ready_at=given.at,
            handed_at=given.at,
            pool=straight.pool,
            round=run.round,
        )
    )
    step.open, step.attempts = given.attempt, 1
    run.attempts += 1
    turn.unit.runs.touch(run)
    turn.expect_begin(given.attempt)
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
            value, name = item_of(raw, straight.facts)
            given = Given(
                *(
                    straight,
                    grant,
                    index,
                    name,
                    value,
                    input_of(straight, raw, value)[0],
                    row.worker,
                ),
                *(row.code_hash, row.handed_at, turn.mono),
                *(row.attempt + more, row.part + more, row.step + more),
            )
            straight.given[index] = turn.memory.grants.attempts[given.attempt] = given
            unfold(turn, given)
    turn.unit.flush()


def run_of_attempt(turn: Turn, attempt: int) -> int:
    """The run of an attempt in hand, with rows or without."""
    given = turn.memory.grants.attempts.get(attempt)
    return given.straight.run if given else turn.unit.attempts.need(attempt).run
