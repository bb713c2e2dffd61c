"""The client, sync and async, against a real service."""

from __future__ import annotations

import asyncio
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from fastapi.encoders import jsonable_encoder

from tests import looms
from tests.fake_network import FakeNetwork, answer_json
from tests.helpers import ServiceProgram
from yarnloom import AsyncClient, Client, Start
from yarnloom.client import ConnectionLost, HttpRequest, HttpResponse, Target
from yarnloom.errors import (
    BadAnswer,
    InvalidInput,
    NotFound,
    NotReachable,
    OutputRefused,
    RunCancelled,
    RunFailed,
    ValueRefused,
    WaitTimeout,
)


def test_start_and_wait(served: ServiceProgram) -> None:
    """The output comes back as it was returned."""
    with served.client() as client:
        run = client.start("sums", number=1, key="with a key")

        assert run.wait(60) == 3
        assert (run.state, run.output) == ("done", 3)
        assert client.start("sums", {"number": 1}, key="with a key").number == run.number
        assert client.run(run.number).output == 3


def test_follow_shows_the_run_until_it_ends(served: ServiceProgram) -> None:
    """Each time it changes, and last as it ended."""
    with served.client() as client:
        states = [run.state for run in client.start("sums", number=1).follow()]

    assert states[-1] == "done"


def test_the_async_client_does_the_same(served: ServiceProgram, tmp_path: Path) -> None:
    """Start, wait, follow, cancel."""

    async def main() -> None:
        async with AsyncClient(served.url) as client:
            run = await client.start("sums", number=2)
            assert await run.wait(60) == 4
            assert [one.number async for one in client.runs(limit=1)] == [run.number]
            other = await client.start("heeds", folder=str(tmp_path))
            await other.cancel("enough")
            states = [one.state async for one in other.follow()]
            assert states[-1] == "cancelled"
            with pytest.raises(RunCancelled, match="enough"):
                await other.wait(60)
            with pytest.raises(NotFound):
                await client.run(999_999)

    asyncio.run(main())


def test_hundreds_can_be_waited_for_at_once(served: ServiceProgram) -> None:
    """Each holds a request meanwhile, and others do not wait behind them."""

    async def main() -> None:
        async with AsyncClient(served.url) as client:
            later = [Start("marks/sums", {"number": 1}, after="1h") for _ in range(150)]
            runs = [await client.run(number) for number in await client.start_many(later)]
            waits = [asyncio.create_task(run.wait(60)) for run in runs]
            run = await client.start("sums", number=2)
            assert await run.wait(9) == 4
            for one in runs:
                await one.cancel()
            ended = await asyncio.gather(*waits, return_exceptions=True)
            assert {type(one) for one in ended} == {RunCancelled}

    asyncio.run(main())


def test_a_wait_that_was_too_short_says_so(served: ServiceProgram, tmp_path: Path) -> None:
    """The run goes on."""
    with served.client() as client:
        run = client.start("heeds", folder=str(tmp_path))
        with pytest.raises(WaitTimeout, match=r"after 0.1 s of waiting; it goes on"):
            run.wait(0.1)
        run.cancel()


def test_errors_are_typed(served: ServiceProgram) -> None:
    """And say what to do."""
    with served.client() as client:
        with pytest.raises(NotFound, match="did you mean 'sums'"):
            client.start("smus")
        with pytest.raises(InvalidInput) as refused:
            client.start("sums", number="x")
        assert [problem.where for problem in refused.value.problems] == ["/number"]
        with pytest.raises(ValueRefused, match="found nan"):
            client.start("sums", number=float("nan"))
        with pytest.raises(RunFailed, match=r"failed at \d+/misbehave: ValueError: it went wrong"):
            client.start("misbehaves", how="raise").wait(60)


def test_not_reachable_names_the_address_and_its_setting(monkeypatch: pytest.MonkeyPatch) -> None:
    """Given, from the environment, or the default."""
    with pytest.raises(NotReachable, match=r"http://127.0.0.1:9 \(given as url\).*yarnloom serve"):
        list(Client("http://127.0.0.1:9").runs())
    monkeypatch.setenv("YARNLOOM_URL", "http://127.0.0.1:10/")
    with pytest.raises(NotReachable, match=r"http://127.0.0.1:10 \(from YARNLOOM_URL\)"):
        list(Client().runs())
    monkeypatch.delenv("YARNLOOM_URL")
    assert Target.find().setting == "the default"


def test_something_else_at_the_address_is_recognised() -> None:
    """A proxy's page, or another program's JSON."""
    for status, content in ((200, b"<html>"), (404, b'{"detail": "no"}'), (502, b"")):
        transport = FakeNetwork(lambda _, s=status, c=content: HttpResponse(s, c))
        with pytest.raises(BadAnswer, match="Is it a Yarn Loom service"):
            list(Client("http://127.0.0.1:9", transport=transport).runs())


def test_a_start_whose_answer_was_lost_is_sent_again_with_its_key() -> None:
    """So that the client's own retry makes no second run."""
    bodies: list[bytes] = []

    def answer(request: HttpRequest) -> HttpResponse:
        bodies.append(request.content)
        if len(bodies) < 3:
            raise ConnectionLost("connection reset")
        return answer_json(201, {"number": 1, "state": "queued", "workflow": "w"})

    client = Client("http://127.0.0.1:9", transport=FakeNetwork(answer))

    assert client.start("w").number == 1
    assert len(bodies) == 3
    assert len(set(bodies)) == 1


def test_a_single_task_is_started(served: ServiceProgram) -> None:
    """By both clients; its output is the run's."""
    assert served.client().start("pair", left=1, right=2).wait(60) == 3

    async def ask() -> Any:
        async with AsyncClient(served.url) as client:
            run = await client.start("marks/pair", {"left": 2, "right": 3})
            return await run.wait(60)

    assert asyncio.run(ask()) == 5


def test_a_keyword_that_may_be_an_input_is_refused(served: ServiceProgram) -> None:
    """After a name nobody knows which was meant; with both ways to say it."""
    client = served.client()
    with pytest.raises(InvalidInput, match="an option of every start and an input") as refused:
        client.start("keyed", item="tea", key="k1")
    (problem,) = refused.value.problems
    assert problem.where == "/keywords/key"
    assert "as an input" in problem.message
    assert "as an option" in problem.message

    first = client.start("keyed", {"item": "tea", "key": "input"}, key="k2")
    again = client.start(looms.keyed.of(item="tea", key="input"), key="k2")
    short = client.start(looms.keyed, item="tea", key="input")
    assert first.number == again.number != short.number
    assert [run.wait(60) for run in (first, again, short)] == ["tea for input"] * 3


def test_outputs_are_of_the_types_that_are_declared(served: ServiceProgram) -> None:
    """Of a call, of a task, and of a run that is looked at later; by both clients."""
    client = served.client()
    run = client.start(looms.dated.of(year=2027))
    assert run.wait(60) == date(2027, 1, 1)
    assert client.run(run.number, of=looms.dated).output == date(2027, 1, 1)
    assert client.run(run.number).output == "2027-01-01"
    with pytest.raises(OutputRefused) as refused:
        client.run(run.number, of=looms.add).wait()
    assert refused.value.value == "2027-01-01"

    async def ask() -> date:
        async with AsyncClient(served.url) as other:
            return await (await other.start(looms.dated, year=2028)).wait(60)

    assert asyncio.run(ask()) == date(2028, 1, 1)


def test_a_run_says_what_it_is(served: ServiceProgram) -> None:
    """Typed facts, a summary for web answers, and no JSON of its own."""
    client = served.client()
    run = client.start("sums", number=3, tags=["a"])
    run.wait(60)
    assert run.started_at is not None
    assert run.ended_at is not None
    assert run.created_at <= run.started_at <= run.ended_at
    assert (run.params["number"], run.tags, run.error, run.workflow) == (
        *(3, ("a",), None),
        "marks/sums",
    )
    assert run.url == f"{served.url}/runs/{run.number}"
    assert run.progress.fraction == 1.0
    assert run.summary().model_dump()["state"] == "done"
    assert [part.label for part in run.steps()]
    assert [attempt.outcome for attempt in run.attempts()] == ["done"] * len(list(run.attempts()))
    with pytest.raises(ValueError, match=r"return run.summary\(\) instead"):
        jsonable_encoder(run)


def test_a_wait_goes_on_where_a_run_was_mended(served: ServiceProgram, tmp_path: Path) -> None:
    """By somebody else, after it was seen to have failed."""
    client = served.client()
    run = client.start("looks", folder=str(tmp_path / "gone"))
    with pytest.raises(RunFailed):
        run.wait(60)
    (tmp_path / "gone").mkdir()
    served.client().run(run.number).mend()

    run.wait(60)
    assert (run.state, run.data["round"]) == ("done", 2)
