"""Why a step is not running: what stands in its way, from the same questions that decide.

Whether a pool is closed (`Gate.obstacles`), whether a worker fits (`Worker.misfit`), takes from the
pool and has a place: handing out asks these, and so does this. All obstacles are named at once.
"""

from __future__ import annotations

import difflib
import json
from collections.abc import Iterator, Mapping
from itertools import islice
from typing import Any

from yarnloom.engine.commands import ListQuiet, Why
from yarnloom.engine.compact import granted_items
from yarnloom.engine.parts.list_jobs import READ
from yarnloom.engine.queries.views import (
    step_progress,
)
from yarnloom.engine.rules.fair_queue import MOST_AHEAD
from yarnloom.engine.rules.limits import Closed, Shut, base_of
from yarnloom.engine.rules.states import (
    HELD_RUN,
    NOT_BEGUN,
    RUN_ENDED,
    Entry,
    RunState,
    StepState,
)
from yarnloom.engine.state.contracts import (
    Misfit,
    needs_of,
    task_of,
)
from yarnloom.engine.state.transaction import BEGIN_SECONDS, Transaction
from yarnloom.engine.state.workers import (
    Worker,
)
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import AttemptRow, PartRow, RunRow, StepRow, paused_runs
from yarnloom.store import run_records as store
from yarnloom.units import (
    duration_text,
    iso_time,
)

View = dict[str, Any]
SHOWN = 50
NAMED = 3
TAKEN_BACK_OFTEN = 3
NO_PLACE, ELSEWHERE, DRAINING, TROUBLE = "no_place", "elsewhere", "draining", "trouble"
FLAWS = (TROUBLE, DRAINING, ELSEWHERE, *reversed(Misfit))
"""Why a worker does not take a step, what is mended most easily first."""


def why(transaction: Transaction, command: Why) -> View:
    """What a run, or a part of it, waits for.

    Returns:
        The run's number and state, reasons that hold for all of it, and an entry for each step
        that has not ended and each part that has not begun, in plan order, up to `SHOWN`.

    Raises:
        NotFound: there is no such run.
    """
    run = transaction.run(command.run)
    teller = _Teller(transaction, run, command)
    entries = [] if run.state in RUN_ENDED else teller.entries(command)
    return {
        "run": run.number,
        "workflow": run.workflow,
        "state": str(run.state),
        "reasons": list(teller.of_run()),
        "waits": [entry for _, entry in entries[:SHOWN]],
        "more": len(entries) > SHOWN,
    }


def list_quiet(transaction: Transaction, _: ListQuiet) -> list[int]:
    """Runs with an attempt that says nothing of its progress for longer than it is to."""
    found = set()
    for attempt_id, heard in transaction.memory.attempts.heard.items():
        attempt = transaction.unit.attempts.need(attempt_id)
        run = transaction.run(attempt.run)
        step = transaction.unit.steps.need(attempt.step)
        limit = transaction.plan(run).nodes[step.node].rules.quiet_for
        if limit is not None and transaction.mono - heard >= limit:
            found.add(run.number)
    return sorted(found)


def _reason(kind: str, text: str, **facts: Any) -> View:
    return {"kind": kind, "text": text, **facts}


class _Teller:
    def __init__(self, transaction: Transaction, run: RunRow, command: Why) -> None:
        self.transaction = transaction
        self.waiters = command.waiters
        self.order = command.order
        self.run = run
        self.plan: Plan = transaction.plan(run)

    def of_run(self) -> Iterator[View]:
        """What holds for all of a run."""
        run = self.run
        if run.state in RUN_ENDED:
            yield _reason("ended", f"the run has ended: it is {run.state}")
            return
        if run.stop is not None:
            message = json.loads(run.error or "{}").get("message", f"told to stop: {run.stop}")
            yield _reason("stopping", message)
        if run.state in HELD_RUN:
            yield self.of_pause(None, "is paused" if run.state == RunState.PAUSED else "is pausing")
        if run.entered == Entry.AHEAD:
            yield self.of_start()
        if run.entered == Entry.HELD:
            others = store.runs_under_way(self.transaction.unit, run.workflow)
            numbers = [number for number, entered in others if entered]
            text = (
                f"waits until {_runs(numbers)} of {run.workflow} {_has(numbers)} ended: "
                f"at most {self.plan.at_once} are under way at once"
            )
            yield _reason("busy", text, at_once=self.plan.at_once, runs=numbers[:SHOWN])

    def of_start(self) -> View:
        """A start time that is ahead."""
        run = self.run
        if run.start_at is None or run.start_at <= self.transaction.now:
            return _reason("scheduled", "is one of many that were started, and begins in its turn")
        text = f"starts at {iso_time(run.start_at)}"
        if run.start_by is not None:
            text += f", and ends as expired if it has not begun by {iso_time(run.start_by)}"
        return _reason("scheduled", text, start_at=iso_time(run.start_at))

    def entries(self, command: Why) -> list[tuple[bytes, View]]:
        """Everything in the scope that has not ended, in plan order."""
        unit = self.transaction.unit
        found = [
            (step.rank, self.of_step(step))
            for step in unit.steps.select(
                "run = ? AND ended_at IS NULL AND rank >= ? AND rank < ? ORDER BY rank LIMIT ?",
                *(self.run.number, command.rank, command.rank + b"\xff" * 5, SHOWN + 1),
            )
        ]
        parts = unit.parts.select(
            "run = ? AND ended_at IS NULL AND inside IS ? AND value IS NULL ORDER BY rank",
            *(self.run.number, command.item),
        )
        if command.item is not None:
            parts.insert(0, unit.parts.need(command.item))
        if self.run.entered == Entry.ENTERED:
            for part in parts[: SHOWN + 1]:
                if part.outcome is None and part.rest_state is None:
                    found += islice(self.to_come(part, command.rank), SHOWN + 1)
        return sorted(found, key=lambda one: one[0])

    # What has not begun

    def to_come(self, part: PartRow, scope: bytes) -> Iterator[tuple[bytes, View]]:
        """What has not begun in a part that has."""
        node = self.plan.nodes[part.node]
        if node.kind is Kind.EACH:
            if part.awaits is not None and (part.rank + b"\xff").startswith(scope):
                yield part.rank + b"\xff", self.of_chore(part, node)
            if part.unmade + part.again and (part.rank + b"\xff").startswith(scope):
                yield part.rank + b"\xff", self.of_items(part, node)
            return
        unit, here = self.transaction.unit, "= ? AND state <> 'waiting'"
        begun = {row.node for row in unit.parts.select(f"parent {here}", part.id)}
        begun |= {row.node for row in unit.steps.select(f"part {here}", part.id)}
        for index in node.children:
            child = self.plan.nodes[index]
            rank = part.rank + child.position.to_bytes(4, "big")
            if index not in begun and rank.startswith(scope):
                yield rank, self.of_child(part, node, child)

    def of_child(self, part: PartRow, node: Node, child: Node) -> View:
        """Which earlier parts a child of a part waits for."""
        if node.kind is Kind.SEQUENCE:
            earlier = [node.children[child.position - 1]] if child.position else []
        else:
            earlier = child.waits_for
        names = [self.address(self.plan.nodes[one], part) for one in earlier]
        text = f"waits for {_listed(names)}" if names else "begins in a moment"
        return self.entry(child, part, "waiting", [_reason("earlier", text, parts=names)])

    def of_chore(self, part: PartRow, node: Node) -> View:
        """What is done beside the service, that an each waits for."""
        if part.awaits == READ:
            reason = _reason("reading", "its list is looked through")
        else:
            text = f"the outputs of its {part.total:,} items are put together in a file"
            reason = _reason("gathering", text, items=part.total)
        return self.entry(node, self.transaction.around(part), part.state, [reason])

    def of_items(self, part: PartRow, node: Node) -> View:
        """Why an each has not made all its items."""
        assert node.each is not None
        limit = node.each.at_once
        count = part.unmade + part.again
        items = "1 item has not begun" if count == 1 else f"{count:,} items have not begun"
        text = f"{items}: {limit} at once" if limit else f"{items}: those before come first"
        reason = _reason("at_once", text, at_once=limit, items=count)
        return self.entry(node, self.transaction.around(part), part.state, [reason])

    # Steps

    def of_step(self, step: StepRow) -> View:
        """What a step waits for that could begin, or did."""
        node, around = self.plan.nodes[step.node], self.transaction.unit.parts.need(step.part)
        attempt = None if step.open is None else self.transaction.unit.attempts.need(step.open)
        worker = self.transaction.memory.workers.get(attempt.worker) if attempt else None
        name = worker.name if worker else "a worker"
        facts: View = {}
        if step.state == StepState.BACKING_OFF:
            reasons = [self.of_back_off(step)]
        elif step.state == StepState.RESTING:
            reasons = [self.of_rest(step)]
        elif step.state == StepState.PAUSED and step.held is not None:
            reasons = [self.of_pause(self.address(node, around), "is paused")]
        elif attempt is None and self.run.state in HELD_RUN:
            reasons = [_reason("held", "its run is paused")]
        elif attempt is None:
            reasons = list(obstacles(self.transaction, step, self.waiters, order=self.order))
            reasons += self.of_taken_back(step)
        elif attempt.begun_at is None:
            reasons = [*self.of_worker(worker), self.of_hand_out(attempt, name)]
        else:
            spent = duration_text(round((self.transaction.now - attempt.begun_at) / 1_000_000, 1))
            text = f"has run on worker {name} for {spent}"
            reasons = [
                *self.of_worker(worker),
                *self.of_silence(step, attempt),
                _reason("running", text, worker=name),
            ]
            if attempt.id in self.waiters:
                other = self.waiters[attempt.id]
                reasons.append(_reason("waits_for_run", f"waits for run {other}", runs=[other]))
            facts = {"attempt": attempt.id, "begun_at": iso_time(attempt.begun_at)}
        if step.stop is not None:
            reasons.append(_reason("stop_asked", f"told to stop: {step.stop}", why=step.stop))
        if step.deadline_at is not None:
            facts["deadline_at"] = iso_time(step.deadline_at)
        return {**self.entry(node, around, step.state, reasons), **facts}

    def of_worker(self, worker: Worker | None) -> Iterator[View]:
        """That a worker is not heard of, and when it is given up."""
        if worker is None:
            return
        left = worker.session.lease_until - self.transaction.mono
        silent = self.transaction.settings.lease - left
        if silent < self.transaction.settings.lease / 2:
            return
        at = iso_time(self.transaction.now + round(max(0.0, left) * 1_000_000))
        text = f"worker {worker.name} was not heard of for {_left(silent)}, and is given up at {at}"
        yield _reason("worker_silent", text, worker=worker.name, given_up_at=at)

    def of_hand_out(self, attempt: AttemptRow, worker: str) -> View:
        """Which worker has it, and since when if it does not begin there."""
        spent = (self.transaction.now - attempt.handed_at) / 1_000_000
        facts = {"worker": worker, "handed_at": iso_time(attempt.handed_at)}
        if spent < BEGIN_SECONDS:
            return _reason("handed_out", f"handed to worker {worker}, begins there", **facts)
        since = f"since {iso_time(attempt.handed_at)}, {duration_text(round(spent))} ago"
        text = f"worker {worker} has it {since}, and has not begun it; it is to give it back"
        return _reason("handed_out", text, **facts)

    def of_silence(self, step: StepRow, attempt: AttemptRow) -> Iterator[View]:
        """That an attempt has said nothing of its progress for too long."""
        limit = self.plan.nodes[step.node].rules.quiet_for
        heard = self.transaction.memory.attempts.heard.get(attempt.id)
        if limit is None or heard is None or self.transaction.mono - heard < limit:
            return
        silent = _left(self.transaction.mono - heard)
        said = step_progress({"saved": step.saved, "state": step.state}) or {}
        at = "" if said.get("done") is None else f", at {said['done']:,}"
        text = f"is stuck: no word of progress for {silent}{at}"
        yield _reason("quiet", text, quiet_for=limit)

    def of_taken_back(self, step: StepRow) -> Iterator[View]:
        """That workers got a step and did not begin it, again and again."""
        count, last = paused_runs.taken_back(self.transaction.unit, step.id, NOT_BEGUN)
        if count >= TAKEN_BACK_OFTEN:
            text = f"was taken back {count} times, since it did not begin; the last time: {last}"
            yield _reason("taken_back", text, times=count)

    def of_pause(self, address: str | None, what: str) -> View:
        """Who paused the run or a step of it, when and why."""
        found = paused_runs.paused_by(self.transaction.unit, self.run.number, address)
        if found is None:
            return _reason("paused", what)
        who, at, reason = found
        text = f"{what} by {who}" + (f": {reason}" if reason else "")
        return _reason("paused", text, by=who, at=iso_time(at), reason=reason)

    def of_rest(self, step: StepRow) -> View:
        """Until when a step rests."""
        left = max(0.0, ((step.due_at or 0) - self.transaction.now) / 1_000_000)
        text = f"rests, and is called again in {duration_text(round(left, 1))}"
        return _reason("rest", text, until=iso_time(step.due_at))

    def of_back_off(self, step: StepRow) -> View:
        """Until when a step backs off, and after what."""
        error = json.loads(step.error or "{}")
        left = max(0.0, ((step.due_at or 0) - self.transaction.now) / 1_000_000)
        text = f"tries again in {duration_text(round(left, 1))}, after try {step.tries}"
        if error.get("type"):
            text += f" failed: {error['type']}: {error.get('message', '')}"
        return _reason("back_off", text, until=iso_time(step.due_at), tries=step.tries)

    def entry(self, node: Node, around: PartRow, state: str, reasons: list[View]) -> View:
        """What is told of a part or step."""
        return {"address": self.address(node, around), "state": str(state), "reasons": reasons}

    def address(self, node: Node, around: PartRow) -> str:
        """Its address within the run."""
        return self.transaction.address(self.run, node, around).partition("/")[2]


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
        yield _reason("moment", "a worker has a place for it and takes it in a moment")


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
        f"can never begin: {places} held by {_runs(runs)}, in which a task waits for this run. "
        "Give the worker more places, or do not wait in a task: end it, and be told by `on_run_end`"
    )
    yield _reason("itself", text, runs=runs)


def _run_of(transaction: Transaction, attempt: int) -> int:
    """The run of an attempt in hand, with rows or without."""
    leg = transaction.memory.relays.attempts.get(attempt)
    return leg.run if leg else granted_items.run_of_attempt(transaction, attempt)


def _of_pool(transaction: Transaction, step: StepRow) -> Iterator[View]:
    if not step.pool:
        return
    gate = transaction.memory.pools.gate(step.pool)
    for closed in gate.obstacles(transaction.mono):
        facts = {"pool": step.pool, "limit": gate.settings.limit, "in_use": gate.in_use.total()}
        yield _reason(f"pool_{closed.why}", _pool_text(transaction, step.pool, closed), **facts)


def _pool_text(transaction: Transaction, pool: str, closed: Closed) -> str:
    gate = transaction.memory.pools.gate(pool)
    match closed.why:
        case Shut.PAUSED:
            paused = gate.settings.paused or {}
            reason = f": {paused['reason']}" if paused.get("reason") else ""
            return f"pool {base_of(pool)} is paused by {paused.get('by')}{reason}"
        case Shut.HALTED:
            return f"pool {base_of(pool)} has the limit 0"
        case Shut.FULL:
            runs = [run for run, _ in gate.in_use.most_common()]
            count, limit = gate.in_use.total(), gate.settings.limit
            return f"waits for pool {pool} ({count} of {limit} in use by {_runs(runs)})"
    left = "" if closed.until is None else f", the next in {_left(closed.until - transaction.mono)}"
    return f"waits for pool {pool} (at most {gate.settings.rate} begin{left})"


def _left(seconds: float) -> str:
    return duration_text(max(0.0, round(seconds, 1 if seconds >= 1 else 3)))


def _of_workers(transaction: Transaction, step: StepRow) -> View | None:
    """Why no worker takes it; None if one has a place."""
    workers = [one for one in transaction.memory.workers.values() if one.session.registered]
    if not workers:
        return _reason("no_worker", "no worker is connected: `yarnloom worker --load MODULE:LOOM`")
    flaws = [(one, _flaws(transaction, one, step)) for one in workers]
    if not all(found for _, found in flaws):
        return None
    full = [worker for worker, found in flaws if found == [NO_PLACE]]
    if not full:
        return _no_worker_fits(transaction, step, flaws)
    places = sum(_places(one, step.contract) for one in full)
    names = [one.name for one in full]
    if not places:
        text = f"waits for a place: no process of {_listed(names)} has loaded the loom yet"
        return _reason(NO_PLACE, text, workers=names)
    taken = "the only place" if places == 1 else f"all {places} places"
    verb = "is" if places == 1 else "are"
    text = f"waits for a place: {taken} of {_listed(names)} {verb} taken"
    return _reason(NO_PLACE, text, workers=names)


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
            f"worker {_listed([one.name for one in groups[kinds]])} "
            + " and ".join(_flaw_text(step, kind, groups[kinds]) for kind in kinds)
            for kinds in nearest_first
        )
    return _reason(nearest_first[0][0], text, workers=facts)


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
            missing = {word for one in workers for word in needs_of(step.contract) - one.offer.has}
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
        yield _reason("priority", text, steps=higher, priority=step.priority)
    if shares:
        text = f"{_listed(shares, is_cut=len(shares) == MOST_AHEAD)} {_has(shares)} a turn before"
        yield _reason("turn", text, shares=shares[:SHOWN])


def _listed(names: list[str], *, is_cut: bool = False) -> str:
    """Some of many names: "a, b and 3 more", or "at least 3 more" where the list is cut."""
    shown = names[:NAMED]
    if len(names) > NAMED:
        return f"{', '.join(shown)} and {'at least ' if is_cut else ''}{len(names) - NAMED} more"
    return " and ".join([", ".join(shown[:-1]), shown[-1]] if len(shown) > 1 else shown)


def _has(named: list[Any]) -> str:
    return "has" if len(named) == 1 else "have"


def _runs(numbers: list[int]) -> str:
    return ("run " if len(numbers) == 1 else "runs ") + _listed([str(one) for one in numbers])
