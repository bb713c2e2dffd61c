"""What would hold up the engine is done elsewhere: reading long lists, and putting them together.

An each that waits for such a list job says so in its row, so that it is found again after a start.
Its state is as it was; what waits for it goes on when `EndListJob` comes.
"""

from __future__ import annotations

from yarnloom.engine.commands import EndListJob, handles
from yarnloom.engine.composition.composition import Composition
from yarnloom.engine.dispatch.kept_files import KEEPER, keep
from yarnloom.engine.parts.inputs import text_of
from yarnloom.engine.parts.list_jobs import GATHER, READ, ask_to_gather, ask_to_read
from yarnloom.engine.parts.list_values import ItemFault
from yarnloom.engine.state.due_times import LIST_JOBS_DUE
from yarnloom.engine.state.transaction import Transaction
from yarnloom.media_types import JSON_LINES
from yarnloom.store import file_records, item_records


@handles(EndListJob)
def end_list_job(transaction: Transaction, command: EndListJob) -> None:
    """Go on with what waited; a list job that nothing waits for any more changes nothing."""
    list_job = transaction.memory.jobs.open.get(command.part)
    if list_job is None or list_job.serial != command.serial:
        return
    del transaction.memory.jobs.open[command.part]
    part = transaction.unit.parts.need(command.part)
    run = transaction.unit.run(part.run)
    part.awaits = None
    transaction.unit.parts.touch(part)
    composition, address = Composition(transaction, run), transaction.plans.part_address(run, part)
    for kind, kept in command.lists.items():
        if list_job.kind == READ:
            file_records.keep_marks(transaction.unit, kept)
            continue
        keep(
            transaction.unit,
            transaction.time,
            transaction.settings,
            transaction.due_times,
            kept,
            f"{address} ({kind})"[:200],
            JSON_LINES,
            KEEPER,
        )
        file_records.use_files(transaction.unit, run.number, {kept.sha256})
        file_records.keep_gathered(transaction.unit, part.id, kind, kept.reference)
    if list_job.kind == GATHER:
        composition.gathered(part)
    elif command.fault is not None:
        composition.fail_each(part, ItemFault(command.fault))
    else:
        item_records.keep_source(transaction.unit, part.id, list_job.facts["text"])
        composition.read(part, list_job.facts["count"])


def rebuild(transaction: Transaction) -> None:
    """After a start: what was not done is to be done again."""
    for part_id, kind in file_records.awaiting(transaction.unit):
        part = transaction.unit.parts.need(part_id)
        run = transaction.unit.run(part.run)
        node = transaction.plans.of(run).nodes[part.node]
        assert node.each is not None
        if kind == READ:
            text = text_of(Composition(transaction, run).resolver, node.each.over, part)
            assert text is not None
            ask_to_read(transaction, part, node.each, text)
        else:
            ask_to_gather(transaction, run, part, node)
    if transaction.memory.jobs.new:
        transaction.memory.timers.set(LIST_JOBS_DUE, transaction.time.mono)
