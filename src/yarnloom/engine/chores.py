"""What would hold up the engine is done elsewhere: reading long lists, and putting them together.

An each that waits for such a chore says so in its row, so that it is found again after a start.
Its state is as it was; what waits for it goes on when `EndChore` comes.
"""

from __future__ import annotations

from yarnloom.engine.asking import GATHER, READ, ask_to_gather, ask_to_read
from yarnloom.engine.data_commands import EndChore
from yarnloom.engine.filing import KEEPER, keep
from yarnloom.engine.lists import ItemFault
from yarnloom.engine.preparing import text_of
from yarnloom.engine.turn import CHORES_DUE, Turn
from yarnloom.engine.weaving import Weave
from yarnloom.media import JSON_LINES
from yarnloom.store import filing
from yarnloom.store import writing as store


def end_chore(turn: Turn, command: EndChore) -> None:
    """Go on with what waited; a chore that nothing waits for any more changes nothing."""
    chore = turn.memory.chores.get(command.part)
    if chore is None or chore.serial != command.serial:
        return
    del turn.memory.chores[command.part]
    part = turn.unit.parts.need(command.part)
    run = turn.run(part.run)
    part.awaits = None
    turn.unit.parts.touch(part)
    weave, address = Weave(turn, run), turn.part_address(run, part)
    for kind, kept in command.lists.items():
        if chore.kind == READ:
            filing.keep_marks(turn.unit, kept)
            continue
        keep(turn, kept, f"{address} ({kind})"[:200], JSON_LINES, KEEPER)
        filing.use_files(turn.unit, run.number, {kept.sha256})
        filing.keep_gathered(turn.unit, part.id, kind, kept.reference)
    if chore.kind == GATHER:
        weave.gathered(part)
    elif command.fault is not None:
        weave.fail_each(part, ItemFault(command.fault))
    else:
        store.keep_source(turn.unit, part.id, chore.facts["text"])
        weave.read(part, chore.facts["count"])


def recall(turn: Turn) -> None:
    """After a start: what was not done is to be done again."""
    for part_id, kind in filing.awaiting(turn.unit):
        part = turn.unit.parts.need(part_id)
        run = turn.run(part.run)
        node = turn.plan(run).nodes[part.node]
        assert node.each is not None
        if kind == READ:
            text = text_of(Weave(turn, run).resolver, node.each.over, part)
            assert text is not None
            ask_to_read(turn, part, node.each, text)
        else:
            ask_to_gather(turn, run, part, node)
    if turn.memory.new_chores:
        turn.memory.arm(CHORES_DUE, turn.mono)
