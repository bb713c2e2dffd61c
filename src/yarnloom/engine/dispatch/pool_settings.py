"""Pools as they are declared, made, changed and removed; each change holds from its commit on."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

from yarnloom.engine.commands import ChangePool, ListPools, MakePool, Recently, RemovePool, handles
from yarnloom.engine.commands.command import DeferredAnswer
from yarnloom.engine.records.settings import (
    LevelRecord,
    MinuteRecord,
    PauseRecord,
    PoolDeclared,
    PoolRecord,
    PoolUser,
    PoolValue,
)
from yarnloom.engine.rules.limits import Declared, PoolLimits, Pools, base_of, uses_in
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.plans import Plans, Workflows
from yarnloom.engine.state.statistics import Statistics
from yarnloom.engine.state.step_queue import StepQueue
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.errors import Conflict, InvalidInput, LoomError, NotFound, Problem, nearest
from yarnloom.plan import NAME, NAME_RULE, Plan, Rate, item_name, unknown_pools
from yarnloom.store import Unit
from yarnloom.store.runs import run_records
from yarnloom.store.workers import pool_records as store
from yarnloom.store.workers import workflow_records
from yarnloom.values import JsonObject

USERS_SHOWN = 10
VALUES_SHOWN = 20


# Declared by looms


def read_declarations(given: list[JsonObject]) -> dict[str, dict[str, Declared]]:
    """Declarations as they are published: by loom, by pool.

    Raises:
        InvalidInput: one makes no sense; every problem is named.
    """
    found: dict[str, dict[str, Declared]] = defaultdict(dict)
    problems = []
    for place, one in enumerate(given):
        name, limit, rate = one.get("name"), one.get("limit"), None
        if not isinstance(name, str) or not NAME.match(name):
            problems.append(Problem(f"/pools/{place}/name", f"found {name!r:.60}; {NAME_RULE}"))
        if limit is not None and (type(limit) is not int or limit < 0):
            expected = "expected a whole number from 0 on"
            problems.append(Problem(f"/pools/{place}/limit", f"found {limit!r:.60}; {expected}"))
        try:
            rate = read_rate(one.get("rate"))
        except LoomError as error:
            problems.append(Problem(f"/pools/{place}/rate", error.detail))
        found[str(one.get("loom"))][str(name)] = Declared(limit, rate, str(one.get("note") or ""))
    if problems:
        raise InvalidInput("nothing was published: a pool is not right", problems=problems)
    return found


def read_rate(given: JsonObject | None) -> Rate | None:
    """A rate from its JSON form."""
    return None if given is None else Rate(given.get("count", 0), given.get("per", 1.0))


def refuse_unknown_pools(pools: Pools, plans: Iterable[Plan], declared: Iterable[str] = ()) -> None:
    """See to it that there is every pool that steps name.

    Raises:
        InvalidInput: some are not there; each is named, with the nearest that is.
    """
    known = {*pools.settings, *declared}
    if problems := [unknown_pool for plan in plans for unknown_pool in unknown_pools(plan, known)]:
        raise InvalidInput("steps name pools that are not there", problems=problems)


def refuse_unknown_pool(pools: Pools, name: str) -> None:
    """See to it that there is a pool of that name.

    Raises:
        InvalidInput: there is none; the nearest is offered.
    """
    known = pools.settings
    if name not in known:
        hint = f"there is no pool {name!r}{nearest(name, known)}"
        raise InvalidInput(hint, problems=[Problem("/pool", hint)])


@dataclass(slots=True)
class PoolSettings:
    """Makes and changes pools."""

    unit: Unit
    time: RunTime
    plans: Plans
    changes: Changes
    counts: Statistics
    queue: StepQueue
    pools: Pools
    workflows: Workflows

    def declare(self, loom: str, pools: dict[str, Declared], who: str) -> None:
        """Keep what a loom says of pools; what it no longer says holds while a step needs it."""
        settings = self.pools.settings
        for name, facts in pools.items():
            if name not in settings:
                self._add(name, who)
            if settings[name].declared.get(loom) != facts:
                rate = facts.rate.to_json() if facts.rate else None
                kept = {"limit": facts.limit, "rate": rate, "note": facts.note}
                store.declare(self.unit, name, loom, kept, self.time.now)
                settings[name].declared[loom] = facts
                self._settle(name)
        dropped = [
            one for one, pool in settings.items() if loom in pool.declared and one not in pools
        ]
        named = self._named() if dropped else set()
        for name in dropped:
            if name not in named:
                store.undeclare(self.unit, name, loom)
                del settings[name].declared[loom]
                self._settle(name)

    def rebuild(self) -> None:
        """Put the pools into memory, from the store."""
        known = self.pools.settings
        for name, by_hand, paused in store.every(self.unit):
            known[name] = PoolLimits(by_hand=_read_hand(by_hand), paused=paused)
        for name, loom, facts in store.declarations(self.unit):
            rate = read_rate(facts["rate"])
            known[name].declared[loom] = Declared(facts["limit"], rate, facts["note"])
        for settings in known.values():
            settings.settle()

    def rebuild_begins(self, names: Iterable[str]) -> None:
        """Let rates know what began within their time, from the store."""
        rates = {name: self.pools.need(name).rate for name in names}
        longest = max((rate.seconds for rate in rates.values() if rate), default=None)
        if longest is None:
            return
        begins: dict[str, list[tuple[float, int]]] = defaultdict(list)
        for key, begun_at in store.begins_since(
            self.unit, self.time.now - round(longest * 1_000_000)
        ):
            for pool, weight in uses_in(key):
                if rates.get(base_of(pool)):
                    begins[pool].append((self.time.mono_of(begun_at), weight))
        for pool, times in begins.items():
            self.pools.limiter(pool).remember(times)

    # Made and changed by hand

    @handles(MakePool)
    def make_pool(self, command: MakePool) -> DeferredAnswer:
        """Make a pool by hand.

        Raises:
            InvalidInput: the name is none.
            Conflict: there is one of that name.
        """
        if not NAME.match(command.name):
            message = f"found the pool name {command.name!r:.120}; a name has {NAME_RULE}"
            raise InvalidInput(message, problems=[Problem("/name", NAME_RULE)])
        if command.name in self.pools.settings:
            raise Conflict(f"there is a pool {command.name!r} already; change it instead")
        self._add(command.name, command.who)
        self._set(command.name, command.changes)
        self._log(command.who, "make_pool", command.name, command.reason, command.changes)
        return DeferredAnswer(lambda: self.pool_record(command.name))

    @handles(ChangePool)
    def change_pool(self, command: ChangePool) -> DeferredAnswer:
        """Change a pool by hand: what is set so wins over what looms declare.

        The answer is the pool with what has begun by the change.

        Raises:
            NotFound: there is none of that name.
        """
        settings = _find(self.pools, command.name)
        if command.as_declared:
            settings.by_hand.clear()
        if command.paused is True and settings.paused is None:
            settings.paused = {"by": command.who, "at": self.time.now, "reason": command.reason}
        elif command.paused is False:
            settings.paused = None
        self._set(command.name, command.changes)
        said = {**command.changes}
        said |= {} if command.paused is None else {"paused": command.paused}
        said |= {"as_declared": True} if command.as_declared else {}
        self._log(command.who, "change_pool", command.name, command.reason, said)
        return DeferredAnswer(lambda: self.pool_record(command.name))

    @handles(RemovePool)
    def remove_pool(self, command: RemovePool) -> None:
        """Remove a pool that no step names.

        Raises:
            NotFound: there is none of that name.
            Conflict: a workflow, a task or a run that has not ended names it.
        """
        _find(self.pools, command.name)
        if command.name in self._named():
            raise Conflict(
                f"steps of a workflow, a task or a run that has not ended name pool "
                f"{command.name!r}, so it cannot be removed; its limit can be changed"
            )
        store.remove(self.unit, command.name)
        self.pools.forget(command.name)
        self.changes.pools.add(command.name)
        self._log(command.who, "remove_pool", command.name, command.reason, {})

    @handles(ListPools)
    def list_pools(self, command: ListPools) -> list[PoolRecord]:
        """Return every pool as it is now, or one.

        Raises:
            NotFound: there is none of that name.
        """
        if command.name is not None:
            _find(self.pools, command.name)
            return [self.pool_record(command.name)]
        return [self.pool_record(name) for name in sorted(self.pools.settings)]

    @handles(Recently)
    def recently(self, command: Recently) -> list[MinuteRecord] | list[LevelRecord]:
        """Return the last hour by minute: what began and ended, or how full a pool was.

        Raises:
            NotFound: there is no pool of that name.
        """
        if command.pool is None:
            return self.counts.last_hour.minutes(self.time.now)
        _find(self.pools, command.pool)
        pools, lanes = self.pools, self.queue.lanes
        self.counts.last_hour.look([command.pool], pools, lanes, self.time.now, self.time.mono)
        return self.counts.last_hour.levels(command.pool, self.time.now)

    def pool_record(self, name: str) -> PoolRecord:
        """Return a pool: its settings and where they come from, and how it is used."""
        pools, lanes = self.pools, self.queue.lanes
        settings = pools.settings[name]
        limiters = pools.limiters(name)
        waiting = {
            one: lanes.waiting_in(one) for one in lanes.pools_with_ready() if base_of(one) == name
        }
        in_use = {key: limiter.used for key, limiter in limiters.items()}
        users: dict[int, int] = defaultdict(int)
        for limiter in limiters.values():
            for run, count in limiter.in_use.items():
                users[run] += count
        values = sorted(
            (key for key in {*in_use, *waiting} if key != name),
            key=lambda key: (-in_use.get(key, 0), -waiting.get(key, 0), key),
        )
        return PoolRecord(
            name=name,
            as_of=self.time.now,
            limit=settings.limit,
            rate=settings.rate,
            note=settings.note,
            paused=PauseRecord(**settings.paused) if settings.paused else None,
            in_use=sum(in_use.values()),
            waiting=sum(waiting.values()),
            begun_last_minute=settings.begun_of_late(self.time.mono),
            used_by=[
                PoolUser(run, count)
                for run, count in sorted(users.items(), key=lambda one: (-one[1], one[0]))[
                    :USERS_SHOWN
                ]
            ],
            runs=len(users),
            values=[
                PoolValue(
                    item_name(key[len(name) + 1 : -1]), in_use.get(key, 0), waiting.get(key, 0)
                )
                for key in values[:VALUES_SHOWN]
            ],
            by_hand=_hand_json(settings.by_hand),
            declared=[
                PoolDeclared(loom, one.limit, one.rate, one.note)
                for loom, one in sorted(settings.declared.items())
            ],
        )

    def _add(self, name: str, who: str) -> None:
        store.keep(self.unit, name, self.time.now, who)
        self.pools.settings[name] = PoolLimits()

    def _set(self, name: str, changes: JsonObject) -> None:
        settings = self.pools.settings[name]
        settings.by_hand |= _read_hand(changes)
        store.change(self.unit, name, _hand_json(settings.by_hand), settings.paused)
        self._settle(name)

    def _settle(self, name: str) -> None:
        """What holds for a pool has changed: whatever waits for it is looked at again."""
        settings = self.pools.settings[name]
        before = settings.rate
        settings.settle()
        if settings.rate != before:
            self.rebuild_begins([name])
        for pool in self.queue.lanes.pools_with_ready():
            if base_of(pool) == name:
                self.pools.limiter(pool).armed = None
                self.queue.lanes.reopen(pool)
        self.changes.pools.add(name)

    def _named(self) -> set[str]:
        """Every pool that a current workflow, a published task or an unfinished run names."""
        plans = {*self.workflows.plans.values(), *store.unfinished_plans(self.unit)}
        found = {pool for plan in plans for pool in self.plans.by_id(plan).pools}
        for task in workflow_records.task_names(self.unit):
            rules = workflow_records.task_facts(self.unit, task).get("rules", {})
            found |= {rules.get("pool", ""), *(use["pool"] for use in rules.get("pools", ()))}
        return found

    def _log(self, who: str, what: str, name: str, reason: str, changes: JsonObject) -> None:
        run_records.log_command(
            self.unit, self.time.now, who, what, None, reason, pool=name, changes=changes
        )


def _find(pools: Pools, name: str) -> PoolLimits:
    known = pools.settings
    if name not in known:
        raise NotFound(f"there is no pool {name!r}{nearest(name, known)}")
    return known[name]


def _read_hand(given: JsonObject) -> JsonObject:
    return given | ({"rate": read_rate(given["rate"])} if "rate" in given else {})


def _hand_json(by_hand: JsonObject) -> JsonObject:
    rate = by_hand.get("rate")
    return by_hand | ({"rate": rate and rate.to_json()} if "rate" in by_hand else {})
