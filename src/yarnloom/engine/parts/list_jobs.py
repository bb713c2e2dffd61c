"""List jobs that an each asks for: to read its list from a file, to gather what its items gave.

Decision: `docs/decisions/08-files-and-lists.md`.
"""

from __future__ import annotations

from yarnloom.engine.commands import ListJob
from yarnloom.engine.parts.list_values import ALL, DONE, FAILURES
from yarnloom.engine.rules.states import StepState
from yarnloom.engine.state.memory import Jobs
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.engine.state.transaction import Transaction
from yarnloom.plan import EachFacts, Node
from yarnloom.store import PartRow, RunRow, Unit, file_records
from yarnloom.values import JsonObject, decode

READ, GATHER = "read", "gather"


def ask_to_read(transaction: Transaction, part: PartRow, facts: EachFacts, text: str) -> None:
    """Let the list that a reference names be looked through: its names, where its values begin."""
    found = decode(text)
    about = {"list": found["list"], "name": facts.name, "text": text, "count": found["count"]}
    _ask(transaction, part, READ, about)


def ask_to_gather(transaction: Transaction, run: RunRow, part: PartRow, node: Node) -> None:
    """Let what an each gives be put together in files."""
    about = {
        "kinds": list(kinds_to_gather(transaction.settings, part, node)),
        "node": node.children[0],
        "address": transaction.plans.part_address(run, part),
    }
    _ask(transaction, part, GATHER, about)


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


def must_gather(
    unit: Unit, settings: EngineSettings, part: PartRow, node: Node, outcome: StepState
) -> bool:
    """Whether something has to be gathered, and was not yet, before an each is decided."""
    if node.each is None:
        return False
    wanted = kinds_to_gather(settings, part, node)
    if outcome is not StepState.DONE:
        wanted = tuple(kind for kind in wanted if kind == FAILURES)
    return any(file_records.gathered_list(unit, part.id, kind) is None for kind in wanted)


def forget_gathered(unit: Unit, jobs: Jobs, part: PartRow) -> None:
    """What an each gave is void, since something in it runs again."""
    file_records.drop_lists(unit, part.id)
    jobs.open.pop(part.id, None)
    part.awaits = None


def _ask(transaction: Transaction, part: PartRow, kind: str, facts: JsonObject) -> None:
    memory = transaction.memory
    memory.jobs.serial += 1
    list_job = ListJob(part.id, kind, memory.jobs.serial, facts)
    memory.jobs.open[part.id] = list_job
    memory.jobs.new.append(list_job)
    part.awaits = kind
    transaction.unit.parts.touch(part)
