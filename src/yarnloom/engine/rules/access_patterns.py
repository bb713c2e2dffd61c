"""Patterns of the workflows and tasks that a token may operate: `shop/*`, or a name as it is."""

from __future__ import annotations

from collections.abc import Sequence
from fnmatch import fnmatchcase

from yarnloom.errors import NotAllowed


def is_within(name: str, patterns: Sequence[str]) -> bool:
    """Whether a workflow or task, by its full name, fits one of some patterns."""
    return any(fnmatchcase(name, pattern) for pattern in patterns)


def outside(name: str, patterns: Sequence[str]) -> NotAllowed:
    """Return the error for a name that fits none of the patterns."""
    return NotAllowed(
        f"this token may operate {', '.join(patterns)}, and {name} is not among them",
        hint="Ask for a token that may, from who runs the service",
    )
