"""When a failed attempt is followed by another, and how long is waited. Pure: rules, no rows.

Decision: `docs/decisions/06-deadlines-and-retries.md`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from yarnloom.plan import Retry
from yarnloom.units import duration_text


@dataclass(frozen=True, slots=True)
class Tried:
    """A try that failed.

    Attributes:
        tries: how many there were, this one included.
        kinds: the error's classes by name, the most special first.
        spent: seconds since the first of them began.
        after: the wait that the task chose; None if it chose none.
    """

    tries: int
    kinds: tuple[str, ...] = ()
    spent: float = 0.0
    after: float | None = None


def next_wait(
    rule: Retry | None, tried: Tried, chance: Callable[[], float]
) -> tuple[float | None, str]:
    """How many seconds to wait before the next try; None, and why, if there is none.

    Args:
        rule: the step's; None is one try.
        tried: the try that failed.
        chance: gives a number from 0 to 1, for jitter.
    """
    if rule is None:
        return None, "there is one try, since no retry rule is given"
    if rule.attempts is not None and tried.tries >= rule.attempts:
        return None, f"that was try {tried.tries} of {rule.attempts}"
    if tried.after is None and (refused := _refused_kind(rule, tried.kinds)):
        return None, refused
    wait = _wait(rule, tried.tries, chance) if tried.after is None else tried.after
    if rule.within is not None and tried.spent + wait > rule.within:
        return None, (
            f"the next try would begin more than {duration_text(rule.within)} after the first"
        )
    return wait, ""


def _refused_kind(rule: Retry, kinds: tuple[str, ...]) -> str:
    """Why an error of these kinds is not tried again; empty if it is."""
    names = {name for kind in kinds for name in (kind, kind.rpartition(".")[2])}
    for one in rule.never_on:
        if one in names:
            return f"the retry rule says never_on {one}"
    if "NotDone" in names:
        return ""  # it is certain that nothing happened, whatever it is that failed
    if rule.on and not names.intersection(rule.on):
        return f"the retry rule is on {', '.join(rule.on)} only"
    return ""


def _wait(rule: Retry, tries: int, chance: Callable[[], float]) -> float:
    try:
        wait = rule.wait * rule.growth ** (tries - 1)
    except OverflowError:
        wait = float("inf")
    longest = 366 * 86_400.0 if rule.longest is None else rule.longest
    wait = min(wait, longest)
    return min(longest, wait * (1 + rule.jitter * (2 * chance() - 1)))


def kinds_of(error: Mapping[str, object]) -> tuple[str, ...]:
    """The classes of an error as a worker tells it; without them the one that it names."""
    kinds = error.get("kinds")
    if isinstance(kinds, list):
        return tuple(str(kind) for kind in kinds)
    return (str(error.get("type", "")),)
