"""Attempts that workers have: what the engine expects to hear of each."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarnloom.engine.rules.states import StopReason


@dataclass(slots=True)
class Unbegun:
    """An attempt that was handed out and has not begun.

    Attributes:
        looked_at: when it was handed out, or looked at last, on the steady clock.
        order: the serial number of the order to give it back, once that was posted.
        heard: whether the worker was seen to have that order.
    """

    looked_at: float
    order: int | None = None
    heard: bool = False


@dataclass(slots=True)
class OpenAttempts:
    """What is expected of attempts, by id.

    Attributes:
        unbegun: those that workers have and have not begun.
        timeouts: of those that run: when their time is over, and why.
        heard: of those that report how far they are: when they did last.
        furthest: how far they were at most.
    """

    unbegun: dict[int, Unbegun] = field(default_factory=dict)
    timeouts: dict[int, tuple[float, StopReason]] = field(default_factory=dict)
    heard: dict[int, float] = field(default_factory=dict)
    furthest: dict[int, float] = field(default_factory=dict)
