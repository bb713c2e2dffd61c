"""What plans expect of tasks, and whether a worker fits.

Decision: `docs/decisions/03-fair-turns.md`.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from yarnloom.plan import Plan
from yarnloom.plan.schemas import Fit, fit
from yarnloom.values import JsonObject


class Misfit(StrEnum):
    """Why a worker can never run steps of a contract, as it is."""

    NO_TASK = "no_task"  # it has no task of that name
    OTHER_CODE = "other_code"  # the plan asks for its own code, and this is another
    OTHER_TYPES = "other_types"  # the task's types do not fit the plan
    LACKS = "lacks"  # something that the step needs is not there


@dataclass(slots=True)
class Offer:
    """What a worker can run, and how much of it at once.

    Attributes:
        tasks: the tasks it can run, each with its code hash.
        io_tasks: those of them whose attempts share a process, and have places of their own.
        plain_tasks: those of them that need only their input.
        types: for tasks, by name, their input and output schema, where the worker says them.
        graces: for tasks, by name, how long before a time-out they hear of it, at most.
        places: how many attempts of other tasks it runs at once.
        ahead: how many more of them it may have in hand, since they begin at once.
        io_places: how many attempts of `io_tasks`.
        has: what steps can ask for with `only_on`.
        pools: the only pools that it takes from; None for any, and for steps without one.
    """

    tasks: dict[str, str] = field(default_factory=dict)
    io_tasks: frozenset[str] = frozenset()
    plain_tasks: frozenset[str] = frozenset()
    types: dict[str, JsonObject] = field(default_factory=dict)
    graces: dict[str, float] = field(default_factory=dict)
    places: int = 0
    ahead: int = 0
    io_places: int = 0
    has: frozenset[str] = frozenset()
    pools: frozenset[str] | None = None


class Contracts:
    """What plans expect of tasks: by contract the facts that stand in the plan."""

    def __init__(self) -> None:
        self._facts: dict[str, JsonObject] = {}

    def learn(self, plan: Plan) -> None:
        """Take in what a plan expects."""
        for name, contract in plan.contracts.items():
            self._facts[contract] = plan.tasks[name]

    def misfit(self, offer: Offer, contract: str) -> Misfit | None:
        """Why a worker cannot run a contract: it has no such task, other code, or other types."""
        name = task_of(contract)
        code_hash = offer.tasks.get(name)
        if code_hash is None:
            return Misfit.NO_TASK
        wanted = self._facts.get(contract.partition("+")[0], {})
        types = offer.types.get(name)
        if wanted.get("code_hash", code_hash) != code_hash:
            return Misfit.OTHER_CODE
        # A worker that does not say its types is taken at its word.
        if wanted and types is not None and not _types_fit(wanted, types):
            return Misfit.OTHER_TYPES
        return None if needs_of(contract) <= offer.has else Misfit.LACKS


def _types_fit(wanted: JsonObject, own: JsonObject) -> bool:
    return (
        fit(wanted["input"], own["input"]) is not Fit.CANNOT
        and fit(own["output"], wanted["output"]) is not Fit.CANNOT
    )


def task_of(contract: str) -> str:
    """The full name of a contract's task."""
    return contract.partition("@")[0]


def needs_of(contract: str) -> frozenset[str]:
    """What a worker must have to run a contract."""
    return frozenset(filter(None, contract.partition("+")[2].split(",")))
