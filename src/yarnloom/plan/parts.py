"""Parts: what a workflow is written with, and nothing that runs.

A part is a step or a sequence; parts nest. Compiling turns them into the JSON plan.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

STEP_OPTIONS = frozenset({"only_if", "retry", "pool", "per", "timeout", "losses", "priority"})
"""Keywords of `step` that belong to Yarn Loom, now or later: no input may be called so."""


@dataclass(frozen=True, slots=True)
class Step:
    """One use of a task in a workflow."""

    label: str
    task: Callable[..., Any]
    inputs: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Sequence:
    """Parts that run one after another; its output is that of its last part."""

    label: str | None
    parts: tuple[Part, ...]


Part = Step | Sequence


def step(label: str, task: Callable[..., Any], /, **inputs: Any) -> Step:
    """One use of a task in a workflow.

    Args:
        label: the step's name among its siblings.
        task: a function that was declared with `@loom.task`.
        inputs: for each input of the task a constant or a reference.
    """
    return Step(label, task, inputs)


def sequence(*parts: Part | str) -> Sequence:
    """A chain: parts that run one after another.

    Args:
        parts: the parts in order; a label may stand first: `sequence("tables", step(...), ...)`.
    """
    label = parts[0] if parts and isinstance(parts[0], str) else None
    rest = parts[1:] if label is not None else parts
    return Sequence(label, tuple(rest))  # type: ignore[arg-type]  # check() reports what is no part
