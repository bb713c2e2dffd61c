"""How long a run will take from now: one fold over its plan, on sums that are kept anyway.

For each part: how long it takes by itself, and the work that is still to be done in it, by pool.
A sequence adds both. What goes on side by side takes as long as its longest part, or as all of its
work in the places that there are. An each is judged by its own items once some have ended.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from yarnloom.engine.queries.part_records import step_progress
from yarnloom.engine.rules.progress import OVERDUE
from yarnloom.engine.rules.states import StepState
from yarnloom.engine.state.time_shares import Paces
from yarnloom.plan import Kind, Node, Plan
from yarnloom.store import Row
from yarnloom.store.runs import step_queries

NO_POOL = ""
SURE = 5
"""How many items of an each have ended before its own pace counts."""

ENDED = ("done", "failed", "cancelled", "skipped")


@dataclass(slots=True)
class Left:
    """The time and work that a part still needs.

    Attributes:
        seconds: until its end, if it had all the places that it can use.
        work: attempt seconds still to be done, by pool; those in none by `NO_POOL`.
    """

    seconds: float = 0.0
    work: Counter[str] = field(default_factory=Counter)


@dataclass(frozen=True, slots=True)
class Facts:
    """The facts of a run that the fold reads.

    Attributes:
        plan: the run's.
        now: in microseconds since 1970 UTC.
        rows: by node the rows of the parts and steps that have begun outside of items.
        ran: by node how many attempts have ended, and how many microseconds they ran.
        open: attempts that run now, inside of items too: the node, and since when.
        paces: the times of earlier runs, as of the start of the run.
        places: in how many attempts can run at once.
        round: the run's.
        limit_of: tells the limit of a pool; None if it has none.
    """

    plan: Plan
    now: int
    rows: Mapping[int, Row]
    ran: Mapping[int, tuple[int, int]]
    open: list[step_queries.Running]
    paces: Paces
    places: int
    round: int
    limit_of: Callable[[str], float | None]


def seconds_left(facts: Facts) -> tuple[float | None, bool]:
    """How many seconds a run has left, None where that is not known; whether it is at least that.

    It is at least that where a step is in it of which no attempt was ever seen.
    """
    fold = _Fold(facts)
    left = fold.of(facts.plan.nodes[0])
    return (None, False) if left is None else (left.seconds, fold.at_least)


def _seconds(left: Left) -> float:
    return left.seconds


class _Fold:
    def __init__(self, facts: Facts) -> None:
        self.facts = facts
        self.nodes = facts.plan.nodes
        ended = [ran for ran in facts.ran.values() if ran[0]]
        attempts = sum(number for number, _ in ended)
        self.at_least = False
        self.mean = sum(ran for _, ran in ended) / attempts / 1e6 if attempts else None

    def of(self, node: Node) -> Left | None:
        """Return the time and work that a part still needs; None where that is not known."""
        row = self.facts.rows.get(node.index)
        if row is not None and row["ended_at"] is not None:
            return Left()
        match node.kind:
            case Kind.STEP:
                return self._of_step(node, row)
            case Kind.EACH:
                return self._of_each(node, row)
            case Kind.SEQUENCE:
                return self._of_sequence(node)
            case Kind.PARALLEL:
                return self._of_parallel(node)
            case Kind.CHOOSE:
                return self._of_choose(node, row)
            case Kind.FALLBACK:
                return self._of_fallback(node)

    def _of_choose(self, node: Node, row: Row | None) -> Left | None:
        """The branch that runs; before it is chosen the longest that is known."""
        branches = [self.nodes[child] for child in node.children]
        if row is not None:
            chosen = [branch for branch in branches if branch.index in self.facts.rows]
            lefts = [self.of(branch) for branch in chosen]
            return None if None in lefts else max(filter(None, lefts), key=_seconds, default=Left())
        known = [left for left in map(self.of, branches) if left is not None]
        return max(known, key=_seconds, default=None)

    def _of_fallback(self, node: Node) -> Left | None:
        """The part itself; what runs instead counts once it has begun."""
        first, instead = (self.nodes[child] for child in node.children)
        return self.of(instead if instead.index in self.facts.rows else first)

    def usual(self, node: Node) -> float | None:
        """How many seconds an attempt of a step takes: in this run, else in earlier ones."""
        number, ran = self.facts.ran.get(node.index, (0, 0))
        return ran / number / 1e6 if number else self.facts.paces.works.get(node.index)

    def _of_step(self, node: Node, row: Row | None) -> Left | None:
        usual = self.usual(node)
        if usual is None:
            usual, self.at_least = self.mean, True
        if row is None or row["state"] == StepState.READY:
            return None if usual is None else self._work(node, usual)
        if row["state"] == StepState.PAUSED:
            return None
        if row["due_at"] is not None:
            rest = max(0.0, (row["due_at"] - self.facts.now) / 1e6)
            return None if usual is None else self._work(node, usual, rest)
        said = step_progress(row)
        if said and said.seconds_left is not None:
            return self._work(node, float(said.seconds_left))
        return None if usual is None else self._work(node, self._rest(usual, row["started_at"]))

    def _rest(self, usual: float, since: int | None) -> float:
        """Return the seconds that an attempt still needs that runs since then."""
        taken = 0.0 if since is None else max(0.0, (self.facts.now - since) / 1e6)
        return max(usual - taken, OVERDUE * taken)

    def _work(self, node: Node, seconds: float, before: float = 0.0) -> Left:
        return Left(before + seconds, Counter({node.rules.pool or NO_POOL: seconds}))

    def _of_sequence(self, node: Node) -> Left | None:
        total = Left()
        for child in node.children:
            left = self.of(self.nodes[child])
            if left is None:
                return None
            total.seconds += left.seconds
            total.work.update(left.work)
        return total

    def _of_parallel(self, node: Node) -> Left | None:
        work: Counter[str] = Counter()
        until: dict[int, float] = {}
        waiting = list(node.children)
        while waiting:
            child = next(
                (
                    branch
                    for branch in waiting
                    if not set(self.nodes[branch].waits_for) & set(waiting)
                ),
                waiting[0],
            )
            waiting.remove(child)
            left = self.of(self.nodes[child])
            if left is None:
                return None
            before = [until.get(branch, 0.0) for branch in self.nodes[child].waits_for]
            until[child] = left.seconds + max(before, default=0.0)
            work.update(left.work)
        return Left(max([*until.values(), self._in_places(work)], default=0.0), work)

    def _in_places(self, work: Counter[str]) -> float:
        """How long work takes in the places that there are."""
        longest = work.total() / max(1, self.facts.places)
        for pool, seconds in work.items():
            limit = self.facts.limit_of(pool) if pool else None
            if limit:
                longest = max(longest, seconds / min(limit, max(1, self.facts.places)))
        return longest

    # Eaches

    def _of_each(self, node: Node, row: Row | None) -> Left | None:
        times = self.facts.paces.times.get(node.index)
        if row is None:
            usual = self.facts.paces.works.get(node.index)
            if times is None or usual is None:
                return None
            # Of parts side by side the work is kept, not the time.
            beside = node.parent is not None and self.nodes[node.parent].kind is Kind.PARALLEL
            seconds = usual / self._at_once(node) if beside else times
            return Left(seconds, Counter({self._pool_in(node): usual}))
        ended = sum(row[state] for state in ENDED)
        items = row["total"] - ended
        if row["awaits"] or not row["total"]:
            return None if times is None else Left(times)
        inside = self.facts.plan.steps_in(node)
        if self.facts.round > 1:
            return self._of_renewed(node, row)
        item = self._of_item(node, inside, ended, ended + row["running"])
        if item is None:
            return None
        running = [attempt for attempt in self.facts.open if attempt.node in inside]
        elapsed = max(1e-6, (self.facts.now - row["since"]) / 1e6)
        ran = sum(self.facts.ran.get(step, (0, 0))[1] for step in inside) / 1e6
        under_way = sum(map(self._taken, running))
        work = max(0.0, item * row["total"] - ran - under_way) if ended < SURE else None
        if work is None:
            # What was spent on items that have ended says what the others will take.
            spent = max(0.0, ran - self._begun_in_open(row, inside, ended))
            work = max(0.0, spent / ended * items - (ran - spent) - under_way)
        if ended < SURE and node.index not in self.facts.paces.works:
            return None  # too few items have ended, and there is no earlier run
        at_once = (ran + under_way) / elapsed if ended >= SURE else self._at_once(node)
        if not at_once:
            return None
        longest = max((self._rest_of_item(attempt, node) for attempt in running), default=0.0)
        seconds = max(work / at_once, longest)
        return Left(seconds, Counter({self._pool_in(node): work}))

    def _of_renewed(self, node: Node, row: Row) -> Left | None:
        """Judge an each by its present round, where some items ended in an earlier one."""
        gained, elapsed = row["fraction"] - row["fraction_then"], self.facts.now - row["since"]
        if gained <= 0 or elapsed <= 0:
            return None
        seconds = (1 - row["fraction"]) / gained * elapsed / 1e6
        return Left(seconds, Counter({self._pool_in(node): seconds}))

    def _of_item(self, each: Node, inside: list[int], ended: int, begun: int) -> float | None:
        """How many seconds of work an item is.

        Args:
            each: the each.
            inside: the nodes of all steps in it.
            ended: how many of its items have ended.
            begun: and how many have begun.
        """
        usual = [self.usual(self.nodes[step]) for step in inside]
        known = [
            # A step in an each in the item runs as often in it as that has items.
            seconds * max(1.0, self.facts.ran.get(step, (0, 0))[0] / max(1, begun))
            if self._is_nested(self.nodes[step], each)
            else seconds
            for step, seconds in zip(inside, usual, strict=True)
            if seconds is not None
        ]
        return sum(known) if known and (len(known) == len(usual) or ended >= SURE) else None

    def _is_nested(self, node: Node, each: Node) -> bool:
        """Whether a step is in another each within this one."""
        while node.parent is not None and node.parent != each.index:
            node = self.nodes[node.parent]
            if node.kind is Kind.EACH:
                return True
        return False

    def _begun_in_open(self, row: Row, inside: list[int], ended: int) -> float:
        """Seconds that were spent on steps of items that have not ended."""
        spent = 0.0
        for node in inside:
            number, ran = self.facts.ran.get(node, (0, 0))
            beyond = number - row["total"] if number > row["total"] else max(0, number - ended)
            if number:
                spent += ran / number / 1e6 * min(beyond, row["running"])
        return spent

    def _at_once(self, node: Node) -> float:
        """How many attempts can run at once in an each, as far as its own limits say."""
        assert node.each is not None
        pool = self._pool_in(node)
        limits = (node.each.at_once, self.facts.limit_of(pool) if pool else None)
        return min([max(1, self.facts.places), *(limit for limit in limits if limit)])

    def _taken(self, running: step_queries.Running) -> float:
        taken = max(0.0, (self.facts.now - running.since) / 1e6)
        usual = self.usual(self.nodes[running.node])
        return taken if usual is None else min(taken, usual)

    def _rest_of_item(self, running: step_queries.Running, each: Node) -> float:
        """How long an item takes yet in which an attempt runs."""
        node = self.nodes[running.node]
        usual = self.usual(node)
        rest = 0.0 if usual is None else self._rest(usual, running.since)
        do = self.nodes[each.children[0]]
        if node.parent == do.index and do.kind is Kind.SEQUENCE:
            later = do.children[do.children.index(node.index) + 1 :]
            rest += sum(self.usual(self.nodes[step]) or 0.0 for step in later)
        return rest

    def _pool_in(self, node: Node) -> str:
        """The pool of most steps in an each."""
        pools = Counter(
            self.nodes[one].rules.pool or NO_POOL for one in self.facts.plan.steps_in(node)
        )
        return pools.most_common(1)[0][0] if pools else NO_POOL
