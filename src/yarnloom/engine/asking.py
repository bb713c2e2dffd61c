"""Chores that an each asks for: to read its list from a file, to gather what its items gave."""

from __future__ import annotations

from typing import Any

from yarnloom.engine.data_commands import Chore
from yarnloom.engine.lists import ALL, DONE, FAILURES
from yarnloom.engine.states import StepState
from yarnloom.engine.turn import Turn
from yarnloom.plan import EachFacts, Node
from yarnloom.store import PartRow, RunRow, filing
from yarnloom.values import decode

READ, GATHER = "read", "gather"


def ask_to_read(turn: Turn, part: PartRow, facts: EachFacts, text: str) -> None:
    """Let the list that a reference names be looked through: its names, where its values begin."""
    found = decode(text)
    about = {"list": found["list"], "name": facts.name, "text": text, "count": found["count"]}
    _ask(turn, part, READ, about)


def ask_to_gather(turn: Turn, run: RunRow, part: PartRow, node: Node) -> None:
    """Let what an each gives be put together in files."""
    about = {
        "kinds": list(kinds_to_gather(turn, part, node)),
        "node": node.children[0],
        "address": turn.part_address(run, part),
    }
    _ask(turn, part, GATHER, about)


def kinds_to_gather(turn: Turn, part: PartRow, node: Node) -> tuple[str, ...]:
    """What is read of an each and too long for a value."""
    kinds = []
    failed = part.failed > 0
    if part.size > turn.settings.list_above:
        kinds += [ALL] if node.wanted else []
        kinds += [DONE] if node.done_wanted else []
    if failed and node.failures_wanted and part.failed > turn.settings.failures_above:
        kinds.append(FAILURES)
    return tuple(kinds)


def must_gather(turn: Turn, part: PartRow, node: Node, outcome: StepState) -> bool:
    """Whether something has to be gathered, and was not yet, before an each is decided."""
    if node.each is None:
        return False
    wanted = kinds_to_gather(turn, part, node)
    if outcome is not StepState.DONE:
        wanted = tuple(kind for kind in wanted if kind == FAILURES)
    return any(filing.gathered_list(turn.unit, part.id, kind) is None for kind in wanted)


def forget_gathered(turn: Turn, part: PartRow) -> None:
    """What an each gave is void, since something in it runs again."""
    filing.drop_lists(turn.unit, part.id)
    turn.memory.chores.pop(part.id, None)
    part.awaits = None


def _ask(turn: Turn, part: PartRow, kind: str, facts: dict[str, Any]) -> None:
    memory = turn.memory
    memory.chore_serial += 1
    chore = Chore(part.id, kind, memory.chore_serial, facts)
    memory.chores[part.id] = chore
    memory.new_chores.append(chore)
    part.awaits = kind
    turn.unit.parts.touch(part)
