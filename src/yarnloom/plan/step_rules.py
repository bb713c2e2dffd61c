"""How a step is run: its retry rule, its pool, its limits in time and memory, where, how soon.

`Retry` and `Rate` are what users write. `StepRules` is what stands in a plan, where a task's
defaults and what its step says are one.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, fields
from typing import Any, Literal, TypedDict, cast

from yarnloom.errors import LoomError
from yarnloom.units import Duration, Size, duration_text, seconds, size
from yarnloom.values import JsonObject, JsonValue

PRIORITIES = range(-1000, 1001)
MOST_A_RATE = 100_000
WORD = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,49}\Z")

Kinds = Sequence[type[BaseException] | str]
"""Exceptions: classes, or names as `"OSError"` or `"httpx.HTTPStatusError"`."""


class Retry:
    """When a step whose attempt failed is tried again.

    The wait before the second attempt is `wait`, before each further one `growth` times the last,
    at most `longest`, varied by up to `jitter` of itself so that what failed together does not
    come back together.

    Args:
        attempts: how many tries there are at most, the first included; None for no limit.
        wait: how long to wait before the second.
        growth: how much longer each further wait is: 1 is constant, 2 doubles.
        longest: the longest wait.
        jitter: how much a wait is varied, as a share of it: 0.1 is up to a tenth up or down.
        within: how long after the first began the last may begin.
        on: only errors of these kinds are tried again; without it all are.
        never_on: errors of these kinds are not.

    Raises:
        LoomError: a value makes no sense.
    """

    __slots__ = ("attempts", "growth", "jitter", "longest", "never_on", "on", "wait", "within")

    def __init__(
        self,
        attempts: int | None = 3,
        wait: Duration = 1.0,
        growth: float = 1.0,
        longest: Duration | None = None,
        jitter: float = 0.1,
        within: Duration | None = None,
        on: Kinds = (),
        never_on: Kinds = (),
    ) -> None:
        if attempts is not None and (type(attempts) is not int or attempts < 1):
            _refuse("attempts", attempts, "a whole number from 1 on, or None for no limit")
        if not _is_number(growth) or not 1 <= growth <= 100:
            _refuse("growth", growth, "a number from 1 to 100")
        if not _is_number(jitter) or not 0 <= jitter <= 1:
            _refuse("jitter", jitter, "a number from 0 to 1")
        self.attempts = attempts
        self.wait = _seconds("wait", wait)
        self.growth = float(growth)
        self.longest = None if longest is None else _seconds("longest", longest)
        self.jitter = float(jitter)
        self.within = None if within is None else _seconds("within", within)
        self.on = _kinds("on", on)
        self.never_on = _kinds("never_on", never_on)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Retry) and self.to_json() == other.to_json()

    def __hash__(self) -> int:
        return hash(repr(self))

    def __repr__(self) -> str:
        return f"Retry({', '.join(f'{name}={one!r}' for name, one in self.to_json().items())})"

    def to_json(self) -> JsonObject:
        """The rule as it stands in a plan: durations in seconds, without limits not given."""
        found = {name: getattr(self, name) for name in ("attempts", "wait", "growth", "jitter")}
        for name in ("longest", "within"):
            if (value := getattr(self, name)) is not None:
                found[name] = value
        for name in ("on", "never_on"):
            if value := getattr(self, name):
                found[name] = list(value)
        return found


@dataclass(frozen=True, slots=True)
class Rate:
    """How many attempts may begin in a time: in no window of that length do more.

    Args:
        count: how many.
        per: in which time, e.g. `"1s"`.

    Raises:
        LoomError: a value makes no sense.
    """

    count: int
    per: Duration = 1.0

    def __post_init__(self) -> None:
        """Turn the time into seconds."""
        if type(self.count) is not int or not 1 <= self.count <= MOST_A_RATE:
            _refuse("count", self.count, f"a whole number from 1 to {MOST_A_RATE:,}", "Rate")
        length = _seconds("per", self.per, "Rate")
        if not length:
            _refuse("per", self.per, "more than nothing", "Rate")
        object.__setattr__(self, "per", length)

    @property
    def seconds(self) -> float:
        """The length of the window."""
        assert isinstance(self.per, float)
        return self.per

    def to_json(self) -> JsonObject:
        """`{"count": 10, "per": 1.0}`, the time in seconds."""
        return {"count": self.count, "per": self.seconds}

    def __str__(self) -> str:
        length = duration_text(self.seconds)
        return f"{self.count} in {length}"


IfQuiet = Literal["show", "retry"]
IF_QUIET: tuple[IfQuiet, ...] = ("show", "retry")


@dataclass(frozen=True, slots=True)
class Use:
    """What a step uses of a pool.

    Args:
        weight: how many of the pool's places; with a rate, how many begins it counts for.
        per: a reference; the pool has a limit of its own for each of its values. Of a task the
            name of an input.
    """

    weight: int = 1
    per: Any = None


@dataclass(frozen=True, slots=True)
class UsedPool:
    """A pool that a step uses, as `Use` says."""

    pool: str
    weight: int = 1
    per: Any = None

    def to_json(self) -> JsonObject:
        """`{"pool": "oven", "weight": 2}`, with `per` where it is given."""
        found: JsonObject = {"pool": self.pool, "weight": self.weight}
        return found if self.per is None else {**found, "per": self.per}


MOST_POOLS, MOST_WEIGHT = 8, 1_000_000

PLAIN = ("timeout", "deadline", "quiet_for", "if_quiet", "losses", "memory", "priority")
"""Rules that stand in a plan as they are."""


@dataclass(frozen=True, slots=True, kw_only=True)
class StepRules:
    """How a step is run. Without a value there is no limit, one try, any worker.

    Attributes:
        pools: what limits how many run at once; all are entered together, or none.
        retry: when it is tried again.
        timeout: seconds that an attempt may run.
        deadline: seconds from when it could first run to when it must have ended.
        quiet_for: seconds without a word of progress after which an attempt is stuck.
        if_quiet: what becomes of one then: it is shown, or stopped and tried again.
        losses: how often its worker or process may die before it fails.
        only_on: what a worker must have.
        memory: bytes that an attempt may use.
        priority: higher first; else its run's.
    """

    pools: tuple[UsedPool, ...] = ()
    retry: Retry | None = None
    timeout: float | None = None
    deadline: float | None = None
    quiet_for: float | None = None
    if_quiet: IfQuiet | None = None
    losses: int | None = None
    only_on: tuple[str, ...] = ()
    memory: int | None = None
    priority: int | None = None

    @property
    def pool(self) -> str:
        """The pool that is named first, in which turns are counted; empty for none."""
        return self.pools[0].pool if self.pools else ""

    @property
    def is_simple(self) -> bool:
        """Whether it uses no pool, or one place of one pool that has no limits by value."""
        if not self.pools:
            return True
        use = self.pools[0]
        return len(self.pools) == 1 and use.weight == 1 and use.per is None

    def to_json(self) -> JsonObject:
        """The options that were given, in the form of a plan."""
        found = uses_json(self.pools)
        found |= {name: getattr(self, name) for name in PLAIN if getattr(self, name) is not None}
        if self.retry is not None:
            found["retry"] = self.retry.to_json()
        if self.only_on:
            found["only_on"] = list(self.only_on)
        return found


def uses_json(uses: Sequence[UsedPool]) -> JsonObject:
    """The pools of a step in the form of a plan: a single place of one in the short form."""
    if len(uses) == 1 and uses[0].weight == 1:
        (use,) = uses
        return {"pool": use.pool} | ({} if use.per is None else {"per": use.per})
    return {"pools": [use.to_json() for use in uses]} if uses else {}


class TaskRules(TypedDict, total=False):
    """How the steps of a task are run; `Loom.task` says what each means."""

    pool: str
    pools: Mapping[str, int | Use]
    per: str
    retry: Retry
    timeout: Duration
    deadline: Duration
    quiet_for: Duration
    if_quiet: IfQuiet
    losses: int
    only_on: Collection[str]
    memory: Size
    priority: int


PLAIN_RULES = StepRules()
POOL_RULES = ("pool", "pools", "per")
RULES = (*POOL_RULES, *(one.name for one in fields(StepRules) if one.name != "pools"))
"""Options of a step that say how it is run."""


def read_rules(given: JsonObject) -> tuple[StepRules, list[tuple[str, str]]]:
    """Rules as they were given, in Python or in a plan's JSON, and what is wrong with them.

    Args:
        given: by option; None counts as not given. Each `per` is passed on as it is.

    Returns:
        The rules without what is wrong, and for each wrong option its name and a message.
    """
    found: JsonObject = {}
    found["pools"], wrong = read_uses(given)
    for name in _READERS:
        value = given.get(name)
        if value is None:
            continue
        try:
            found[name] = _READERS[name](value)
        except (LoomError, ValueError) as error:
            wrong.append((name, str(error)))
    return StepRules(**found), wrong


def _retry(value: JsonValue) -> Retry:
    if isinstance(value, Retry):
        return value
    if not isinstance(value, dict):
        raise ValueError(f"found {value!r:.60}; expected Retry(...)")
    if unknown := value.keys() - set(Retry.__slots__):
        raise ValueError(f"a retry rule has no {sorted(unknown)[0]!r}; it has {_names(Retry)}")
    return Retry(**value)


def _names(kind: type[Retry]) -> str:
    return ", ".join(sorted(kind.__slots__))


def _whole(value: JsonValue, allowed: range) -> int:
    if type(value) is int and value in allowed:
        return value
    limits = f"from {allowed.start} to {allowed.stop - 1}"
    raise ValueError(f"found {value!r:.60}; expected a whole number {limits}")


def read_uses(given: JsonObject) -> tuple[tuple[UsedPool, ...], list[tuple[str, str]]]:
    """The pools that a step uses, as they were given, in Python or in a plan's JSON.

    Returns:
        The pools that are right, and for each wrong option its name and a message.
    """
    pool, pools, per = (given.get(name) for name in ("pool", "pools", "per"))
    if pools is not None:
        if pool is not None or per is not None:
            return (), [("pools", "found pool= or per= too; give all in pools=, per= in Use(...)")]
        return _many_uses(pools)
    if pool is None or pool == "":
        message = "per= says for what a pool has a limit of its own; give pool= too"
        return (), [] if per is None else [("per", message)]
    if not isinstance(pool, str):
        return (), [("pool", f"found {pool!r:.60}; expected a pool's name")]
    return (UsedPool(pool, 1, per),), []


def _many_uses(pools: object) -> tuple[tuple[UsedPool, ...], list[tuple[str, str]]]:
    uses: list[UsedPool] = []
    wrong: list[tuple[str, str]] = []
    if isinstance(pools, dict):
        pools = [
            {"pool": name, "weight": use.weight, "per": use.per}
            if isinstance(use, Use)
            else {"pool": name, "weight": use}
            for name, use in pools.items()
        ]
    # From here on Python's form and the plan's are one.
    known = {"pool", "weight", "per"}
    if not isinstance(pools, list) or not all(isinstance(one, dict) for one in pools):
        return (), [("pools", f'found {pools!r:.60}; expected weights by pool, as {{"oven": 2}}')]
    for one in pools:
        pool, weight = one.get("pool"), one.get("weight", 1)
        if not isinstance(pool, str) or not pool or one.keys() - known:
            wrong.append(("pools", f"found {one!r:.60}; expected a pool's name and a weight"))
        elif type(weight) is not int or not 1 <= weight <= MOST_WEIGHT:
            expected = f"expected a whole number from 1 to {MOST_WEIGHT:,}, or Use(...)"
            wrong.append((f"pools.{pool}", f"found the weight {weight!r:.60}; {expected}"))
        elif pool in (use.pool for use in uses):
            wrong.append((f"pools.{pool}", "the pool is named twice; give one weight"))
        else:
            uses.append(UsedPool(pool, weight, one.get("per")))
    if len(uses) > MOST_POOLS:
        wrong.append(("pools", f"found {len(uses)} pools; a step uses at most {MOST_POOLS}"))
    return tuple(uses), wrong


def _if_quiet(value: JsonValue) -> IfQuiet:
    if value in IF_QUIET:
        return cast(IfQuiet, value)
    raise ValueError(f"found {value!r:.60}; expected one of {', '.join(map(repr, IF_QUIET))}")


def words(value: JsonValue) -> tuple[str, ...]:
    """Words that say what a worker must have, sorted.

    Raises:
        ValueError: something in it is no word.
    """
    given = list(value) if isinstance(value, list | tuple | set | frozenset) else [value]
    if not all(isinstance(one, str) and WORD.match(one) for one in given):
        raise ValueError(f"found {value!r:.60}; expected words as ['gpu', 'fast-disk']")
    return tuple(sorted(set(given)))


_READERS: JsonObject = {
    "retry": _retry,
    "timeout": seconds,
    "deadline": seconds,
    "quiet_for": seconds,
    "if_quiet": _if_quiet,
    "losses": lambda value: _whole(value, range(1001)),
    "only_on": words,
    "memory": size,
    "priority": lambda value: _whole(value, PRIORITIES),
}


def _kinds(what: str, given: Kinds) -> tuple[str, ...]:
    """Exceptions by name; what Python has built in has no module."""
    if isinstance(given, str | type):
        given = (given,)
    found = []
    for one in given:
        if isinstance(one, type) and issubclass(one, BaseException):
            found.append(kind_name(one))
        elif isinstance(one, str) and one:
            found.append(one)
        else:
            _refuse(what, one, "exception classes, or their names")
    return tuple(found)


def kind_name(kind: type) -> str:
    """An exception class by name: `OSError`, `httpx.HTTPStatusError`."""
    if kind.__module__ == "builtins":
        return kind.__qualname__
    return f"{kind.__module__}.{kind.__qualname__}"


def _is_number(value: JsonValue) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _seconds(what: str, value: Duration, owner: str = "Retry") -> float:
    try:
        return seconds(value)
    except ValueError as error:
        raise LoomError(f"{owner}({what}=): {error}") from None


def _refuse(what: str, value: JsonValue, expected: str, owner: str = "Retry") -> None:
    raise LoomError(f"{owner}({what}=): found {value!r:.60}; expected {expected}")


@dataclass(frozen=True, slots=True)
class PoolDeclaration:
    """What a loom says of a pool.

    Attributes:
        name: the pool's name.
        limit: how many attempts may run at once; None for any number.
        rate: how many may begin in a time; None for any number.
        note: what the limit is for.
    """

    name: str
    limit: int | None = None
    rate: Rate | None = None
    note: str = field(default="", compare=False)

    def to_json(self) -> JsonObject:
        """As it is published."""
        rate = self.rate.to_json() if self.rate else None
        return {"name": self.name, "limit": self.limit, "rate": rate, "note": self.note}
