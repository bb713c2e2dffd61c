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

from dataclasses import dataclass
from itertools import islice, takewhile

from yarnloom.engine.commands import ReportItem
from yarnloom.engine.dispatch.worker_orders import tokens_begin
from yarnloom.engine.part_contents.inputs import PreparedStep
from yarnloom.engine.part_contents.items import Items, Window, item_of
from yarnloom.engine.part_contents.lists import name_of
from yarnloom.engine.part_contents.new_rows import NewRows
from yarnloom.engine.rules.limits import Pools
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.rules.states import RunState, StepEvent
from yarnloom.engine.state.due_times import GRANT_DUE, Timers
from yarnloom.engine.state.given_items import Given, Grant, Grants, Straight
from yarnloom.engine.state.plans import task_of
from yarnloom.engine.state.pool_places import PoolPlaces
from yarnloom.engine.state.progress import Progress
from yarnloom.engine.state.settings import EngineSettings, Folder
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Afterwards, Changes
from yarnloom.engine.state.transitions import Moves, count_children
from yarnloom.engine.state.workers import Worker, Workers
from yarnloom.engine.without_rows import item_batches
from yarnloom.engine.without_rows.item_batches import Segments
from yarnloom.engine.without_rows.item_inputs import ItemInputs, input_of, own_input
from yarnloom.plan import item_key
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.runs import given_item_records
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


@dataclass(slots=True)
class GrantedItems:
    """Gives workers items without rows."""

    unit: Unit
    time: RunTime
    changes: Changes
    settings: EngineSettings
    folder: Folder
    counts: Statistics
    afterwards: Afterwards
    progress: Progress
    moves: Moves
    pool_places: PoolPlaces
    workers: Workers
    queue: StepQueue
    pools: Pools
    grants: Grants
    timers: Timers
    item_inputs: ItemInputs
    items: Items
    new_rows: NewRows
    segments: Segments

    # Whether an each's items go straight

    def offer(self, run: RunRow, each: PartRow, limits: Window, *, barred: bool) -> bool:
        """Offer the next items of an each to workers; False if its items need rows from the start.

        Args:
            run: its run.
            each: the each.
            limits: how many may be under way.
            barred: whether nothing more begins in it.
        """
        known = self.grants
        straight = known.eaches.get(each.id)
        rated = straight is not None and self.pools.rated(straight.pool)
        if barred or rated or not self._goes_on_as_usual(run, each):
            if straight is not None:
                self.withdraw(straight)
            return False
        if straight is None:
            if each.id in known.not_straight or not _somebody_is_quick(self.workers):
                return False
            straight = self.item_inputs.straight_of(run, each)
            if straight is None or self.pools.rated(straight.pool):
                known.not_straight.add(each.id)
                return False
            known.eaches[each.id] = straight
        under_way = each.begun + each.following + len(straight.given)
        if limits.passes_over:
            under_way -= each.sleeping_children
        self._set_offer(
            straight, max(0, min(each.total - straight.next, limits.straight - under_way))
        )
        return True

    def _goes_on_as_usual(self, run: RunRow, each: PartRow) -> bool:
        usual = run.state == RunState.RUNNING and not run.renewed and not run.step_actions
        begun = run.started_at is not None and each.rest_state is None and not each.items_to_rerun
        return self.settings.straight and usual and begun and run.number not in self.queue.paused

    def _set_offer(self, straight: Straight, count: int) -> None:
        more = count - straight.offered
        if not more:
            return
        lanes, offers = self.queue.lanes, self.grants.offers
        if more > 0:
            lanes.add(*straight.lane, more)
        else:
            lanes.remove(*straight.lane, -more)
        straight.offered = count
        if count:
            offers.setdefault(straight.lane, {})[straight.each] = straight
            straight.since = self.time.mono
            self.timers.set(GRANT_DUE, self.time.mono + UNTAKEN_SECONDS)
        else:
            _forget_offer(self.grants, straight)

    def withdraw(self, straight: Straight) -> None:
        """Offer nothing more of an each, and give rows to what workers have of it."""
        self._set_offer(straight, 0)
        for given in list(straight.given.values()):
            self.unfold(given)
        self.grants.eaches.pop(straight.each, None)

    # Giving

    def give(self, worker: Worker, straight: Straight, count: int) -> None:
        """Give a worker the next items of an each."""
        unit, run = self.unit, self.unit.run(straight.run)
        each = unit.parts.need(straight.each)
        task = task_of(straight.lane[3])
        code_hash = worker.offer.tasks[task]
        attempt, part, step = (unit.new_ids(one, count) for one in ("attempts", "parts", "steps"))
        grant = Grant(attempt, count)
        row = given_item_records.GrantRow(
            *(
                attempt,
                each.id,
                straight.next,
                count,
                part,
                step,
                worker.id,
                code_hash,
                self.time.now,
            )
        )
        given_item_records.keep(unit, row)
        values = self.items.raw_items(each, straight.facts, straight.next, count)
        name = straight.facts.name
        now, mono, known = (self.time.now, self.time.mono, self.grants.attempts)
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
        _post(self.folder, worker, straight, [known[one] for one in attempts])
        self.pool_places.enter(straight.pool, run.number, attempts)
        straight.next += count
        straight.offered -= count
        straight.since = self.time.mono
        if not straight.offered:
            _forget_offer(self.grants, straight)
        self.queue.lanes.remove(*straight.lane, count)
        self.queue.lanes.started(straight.pool, straight.share, count)
        self.timers.set(GRANT_DUE, self.time.mono + UNTAKEN_SECONDS)
        self.changes.runs.add(run.number)
        self.changes.workers = True

    # How it ends

    def end(self, run: RunRow, straight: Straight, ends: Ends) -> PartRow:
        """Items of an each ended well: they are kept, and the each counts them; the each."""
        each = self.unit.parts.need(straight.each)
        done = _done(self.time.now, ends)
        _count(self.counts, run, straight, each, done)
        self.segments.keep(run, straight, done)
        attempts = [one.given.attempt for one in done]
        worker = self.workers[done[0].given.worker]
        worker.release_all(attempts)
        worker.last, worker.last_at = attempts[-1], self.time.now
        if not worker.in_hand:
            worker.idle_since = self.time.now
        for one in done:
            self._is_over(one.given)
        count = len(done)
        each.unmade -= count
        if straight.do.wanted:
            each.size += sum([max(len("null"), size_of(one.output)) + 1 for one in done])
        else:
            each.size += (len("null") + 1) * count
        count_children(self.unit, each, count)
        self.progress.items_done(run, each, straight.do, count)
        run.attempts += count
        self.unit.runs.touch(run)
        self.queue.lanes.ended(straight.pool, straight.share, count)
        self.pool_places.leave(straight.pool, run.number, attempts, begun=True)
        self.changes.runs.add(run.number)
        self.afterwards.settling.add(run.number)
        self.changes.workers = True
        return each

    def _is_over(self, given: Given) -> None:
        """Forget an item that has rows now; delete its grant with the last item."""
        del self.grants.attempts[given.attempt]
        del given.straight.given[given.item]
        given.grant.left -= 1
        if not given.grant.left:
            given_item_records.drop(self.unit, given.grant.attempt)

    def unfold(self, given: Given) -> None:
        """Give an item that a worker has in hand the rows that it would have had all along."""
        straight = given.straight
        run, each = self.unit.run(straight.run), self.unit.parts.need(straight.each)
        self._is_over(given)
        each.unmade -= 1
        value, _ = item_of(given.raw, straight.facts)
        item = self.new_rows.add_part(
            run, straight.do, each, given.item, value, given.name, id=given.part
        )
        prepared = PreparedStep(input_of(straight, given.raw, value), straight.pool)
        step = self.new_rows.add_step(run, straight.step, item, prepared, id=given.step)
        self.moves.step(step, StepEvent.OPEN)
        item.started_at = given.at
        self.queue.remove(step)
        self.new_rows.add_first_attempt(
            run, step, id=given.attempt, worker=given.worker, code_hash=given.code_hash, at=given.at
        )
        self.changes.runs.add(run.number)

    def unfold_attempt(self, attempt: int) -> None:
        """The same by an attempt, if it is one that has no rows."""
        if given := self.grants.attempts.get(attempt):
            self.unfold(given)

    def unfold_of_worker(self, worker: str) -> None:
        """The same for all that a worker has in hand."""
        for given in [
            attempt for attempt in self.grants.attempts.values() if attempt.worker == worker
        ]:
            self.unfold(given)

    def withdraw_of_run(self, run: int) -> list[PartRow]:
        """Offer nothing more of a run, and give rows to what workers have of it; its eaches."""
        found = [each for each in self.grants.eaches.values() if each.run == run]
        for straight in found:
            self.withdraw(straight)
        return [self.unit.parts.need(one.each) for one in found]

    def withdraw_of_pool(self, pool: str) -> list[Straight]:
        """Give rows to what workers have of a pool, and offer nothing more in it; the eaches."""
        found = [each for each in self.grants.eaches.values() if each.pool == pool]
        for straight in found:
            self.withdraw(straight)
        return found

    def unseen(self) -> list[Straight]:
        """Give rows to items not heard of; return the eaches whose offer no worker took."""
        now, known = self.time.mono, self.grants
        # The dict has them in the order in which they were given.
        unheard = takewhile(lambda one: one.mono <= now - UNSEEN_SECONDS, known.attempts.values())
        for given in list(islice(unheard, UNSEEN_AT_ONCE)):
            self.unfold(given)
        offered = [each for each in known.eaches.values() if each.offered]
        late = [each for each in offered if each.since <= now - UNTAKEN_SECONDS and not each.given]
        first = next(iter(known.attempts.values()), None)
        times = [] if first is None else [max(now + 1.0, first.mono + UNSEEN_SECONDS)]
        times += [max(now, each.since) + UNTAKEN_SECONDS for each in offered if each not in late]
        if times:
            self.timers.set(GRANT_DUE, min(times))
        return late

    def rebuild(self) -> None:
        """After a restart: give rows to all items that workers have in hand."""
        for row in given_item_records.all_of(self.unit):
            have = given_item_records.ended_items(self.unit, row)
            each = self.unit.parts.need(row.each)
            straight = self.item_inputs.straight_of(self.unit.run(each.run), each)
            assert straight is not None, "an item that was given can get rows"
            missing = [more for more in range(row.items) if row.item + more not in have]
            grant = Grant(row.attempt, len(missing))
            if not missing:
                given_item_records.drop(self.unit, row.attempt)
            for more in missing:
                index = row.item + more
                raw = self.items.raw_item(each, straight.facts, index)
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
                    self.time.mono,
                    row.attempt + more,
                    row.part + more,
                    row.step + more,
                )
                straight.given[index] = self.grants.attempts[given.attempt] = given
                self.unfold(given)
        self.unit.flush()

    def run_of_attempt(self, attempt: int) -> int:
        """The run of an attempt in hand, with rows or without."""
        given = self.grants.attempts.get(attempt)
        return given.straight.run if given else self.unit.attempts.need(attempt).run


def _somebody_is_quick(workers: Workers) -> bool:
    """Whether a worker's tasks are so short that it is handed more than it has places."""
    return any(worker.offer.ahead and worker.session.registered for worker in workers.values())


def _forget_offer(grants: Grants, straight: Straight) -> None:
    offers = grants.offers
    of_lane = offers.get(straight.lane)
    if of_lane is not None:
        of_lane.pop(straight.each, None)
        if not of_lane:
            del offers[straight.lane]


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
                token=tokens_begin(folder),
                step=before.step,
                input=shared,
            )
            items, size, first = [], 0, at + 1


def _bytes_of(value: JsonValue) -> int:
    """About how many bytes a value has as JSON."""
    if isinstance(value, str):
        return len(value)
    return len(dump(value)) if isinstance(value, list | dict) else 10


def _done(now: int, ends: Ends) -> list[item_batches.Done]:
    """When each item began and how long it took, from the report of its end."""
    done = []
    for given, item, output in ends:
        ended = int(item.ended_ago * 1_000_000)
        begun = ended if item.begun_ago is None else int(item.begun_ago * 1_000_000)
        since = now - given.at
        began = since - begun if since > begun else 0
        took = since - ended - began
        cpu = None if item.cpu is None else round(item.cpu * 1_000_000)
        done.append(
            item_batches.Done(given, began, max(0, took), item.pid, cpu, item.memory, output)
        )
    return done


def _count(
    counts: Statistics,
    run: RunRow,
    straight: Straight,
    each: PartRow,
    done: list[item_batches.Done],
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
