"""Worlds of the clock: schedules, later starts, crashes, down times, a clock that is set.

Nobody works for long here: runs end at random. What is checked after every step: no planned time is
started twice, none before its time, none while its schedule is paused, and never two beside each
other where the schedule forbids it. In worlds whose clock is only ever right, each planned time is
accounted for: it was started, passed over, or waits.
"""

from __future__ import annotations

import random
import shutil
import tempfile
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from tests.floor import task_loom
from tests.simulator.world import _empty_folder, _memory_folder
from yarnloom import planned_at, step
from yarnloom.engine import Engine
from yarnloom.engine.commands import (
    CancelRun,
    ChangeSchedule,
    Command,
    MakeSchedule,
    Publish,
    RemoveSchedule,
    Started,
    StartRun,
    StartSchedule,
    Tick,
)
from yarnloom.errors import Refused
from yarnloom.recurrence import Recurrence
from yarnloom.store import Database, audit
from yarnloom.testing import ManualClock

CRONS = ("* * * * *", "*/7 * * * *", "15 * * * *", "0 */2 * * *", "30 1 * * *")
ZONES = ("UTC", "Europe/Lisbon", "Australia/Lord_Howe")
BESIDE = "start"
DOINGS = (
    *("make", "make", "pause", "resume", "change", "remove", "now", "end", "end", "end"),
    *("later", "by", "set", "crash"),
)


class Crash(BaseException):
    """The process ends here."""


class ClockWorld:
    """One of them.

    Args:
        seed: decides everything.
        tell: told of what happens.
    """

    STEPS = 50

    def __init__(self, seed: int, tell: Callable[[str], None] = lambda _: None) -> None:
        self.random = random.Random(seed)
        self.tell = tell
        self.honest = seed % 3 == 0  # the clock of these is never set
        begin = datetime(2026, self.random.choice((3, 4, 10)), 24, tzinfo=UTC).timestamp()
        self.clock = ManualClock(round(begin + self.random.uniform(0, 864_000)) * 1_000_000)
        self.folder = tempfile.TemporaryDirectory(prefix="yarnloom-clock-", dir=_memory_folder())
        shutil.copytree(_empty_folder(), self.folder.name, dirs_exist_ok=True)
        self.due: float | None = None
        self.counts: Counter[str] = Counter()
        self.seen: set[int] = set()
        self.made: dict[str, int] = {}  # schedules that nobody touched since
        self.acknowledged: dict[int, int | None] = {}  # run: its start time
        self.crash_at = ""
        self.begin()

    def begin(self) -> None:
        """The service starts, with what is in its folder."""
        self.database = Database(Path(self.folder.name))
        self.engine = Engine(self.database, self.clock())
        real = self.engine._unit.commit

        def commit() -> Any:
            where, self.crash_at = self.crash_at, ""
            if where == "before":
                raise Crash
            found = real()
            if where == "after":
                raise Crash
            return found

        self.engine._unit.commit = commit  # type: ignore[method-assign]
        self.due = self.clock.mono

    def do(self, command: Command) -> Any:
        """Do a command; None where the service crashed, or said no."""
        if self.random.random() < 0.03:
            self.crash_at = self.random.choice(("before", "after"))
        try:
            results = self.engine.execute([command], self.clock())
        except Crash:
            self.counts["crashes"] += 1
            self.database.writer.rollback()
            self.database.close()
            if self.random.random() < 0.3:
                self.pass_time(self.random.choice((30, 600, 7_200, 300_000)))
            self.begin()
            self.check()
            return None
        self.crash_at = ""
        self.due = results.next_due
        (answer,) = results.answers
        assert not isinstance(answer, Exception) or isinstance(answer, Refused), answer
        self.check()
        return None if isinstance(answer, Exception) else answer

    def run(self) -> None:
        """Let it live."""
        loom, work = task_loom()
        loom.workflow("w", plan=step("it", work, value=planned_at()))
        while self.do(Publish(who="sim", **loom.publication())) is None:
            pass
        for _ in range(self.STEPS):
            self.live(self.random.choice((5, 61, 61, 300, 300, 3_600)))
            self.meddle()
        self.live(0.0)
        self.account()
        assert audit(self.database.writer) == []
        self.database.close()
        self.folder.cleanup()

    def pass_time(self, seconds: float) -> None:
        """By all clocks."""
        self.clock.advance(seconds)

    def live(self, seconds: float) -> None:
        """Time passes, and the service's timer rings when it should."""
        end = self.clock.mono + seconds
        while True:
            due = self.clock.mono if self.due is None else self.due
            if self.due is None or due > end:
                break
            self.pass_time(max(0.0, due - self.clock.mono))
            self.due = None
            self.do(Tick())
        self.pass_time(max(0.0, end - self.clock.mono))

    def meddle(self) -> None:
        """Somebody does something."""
        name = self.random.choice(("a", "b", "c"))
        match self.random.choice(DOINGS):
            case "make":
                self.make(name)
            case "pause" | "resume" as what:
                if self.do(ChangeSchedule(name, {}, "sim", paused=what == "pause")):
                    self.made.pop(name, None)
            case "change":
                if self.do(ChangeSchedule(name, {"cron": self.random.choice(CRONS)}, "sim")):
                    self.made.pop(name, None)
            case "remove":
                self.made.pop(name, None)
                self.do(RemoveSchedule(name, "sim"))
            case "now":
                self.do(StartSchedule(name, f"now-{self.random.random()}", "sim"))
            case "end":
                self.end_some()
            case "later":
                wait = self.random.choice((1.0, 90.0, 5_000.0))
                self.acknowledge(self.do(self.start(start_in=wait)))
            case "by":
                by = self.clock.now + self.random.choice((10, 4_000)) * 1_000_000
                self.acknowledge(self.do(self.start(start_by=by, start_in=1.0)))
            case "set" if not self.honest:
                jump = self.random.choice((-90_000, -3_700, -59, 2, 59, 3_700, 90_000))
                self.tell(f"the clock is set by {jump} s")
                self.clock.now += jump * 1_000_000
            case "crash":
                self.crash_at = "before"
                self.due = self.clock.mono

    def start(self, **options: Any) -> StartRun:
        """A start."""
        return StartRun("w", {}, f"k-{self.random.random()}", "sim", **options)

    def acknowledge(self, answer: Any) -> None:
        """A start was answered."""
        if isinstance(answer, Started):
            number = answer.run.number
            ((at,),) = self.database.writer.execute(
                "SELECT start_at FROM runs WHERE number = ?", (number,)
            ).fetchall()
            self.acknowledged[number] = at

    def make(self, name: str) -> None:
        """A schedule is made."""
        settings: dict[str, Any] = {
            "workflow": "w",
            "cron": self.random.choice(CRONS),
            "zone": self.random.choice(ZONES),
            "if_busy": self.random.choice(("wait", "skip", "replace", BESIDE)),
            "missed": self.random.choice(("one", "none")),
        }
        if settings["if_busy"] == BESIDE and self.random.random() < 0.5:
            settings["missed"] = "all"
        now = self.clock.now
        if self.do(MakeSchedule(name, settings, "sim")):
            self.tell(f"{name} is made: {settings}")
            self.made[name] = now

    def end_some(self) -> None:
        """Runs that are under way end."""
        found = self.database.writer.execute(
            "SELECT number FROM runs WHERE ended_at IS NULL AND admission = 1"
        ).fetchall()
        for (number,) in found:
            if self.random.random() < 0.7:
                self.do(CancelRun(number, "sim"))

    # What must hold

    def check(self) -> None:
        """After every step."""
        rows = self.database.writer.execute(
            "SELECT number, schedule, planned_at, started_by, created_at, ended_at FROM runs"
            " WHERE schedule IS NOT NULL AND started_by LIKE 'schedule %'"
        ).fetchall()
        schedules = {row["name"]: row for row in self.schedules()}
        times = [(row[1], datetime.fromisoformat(row[2]).timestamp()) for row in rows]
        assert len(times) == len(set(times)), "a planned time was started twice"
        for row, (name, planned) in zip(rows, times, strict=True):
            if row[0] in self.seen:
                continue
            self.seen.add(row[0])
            self.counts["fired"] += 1
            self.tell(f"{name} fires {row[2]} as run {row[0]}")
            assert planned * 1_000_000 <= row[4], "started before its time"
            schedule = schedules[name]
            assert schedule["paused"] is None, "started by one that is paused"
        going = Counter(row[1] for row in rows if row[5] is None)
        for name, count in going.items():
            beside = name in schedules and schedules[name]["if_busy"] == BESIDE
            # One that was made anew knows nothing of what its earlier settings allowed.
            if not beside and name in self.made and self.allowed_always(name):
                assert count <= 1, f"{count} runs of {name} at once"
        for number, at in self.acknowledged.items():
            ((begun,),) = self.database.writer.execute(
                "SELECT admission >= 0 FROM runs WHERE number = ?", (number,)
            ).fetchall()
            if begun and at is not None and self.honest:
                assert at <= self.clock.now, "began before its start time"

    def allowed_always(self, name: str) -> bool:
        """Whether every unfinished run of a schedule came after it was made as it is."""
        ((first,),) = self.database.writer.execute(
            "SELECT coalesce(min(created_at), ?) FROM runs WHERE schedule = ? AND ended_at IS NULL",
            (self.clock.now, name),
        ).fetchall()
        return bool(first >= self.made[name])

    def schedules(self) -> list[dict[str, Any]]:
        """As they are in the records."""
        from yarnloom.engine.use_cases.schedules import _effective
        from yarnloom.store.runs import schedule_records

        return [
            {"name": row.name, "paused": row.paused, "row": row, **_effective(row)}
            for row in schedule_records.schedules(self.engine._unit)
        ]

    def account(self) -> None:
        """Where the clock was always right, nothing is lost: each planned time had its end."""
        if not self.honest:
            return
        for schedule in self.schedules():
            if schedule["name"] not in self.made or schedule["row"].by_hand:
                continue
            row = schedule["row"]
            recurrence = Recurrence(schedule["cron"], schedule["zone"])
            expected = 0
            for planned in recurrence.after(row.created_at):
                if planned > self.clock.now:
                    break
                expected += 1
            ((fired,),) = self.database.writer.execute(
                "SELECT count(*) FROM runs WHERE schedule = ? AND created_at >= ?"
                " AND started_by LIKE 'schedule %'",
                (row.name, row.created_at),
            ).fetchall()
            had = fired + row.passed_over + (row.waiting_at is not None)
            # What is caught up with after a long time is cut off.
            assert had == expected or (had < expected and had >= 100), (row.name, had, expected)
            self.counts["accounted"] += 1
