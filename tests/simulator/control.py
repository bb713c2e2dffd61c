"""Worlds under control: people pause, resume, cancel, retry and mend, and tasks do things outside.

Small ones, so that many can be run. Nobody follows each event; instead what people can count on is
checked: the records stay sound, no side effect is repeated silently, and once the trouble is over
and everything was mended, each run ends as if nothing had ever gone wrong.
"""

from __future__ import annotations

from collections import Counter
from typing import Any

from tests.engine.use_cases.test_mend import clean_run, healed
from tests.fractions import broken_fractions
from tests.plans import behave
from tests.same import states
from tests.simulator.workers import LOST, SimWorker
from tests.simulator.world import World
from tests.written import Spot
from yarnloom.engine import Results
from yarnloom.engine.commands import (
    BeginEffect,
    CancelRun,
    Command,
    EndEffect,
    ListJob,
    MendRun,
    PauseRun,
    ResumeRun,
    SettleEffect,
    StepAction,
)
from yarnloom.engine.state.plans import Plans
from yarnloom.errors import Refused
from yarnloom.store import audit

MAIL = "mail"
HANDS = ("pause", "resume", "cancel", "retry", "edit")


class ControlWorld(World):
    """One of them."""

    RUNS = 2
    PLANS = 1
    WORKERS = 2
    PARTS = (2, 6)
    FAULTS_UNTIL = 12.0
    ENDS_BY = 240.0
    RESTORED = 0.0  # with the records the ledger of what was done outside would be lost

    def __init__(self, *args: Any) -> None:
        super().__init__(*args)
        self.mailbox: set[str] = set()  # tokens: it takes each letter once
        self.goes: Counter[tuple[int, str]] = Counter()
        self.allowed: Counter[tuple[int, str]] = Counter()
        self.told: set[tuple[int, int]] = set()  # attempt and call that were told to go
        self.mended: Counter[int] = Counter()
        self.looked = 0

    def run(self) -> None:
        """Live, with people around."""
        self.later(self.random.uniform(1, 3), self.meddle)
        self.later(self.FAULTS_UNTIL + 1, self.take_care)
        super().run()

    def follow(self, commands: tuple[Command, ...]) -> None:
        """Nobody follows each event."""

    def check(self) -> None:
        """The records, now and then: reading all of them takes its time."""
        self.looked += 1
        if self.looked % 8 == 0:
            super().check()

    def take_list_jobs(self, results: Results) -> None:
        """List jobs take their time, and are lost with the service; some are done twice."""
        epoch = self.epoch
        for list_job in results.list_jobs:
            for _ in range(2 if self.chance(0.1) else 1):
                delay = self.random.choice((0.01, 0.5, 3.0))
                self.later(delay, lambda one=list_job: self.end_list_job(epoch, one))
        results.list_jobs.clear()

    def end_list_job(self, epoch: int, list_job: ListJob) -> None:
        """A list job is done, unless the service that asked for it is gone."""
        if epoch == self.epoch:
            self.submit(self.done(list_job), crash=True)

    # People

    def meddle(self) -> None:
        """Somebody does something, while things go wrong anyhow."""
        for number in self.acknowledged:
            command = self.random.choice((PauseRun, PauseRun, ResumeRun, CancelRun, MendRun, None))
            if command is not None:
                self.submit(command(number, "sim"))
            else:
                self.handle(number)
        if not self.calm:
            self.later(self.random.uniform(0.2, 3), self.meddle)

    def handle(self, number: int, wanted: str = "1") -> None:
        """Decide something about a step of a run."""
        rows = self.database.writer.execute(
            f"SELECT id FROM steps WHERE run = ? AND {wanted} ORDER BY id", (number,)
        ).fetchall()
        if not rows:
            return
        self.decide(number, self.random.choice(rows)[0], self.random.choice(HANDS))

    def decide(self, number: int, step: int, action: str) -> None:
        """Do one thing with one step."""
        row = self.engine._unit.steps.need(step)
        plans = self.engine._transaction(self.clock()).of(Plans)
        run = self.engine._unit.run(number)
        node = plans.of(run).nodes[row.node]
        around = self.engine._unit.parts.need(row.part)
        address = plans.address(run, node, around).partition("/")[2]
        priority = self.random.randint(0, 3) if action == "edit" else None
        self.tell(f"{self.clock.mono:8.3f} {action} {number}/{address} ({row.state})")
        self.submit(
            StepAction(number, address, row.node, row.part, action, "sim", priority=priority)
        )

    def take_care(self) -> None:
        """The trouble is over: let everything go on, say what is known, and mend."""
        clean = clean_run(self.plans[0], self.names).root.state
        expected = "done" if clean == "skipped" else clean
        satisfied = 0
        for number in self.acknowledged:
            ((state, held),) = self.database.writer.execute(
                "SELECT state, (SELECT count(*) FROM steps WHERE run = number AND held IS NOT NULL"
                " AND ended_at IS NULL) FROM runs WHERE number = ?",
                (number,),
            ).fetchall()
            if state in ("pausing", "paused"):
                self.submit(ResumeRun(number, "sim"))
            if held:
                for (step,) in self.database.writer.execute(
                    "SELECT id FROM steps WHERE run = ? AND held IS NOT NULL AND ended_at IS NULL",
                    (number,),
                ).fetchall():
                    self.decide(number, step, "resume")
            self.settle(number)
            if state == expected == "failed" and self.mended[number] > 2:
                satisfied += 1  # it fails whatever is done
            elif state in ("failed", "cancelled", "done"):
                results = self.submit(MendRun(number, "sim"))
                refused = results is not None and isinstance(results.answers[0], Refused)
                self.mended[number] += 1
                satisfied += state == expected and refused
        self.over = satisfied == self.RUNS and not any(
            worker.hands or worker.untold for worker in self.workers.values()
        )
        if self.clock.mono < self.ENDS_BY * 0.7:
            self.later(4.0, self.take_care)

    def settle(self, number: int) -> None:
        """Say of every unsure letter whether the mailbox has it."""
        for scope, what, token in self.database.writer.execute(
            "SELECT l.scope, l.what, l.token FROM ledger l JOIN attempts a ON a.id = l.attempt"
            " WHERE l.run = ? AND l.state = 'begun' AND a.outcome IS NOT NULL",
            (number,),
        ).fetchall():
            self.counts["settled"] += 1
            done = token in self.mailbox
            if not done:
                self.allowed[number, token] += 1
            self.submit(SettleEffect(number, scope, what, done, "sim", value=1))

    # Tasks

    def finish(self, worker: SimWorker, attempt: int) -> None:
        """An attempt sends its letter, and ends."""
        if not self.awake(worker, lambda: self.finish(worker, attempt)):
            return
        if attempt not in worker.hands:
            return
        if attempt in worker.stops and self.random.random() < 0.7:
            pausing = worker.stops[attempt] in ("pause", "drain")
            self.end(worker, attempt, {"outcome": "stopped" if pausing else "cancelled"})
        elif self.chance(0.05):
            self.end(worker, attempt, {"outcome": "lost", "error": {"message": "it died"}})
        elif self.chance(0.1):
            self.end(worker, attempt, {"outcome": "called_again", "after": 0.5})
        else:
            self.begin_letter(worker, attempt, 1)

    def begin_letter(
        self, worker: SimWorker, attempt: int, call: int, *, again: bool = False
    ) -> None:
        """Ask whether the letter may be sent."""
        work = worker.hands.get(attempt)
        if work is None:
            return
        number = int(work["address"].partition("/")[0])

        def on_answer(answer: Any) -> None:
            if answer is LOST:  # lost on the way: ask again, as the same call
                self.begin_letter(worker, attempt, call, again=again)
            elif isinstance(answer, Refused):
                worker.hands.pop(attempt, None)  # it was given up
            elif answer.now == "go":
                self.send_letter(worker, attempt, number, answer.token, call, again=again)
            elif answer.now == "done":
                self.complete(worker, attempt)
            elif self.random.random() < 0.5:
                self.counts["asked outside"] += 1
                self.begin_letter(worker, attempt, call + 1, again=True)
            else:
                self.counts["unsure"] += 1
                self.end(worker, attempt, {"outcome": "refused", "error": {"type": "Unsure"}})

        command = BeginEffect(worker.name, attempt, MAIL, call, again=again)
        self.send(worker, command, on_answer, 0.3)

    def send_letter(
        self, worker: SimWorker, attempt: int, number: int, token: str, call: int, *, again: bool
    ) -> None:
        """Send it, unless the process dies before or after."""
        if (attempt, call) not in self.told:
            self.told.add((attempt, call))
            self.goes[number, token] += 1
            self.allowed[number, token] += again
        assert self.goes[number, token] <= 1 + self.allowed[number, token], "repeated silently"
        if attempt not in worker.hands:
            return
        if not self.chance(0.1):
            self.mailbox.add(token)
        if self.chance(0.15):
            self.end(worker, attempt, {"outcome": "lost", "error": {"message": "it died"}})
            return

        def on_answer(answer: Any) -> None:
            if answer is LOST:
                self.send(worker, command, on_answer, 0.3)
            elif isinstance(answer, Refused):
                worker.hands.pop(attempt, None)
            else:
                self.complete(worker, attempt)

        self.mailbox.add(token)
        command = EndEffect(worker.name, attempt, MAIL, done=True, value=1)
        self.send(worker, command, on_answer, 0.3)

    def complete(self, worker: SimWorker, attempt: int) -> None:
        """The task returns, or fails while things go wrong."""
        work = worker.hands.get(attempt)
        if work is None:
            return
        name = work["task"].partition("/")[2]
        outcome, value = behave(name, work["input"], work["tries"])
        if self.calm:
            outcome, value = "done", healed(name, work["input"])
        item = {"outcome": outcome, "output": value}
        if outcome == "failed":
            item = {"outcome": outcome, "error": {"type": "E", "message": ""}}
        self.end(worker, attempt, item)

    # What must hold

    def check_end(self) -> None:
        """Each run ended, as one in which nothing went wrong."""
        assert not audit(self.database.writer)
        assert not broken_fractions(self.database.writer)
        assert len(self.acknowledged) == self.RUNS, "a start was never acknowledged"
        for number in self.acknowledged:
            clean = clean_run(self.plans[0], self.names)
            ((state, round_number),) = self.database.writer.execute(
                "SELECT state, round FROM runs WHERE number = ?", (number,)
            ).fetchall()
            self.counts[state] += 1
            self.counts["rounds"] += round_number
            expected = "done" if clean.root.state == "skipped" else clean.root.state
            assert state == expected, f"run {number} is {state}, not {expected}"
            if expected == "done":
                self.same_states(number, clean.root)

    def same_states(self, number: int, root: Spot) -> None:
        """Every part of the plan is as in a run in which nothing went wrong."""
        wanted = {one.address: one.state for one in root.all()}
        for address, (state, reason) in states(self.database, number).items():
            if address in wanted and reason != "gone" and "/on_" not in f"/{address}":
                assert state == wanted[address], (address, state, wanted[address])
