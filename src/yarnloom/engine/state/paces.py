"""How long a plan and its parts take, as far as earlier runs tell."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Paces:
    """What is known of how long a plan takes.

    Attributes:
        seconds: the whole run; None if nothing is known.
        times: seconds by node, outside of items.
        shares: by node the share in the part around it; what is not in it has the same as its
            siblings.
        works: by node the seconds of an attempt of a step, also in items; of an each those of all
            attempts in it.
    """

    seconds: float | None = None
    times: Mapping[int, float] = field(default_factory=dict)
    shares: Mapping[int, float] = field(default_factory=dict)
    works: Mapping[int, float] = field(default_factory=dict)
