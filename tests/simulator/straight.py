"""Worlds in which items go straight to workers: quick tasks, and eaches of one step.

The same promises as in the others, while items have no rows: see `yarnloom.engine.granting`.
"""

from __future__ import annotations

from tests.plans import StraightMaker
from tests.simulator.control import ControlWorld
from tests.simulator.world import SimWorker, World


class StraightWorld(World):
    """One of them."""

    PLANS = 2
    RUNS = 4

    def maker(self) -> StraightMaker:
        """Makes a plan of eaches of one step."""
        return StraightMaker(self.random.randrange)

    def takes(self) -> float:
        """Nearly all tasks are short."""
        return self.random.choice((0.001, 0.002, 0.05, 0.3, 2.0))


class StraightControlWorld(ControlWorld):
    """The same with people around, who pause, cancel, mend and decide."""

    def maker(self) -> StraightMaker:
        """Makes a plan of eaches of one step."""
        return StraightMaker(self.random.randrange)

    def takes(self) -> float:
        """Nearly all tasks are short."""
        return self.random.choice((0.001, 0.002, 0.05, 0.3, 2.0))

    def begin_letter(
        self, worker: SimWorker, attempt: int, call: int, *, again: bool = False
    ) -> None:
        """Only some send a letter."""
        if call == 1 and attempt % 5:
            self.complete(worker, attempt)
        else:
            super().begin_letter(worker, attempt, call, again=again)
