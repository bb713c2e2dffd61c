"""Filters of the list of runs, declared once: a new one gets its record here.

Besides, it gets its condition in `store/runs/run_lists.py`, its argument in the client
(`RunsFilter`) and its control in the console's `runFilters.ts`. Every other layer is a loop over
these records: query parameters, bodies, saved filters, options of the command.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

FilterKind = Literal["text", "number", "time", "span", "flag"]


@dataclass(frozen=True, slots=True)
class RunFilterField:
    """One filter.

    Attributes:
        name: in every layer; of an option with `-` for `_`.
        kind: `text` and `number` are compared, `time` is a moment, `span` a duration such as `24h`,
            and a `flag` is on or off.
        says: what is said of the runs that it shows: "runs …".
        longest: most letters of a text.
        metavar: what the help of the command calls its value.
    """

    name: str
    kind: FilterKind
    says: str
    longest: int = 200
    metavar: str | None = None

    @property
    def option(self) -> str:
        """The option of the command."""
        return f"--{self.name.replace('_', '-')}"


RUN_FILTERS = (
    RunFilterField("workflow", "text", "of this workflow", 201, "NAME"),
    RunFilterField("tag", "text", "with this tag", 100),
    RunFilterField("key", "text", "that this start key made"),
    RunFilterField("schedule", "text", "of this schedule", 100, "NAME"),
    RunFilterField("who", "text", "that this one started", metavar="NAME"),
    RunFilterField("pool", "text", "that use this pool now, or wait for it", 100, "NAME"),
    RunFilterField("priority", "number", "of this priority", metavar="N"),
    RunFilterField("since", "time", "started then or later: 2h ago, or a time", metavar="TIME"),
    RunFilterField("until", "time", "started before then: 2h ago, or a time", metavar="TIME"),
    RunFilterField("within", "span", "started so long ago or later, as 24h", metavar="TIME"),
    RunFilterField("text", "text", "with this in their workflow, params, tags, key, error, …"),
    RunFilterField("followups_failed", "flag", "of which a follow-up failed"),
    RunFilterField("without_reports", "flag", "but for those that only tell of another run's end"),
)
"""In the order in which help and descriptions have them."""
