"""Tokens and sessions over time, with a clock that the test moves."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from starlette.datastructures import Headers

from yarnloom.engine import Engine, EngineSettings, Moment
from yarnloom.engine.commands import Command
from yarnloom.errors import TokenNeeded
from yarnloom.service.access import gate as gates
from yarnloom.service.access.gate import Gate
from yarnloom.service.access.one_time_codes import OneTimeCodes
from yarnloom.store import Database

HOUR, DAY = 3_600.0, 86_400.0


class Clock:
    """The time in seconds."""

    def __init__(self) -> None:
        self.now = 1_800_000_000.0

    def time(self) -> float:
        """As `time.time`."""
        return self.now

    def monotonic(self) -> float:
        """As `time.monotonic`."""
        return self.now


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    """The clock of gates."""
    made = Clock()
    monkeypatch.setattr(gates, "time", made)
    return made


def with_gate(data: Path, clock: Clock, use: Callable[[Gate], Any]) -> None:
    """Open a gate over a data folder, use it, and close it."""

    async def main() -> None:
        database = Database(data)
        engine = Engine(database, Moment(round(clock.now * 1_000_000), clock.now), EngineSettings())

        async def submit(command: Command) -> Any:
            moment = Moment(round(clock.now * 1_000_000), clock.now)
            results = engine.execute([command], moment)
            (answer,) = results.answers
            if isinstance(answer, BaseException):
                raise answer
            return answer

        try:
            await use(Gate(database, submit, 30.0))
        finally:
            database.close()

    asyncio.run(main())


def signed_in(gate: Gate, session: Any) -> bool:
    """Whether a browser with a session is let in."""
    headers = {"cookie": f"{gate.cookie_name}={session.cookie}", "yarnloom-session": session.header}
    try:
        gate.caller(Headers(headers), is_own_user=False, reports=False)
    except TokenNeeded:
        return False
    return True


def test_a_session_ends_after_idle_hours_and_after_thirty_days(
    tmp_path: Path, clock: Clock
) -> None:
    """And is known again after a restart."""
    kept: list[Any] = []

    async def begin(gate: Gate) -> None:
        code = gate.sign_ins.make("mira@desk")
        kept.append(await gate.sign_in(code=code))
        for _ in range(20):
            clock.now += 11 * HOUR
            assert signed_in(gate, kept[0])
            await asyncio.sleep(0)
        other = await gate.sign_in(code=gate.sign_ins.make("mira@desk"))
        clock.now += 12 * HOUR + 1
        assert not signed_in(gate, other)
        assert not signed_in(gate, kept[0])
        kept[0] = await gate.sign_in(code=gate.sign_ins.make("mira@desk"))

    async def go_on(gate: Gate) -> None:
        for _ in range(int(30 * DAY / (11 * HOUR))):
            assert signed_in(gate, kept[0])
            clock.now += 11 * HOUR
            await asyncio.sleep(0)
        clock.now += 11 * HOUR
        assert not signed_in(gate, kept[0])

    with_gate(tmp_path, clock, begin)
    with_gate(tmp_path, clock, go_on)


def test_a_token_ends_and_its_worker_reports_for_a_lease(tmp_path: Path, clock: Clock) -> None:
    """At the end that it was made with, or when it is revoked."""

    async def use(gate: Gate) -> None:
        _, token = await gate.add_token("tug", ("work",), (), 60.0, "test")
        shown = Headers({"authorization": f"Bearer {token}"})

        def is_let_in(*, reports: bool) -> bool:
            try:
                gate.caller(shown, is_own_user=False, reports=reports)
            except TokenNeeded:
                return False
            return True

        clock.now += 59
        assert is_let_in(reports=False)
        await gate.revoke_token("tug", "test", "")
        assert not is_let_in(reports=False)
        assert is_let_in(reports=True)
        clock.now += 31
        assert not is_let_in(reports=True)

    with_gate(tmp_path, clock, use)


def test_a_code_opens_once_and_for_a_while() -> None:
    """A guess opens nothing, and the oldest go when there are too many."""
    clock = Clock()
    codes: OneTimeCodes[str] = OneTimeCodes(900.0, clock.monotonic)
    first, second = codes.make("a"), codes.make("b")

    assert codes.take("guess") is None
    assert (codes.take(first), codes.take(first)) == ("a", None)
    clock.now += 901
    assert codes.take(second) is None
