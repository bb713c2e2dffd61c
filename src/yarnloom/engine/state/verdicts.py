"""Verdicts: what is wrong with a value from outside, found out without holding up the engine.

A value is checked here where that is fast. Where its schema makes it costly the engine refuses the
command with `Unjudged`; the service has the value checked in another process, keeps the verdict,
and gives the command again.
"""

from __future__ import annotations

import hashlib
import json
from collections import OrderedDict
from collections.abc import Iterable
from functools import lru_cache

from yarnloom.errors import Problem, Refused
from yarnloom.plan.validators import Schema, weight
from yarnloom.plan.value_problems import problems_of
from yarnloom.values import JsonValue

REMEMBERED = 1_000
MOST_WORK = 2**19
"""Bytes of a value times the weight of its schema: about 10 ms."""


class Unjudged(Refused):
    """A value is too costly to be checked here; its verdict is to be kept first."""

    code = "unjudged"

    def __init__(self, key: str, value: JsonValue, schema: Schema) -> None:
        super().__init__("the value could not be checked yet; try again")
        self.key, self.value, self.schema = key, value, schema


class Verdicts:
    """What was found out about values.

    Args:
        most_work: what is checked at once; None for everything, where nobody else could do it.
    """

    def __init__(self, most_work: int | None = None) -> None:
        self._most_work = most_work
        self._known: OrderedDict[str, tuple[Problem, ...]] = OrderedDict()

    def problems(self, value: JsonValue, schema: Schema) -> list[Problem]:
        """Return what is wrong with a value.

        Raises:
            Unjudged: it is costly to check, and there is no verdict yet.
        """
        if self._most_work is None:
            return problems_of(value, schema)
        text, rule = json.dumps(value), json.dumps(schema)
        if len(text) * _weight(rule) <= self._most_work:
            return problems_of(value, schema)
        key = hashlib.blake2b(f"{rule}\n{text}".encode("utf-8", "surrogatepass")).hexdigest()
        if key not in self._known:
            raise Unjudged(key, value, schema)
        return list(self._known[key])

    def keep(self, key: str, problems: Iterable[Problem]) -> None:
        """Keep a verdict for when the command comes again."""
        self._known[key] = tuple(problems)
        while len(self._known) > REMEMBERED:
            self._known.popitem(last=False)


@lru_cache(maxsize=REMEMBERED)
def _weight(schema: str) -> int:
    return weight(json.loads(schema))
