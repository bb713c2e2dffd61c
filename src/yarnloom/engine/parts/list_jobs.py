"""List jobs that an each asks for: to read its list from a file, to gather what its items gave.

Decision: `docs/decisions/08-files-and-lists.md`.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import ListJob
from yarnloom.engine.parts.list_values import ALL, DONE, FAILURES
from yarnloom.engine.rules.states import StepState
from yarnloom.engine.state.memory import Jobs
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.plan import EachFacts, Node
from yarnloom.store import PartRow, RunRow, Unit, file_records
from yarnloom.values import JsonObject, decode

READ, GATHER = "read", "gather"


@dataclass(slots=True)
class ListJobs:
    """Asks others to read or gather long lists."""

    unit: Unit
    plans: Plans
    settings: EngineSettings
    jobs: Jobs

    def ask_to_read(self, part: PartRow, facts: EachFacts, text: str) -> None:
        """Ask for the names in a list that is a file, and where its values begin."""
        found = decode(text)
        about = {"list": found["list"], "name": facts.name, "text": text, "count": found["count"]}
        self._ask(part, READ, about)

    def ask_to_gather(self, run: RunRow, part: PartRow, node: Node) -> None:
        """Let what an each gives be put together in files."""
        about = {
            "kinds": list(kinds_to_gather(self.settings, part, node)),
            "node": node.children[0],
            "address": self.plans.part_address(run, part),
        }
        self._ask(part, GATHER, about)

    def must_gather(self, part: PartRow, node: Node, outcome: StepState) -> bool:
        """Whether something has to be gathered, and was not yet, before an each is decided."""
        if node.each is None:
            return False
        wanted = kinds_to_gather(self.settings, part, node)
        if outcome is not StepState.DONE:
            wanted = tuple(kind for kind in wanted if kind == FAILURES)
        return any(file_records.gathered_list(self.unit, part.id, kind) is None for kind in wanted)

    def forget_gathered(self, part: PartRow) -> None:
        """What an each gave is void, since something in it runs again."""
        file_records.drop_lists(self.unit, part.id)
        self.jobs.open.pop(part.id, None)
        part.awaits = None

    def _ask(self, part: PartRow, kind: str, facts: JsonObject) -> None:
        self.jobs.serial += 1
        list_job = ListJob(part.id, kind, self.jobs.serial, facts)
        self.jobs.open[part.id] = list_job
        self.jobs.new.append(list_job)
        part.awaits = kind
        self.unit.parts.touch(part)


def kinds_to_gather(settings: EngineSettings, part: PartRow, node: Node) -> tuple[str, ...]:
    """What is read of an each and too long for a value."""
    kinds = []
    failed = part.failed > 0
    if part.size > settings.list_above:
        kinds += [ALL] if node.wanted else []
        kinds += [DONE] if node.done_wanted else []
    if failed and node.failures_wanted and part.failed > settings.failures_above:
        kinds.append(FAILURES)
    return tuple(kinds)
