"""Worlds in which quick work goes to workers without rows.

Items of eaches of one step (`engine/without_rows/giving_items.py`), and steps that follow each
other (`engine/without_rows/steps_sent_along.py`): the same promises as in the others.
"""

from __future__ import annotations

from tests.plans import ChainMaker, StraightMaker
from tests.simulator.control import ControlWorld
from tests.simulator.workers import SimWorker
from tests.simulator.world import World


def short_time(world: World) -> float:
    """How long a task takes: nearly all are short."""
    return world.random.choice((0.001, 0.002, 0.05, 0.3, 2.0))


class StraightWorld(World):
    """One of them."""

    PLANS = 2
    RUNS = 4

    def maker(self) -> StraightMaker:
        """Makes a plan of eaches of one step."""
        return StraightMaker(self.random.randrange)

    takes = short_time


class StraightControlWorld(ControlWorld):
    """The same with people around, who pause, cancel, mend and decide."""

    def maker(self) -> StraightMaker:
        """Makes a plan of eaches of one step."""
        return StraightMaker(self.random.randrange)

    takes = short_time

    def begin_letter(
        self, worker: SimWorker, attempt: int, call: int, *, again: bool = False
    ) -> None:
        """Only some send a letter."""
        if call == 1 and attempt % 5:
            self.complete(worker, attempt)
        else:
            super().begin_letter(worker, attempt, call, again=again)


class ChainWorld(World):
    """Steps that follow each other are run one behind the other, by workers that are quick."""

    quick = True
    PLANS = 2
    RUNS = 5

    def maker(self) -> ChainMaker:
        """Makes a plan of chains."""
        return ChainMaker(self.random.randrange)

    takes = short_time


class ChainControlWorld(ControlWorld):
    """The same with people around; plain tasks send no letters."""

    quick = True

    def begin_letter(
        self, worker: SimWorker, attempt: int, call: int, *, again: bool = False
    ) -> None:
        """The task needs nothing but its input."""
        self.complete(worker, attempt)

    def maker(self) -> ChainMaker:
        """Makes a plan of chains."""
        return ChainMaker(self.random.randrange)

    takes = short_time
