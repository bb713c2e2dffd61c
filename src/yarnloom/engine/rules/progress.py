"""How far a run is between two samples of its progress."""

from __future__ import annotations

OVERDUE = 0.1
"""What takes longer than it should is to take so much of its time more."""


def between(
    fraction: float | None, left: int | None, sampled_at: int | None, now: int
) -> tuple[float | None, float | None]:
    """Return how far a run is, from 0 to 1, and how many seconds it has left.

    Both are None as long as they are not known; the first rests where the second is not.

    Args:
        fraction: how far it was when the sample was taken.
        left: how many microseconds it had left then.
        sampled_at: when that was, in microseconds since 1970 UTC.
        now: the time that is asked for.
    """
    if fraction is None or left is None or sampled_at is None:
        return fraction, None
    passed = max(0, now - sampled_at)
    rest = max(left - passed, OVERDUE * passed)
    moved = passed / (passed + rest) if rest else 0.0
    return fraction + (1 - fraction) * moved, rest / 1e6
