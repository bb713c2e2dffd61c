"""Every rule of the product: what follows from each command, without interface code or a clock.

`Engine` does a batch of commands in one transaction. Packages import one way, each those before it:
`rules` < `records` < `commands` < `state` < `dispatch` < `part_contents` < `without_rows` <
`composition` < `queries` < `use_cases`. The `__init__` of each says what it owns.
"""

from typing import TYPE_CHECKING

from yarnloom.lazy_names import lazy_names

if TYPE_CHECKING:
    from yarnloom.engine.engine import Engine
    from yarnloom.engine.results import Results
    from yarnloom.engine.rules.run_clock import Moment
    from yarnloom.engine.state.settings import KEEP_FILES, LEASE, LOSSES, EngineSettings
    from yarnloom.engine.state.verdicts import MOST_WORK, Unjudged, Verdicts

__all__ = [
    "KEEP_FILES",
    "LEASE",
    "LOSSES",
    "MOST_WORK",
    "Engine",
    "EngineSettings",
    "Moment",
    "Results",
    "Unjudged",
    "Verdicts",
]

# A process for a single job needs none of these.
_MODULES = {
    "engine": ("Engine",),
    "results": ("Results",),
    "rules.run_clock": ("Moment",),
    "state.settings": ("KEEP_FILES", "LEASE", "LOSSES", "EngineSettings"),
    "state.verdicts": ("MOST_WORK", "Unjudged", "Verdicts"),
}
__getattr__ = lazy_names(
    __name__, {name: module for module, names in _MODULES.items() for name in names}
)
