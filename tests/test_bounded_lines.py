"""Lines for a terminal: bounded, and never in the way."""

from __future__ import annotations

import asyncio
import threading

from yarnloom.bounded_lines import MOST_WAITING, BoundedLines, LineWriter


def test_more_lines_than_fit_are_counted() -> None:
    """At once at the end of the time, and at the end of all."""
    said: list[str] = []

    async def main() -> None:
        lines = BoundedLines(said.append, most=2, seconds=0.01)
        for number in range(1_242):
            lines.add(f"line {number}")
        while len(said) < 3:
            await asyncio.sleep(0)
        lines.add("later")
        lines.leave_out(4)
        lines.close()

    asyncio.run(main())

    assert said == ["line 0", "line 1", "and 1,240 more", "later", "and 4 more"]


def test_a_terminal_that_takes_nothing_holds_nobody_up() -> None:
    """Lines are dropped while it is stopped; closing does not wait for it."""
    taken, going = list[str](), threading.Event()

    def say(line: str) -> None:
        going.wait()
        taken.append(line)

    writer = LineWriter(say)
    for number in range(MOST_WAITING + 1_000):
        writer(str(number))
    writer.close()
    before = len(taken)
    going.set()

    assert before == 0
