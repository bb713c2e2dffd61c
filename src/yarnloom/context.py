"""What a task can ask and tell while it runs: its `ctx` argument."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

from yarnloom.errors import Stopped


def _never() -> str | None:
    return None


class StepContext:
    """The step that a task runs for. A task gets one where an argument is annotated with it.

    In a unit test make one yourself: `fetch(StepContext(), harbour="brackwater")`.

    Attributes:
        address: names the step, e.g. `1042/fetch`.
        attempt: the attempt's number within its step, from 1; each hand-out has a new one.
        tries: how many attempts count for the retry rule, this one included, from 1.
        token: text that is the same over all attempts of the step and differs between steps;
            give it to outside services that know idempotency keys.
        log: a logger whose lines are kept with the attempt.
    """

    def __init__(
        self,
        *,
        address: str = "0/step",
        attempt: int = 1,
        tries: int = 1,
        token: str = "test-token",
        stop: Callable[[], str | None] = _never,
    ) -> None:
        self.address = address
        self.attempt = attempt
        self.tries = tries
        self.token = token
        self.log = logging.getLogger("yarnloom.step")
        self._stop = stop

    @classmethod
    def for_work(cls, work: dict[str, Any], stop: Callable[[], str | None]) -> StepContext:
        """The context of an attempt, from the message that hands it out."""
        return cls(
            address=work["address"],
            attempt=work["number"],
            tries=work["tries"],
            token=work["token"],
            stop=stop,
        )

    @property
    def stop_asked(self) -> str | None:
        """Why the step is told to stop (`"cancel"`), or None. Cheap enough for a tight loop."""
        return self._stop()

    def check(self) -> None:
        """Leave the task here if it is told to stop.

        Raises:
            Stopped: it is; let it pass through.
        """
        if why := self.stop_asked:
            raise Stopped(f"told to stop: {why}")
