"""What would hold up the engine is done elsewhere: reading long lists, and putting them together.

An each that waits for such a list job says so in its row, so that it is found again after a start.
Its state is as it was; what waits for it goes on when `EndListJob` comes.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import EndListJob, handles
from yarnloom.engine.composition.composition import Compositions
from yarnloom.engine.dispatch.kept_files import KEEPER, KeptFiles
from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.part_contents.inputs import text_of
from yarnloom.engine.part_contents.lists import GATHER, READ, ListJobs
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.due_times import LIST_JOBS_DUE, Timers
from yarnloom.engine.state.each_memory import Jobs
from yarnloom.engine.state.plans import Plans
from yarnloom.media_types import JSON_LINES
from yarnloom.store import Unit
from yarnloom.store.files import file_records
from yarnloom.store.runs import item_records


@dataclass(slots=True)
class ListResults:
    """Takes the results of list jobs."""

    unit: Unit
    time: RunTime
    plans: Plans
    timers: Timers
    jobs: Jobs
    compositions: Compositions
    kept_files: KeptFiles
    list_jobs: ListJobs

    @handles(EndListJob)
    def end_list_job(self, command: EndListJob) -> None:
        """Go on with what waited; a list job that nothing waits for any more changes nothing."""
        list_job = self.jobs.open.get(command.part)
        if list_job is None or list_job.serial != command.serial:
            return
        del self.jobs.open[command.part]
        part = self.unit.parts.need(command.part)
        run = self.unit.run(part.run)
        part.awaits = None
        self.unit.parts.touch(part)
        composition, address = self.compositions.of(run), self.plans.part_address(run, part)
        for kind, kept in command.lists.items():
            if list_job.kind == READ:
                file_records.keep_marks(self.unit, kept)
                continue
            self.kept_files.keep(kept, f"{address} ({kind})"[:200], JSON_LINES, KEEPER)
            file_records.use_files(self.unit, run.number, {kept.sha256})
            file_records.keep_gathered(self.unit, part.id, kind, kept.reference)
        if list_job.kind == GATHER:
            composition.gathered(part)
        elif command.fault is not None:
            composition.fail_each(part, ItemFault(command.fault))
        else:
            item_records.keep_source(self.unit, part.id, list_job.facts["text"])
            composition.read(part, list_job.facts["count"])

    def rebuild(self) -> None:
        """After a start: what was not done is to be done again."""
        for part_id, kind in file_records.awaiting(self.unit):
            part = self.unit.parts.need(part_id)
            run = self.unit.run(part.run)
            node = self.plans.of(run).nodes[part.node]
            assert node.each is not None
            if kind == READ:
                text = text_of(self.compositions.of(run).resolver, node.each.over, part)
                assert text is not None
                self.list_jobs.ask_to_read(part, node.each, text)
            else:
                self.list_jobs.ask_to_gather(run, part, node)
        if self.jobs.new:
            self.timers.set(LIST_JOBS_DUE, self.time.mono)
