"""A user's own program, which two strict checkers read: a loom, calls, a web application, tests."""

# ruff: noqa: D103, T201

from __future__ import annotations

from collections.abc import Generator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from fastapi import FastAPI
from pydantic import BaseModel

from yarnloom import (
    AsyncClient,
    AsyncStepContext,
    Call,
    Client,
    Loom,
    NotFound,
    Outbox,
    OutputRefused,
    Retry,
    Run,
    RunFailed,
    Start,
    StepContext,
    Task,
    Workflow,
    each,
    item,
    param,
    previous,
    sequence,
    step,
)
from yarnloom.answers import RunAnswer, WhyAnswer
from yarnloom.client import HttpRequest, HttpResponse, HttpStream, RunSummary, Transport
from yarnloom.outbox_connections import OutboxConnection

loom = Loom("mine")


class Params(BaseModel):
    texts: list[str]
    since: date = date(2027, 1, 1)


@dataclass
class Sum:
    letters: int
    until: date


@loom.task(retry=Retry(attempts=2), timeout="5s")
def count(ctx: StepContext, text: str) -> int:
    done = 0
    for word in ctx.track(text.split()):
        done += len(word)
    return done


@loom.task
def total(counts: list[int], key: str = "none") -> Sum:
    return Sum(sum(counts), date(2027, 1, 2))


@loom.task
async def fetch(ctx: AsyncStepContext, code: str) -> bytes:
    ctx.check()
    return code.encode()


report = loom.workflow(
    "report",
    params=Params,
    output=Sum,
    plan=sequence(
        each("texts", over=param("texts"), do=step("count", count.of(text=item()), pool="")),
        step("total", total.of(counts=previous, key="by letters")),
    ),
)
loom.schedule(report.of(texts=["ebb"]), cron="30 2 * * *", name="nightly")


def keep(call: Call[Sum], task: Task[[str], int], workflow: Workflow[..., Sum]) -> str:
    return f"{call.target.full_name} {task.name} {workflow.name}"


def main(connection: OutboxConnection) -> Sum:
    kept: str = keep(report.of(texts=[]), count, report)
    with Client() as client:
        run: Run[Sum] = client.start(report.of(texts=["ebb"]), key=kept, after=timedelta(minutes=5))
        other = client.start(total, counts=[1, 2], key="an input")
        letters: int = other.wait().letters
        until: date = run.wait(60).until
        typed: Sum | None = client.run(run.number, of=report).output
        client.start_many([report.of(texts=[]), Start(total.of(counts=[letters]), key="b")])
        Outbox().start(connection, report.of(texts=[]), at=datetime.now(UTC))
        client.start("report", texts=["flow"], tags=("night",))
        client.start("total", {"counts": [1], "key": "an input"}, priority=5)
        for one in client.runs(workflow="report", states=("done",)):
            details: RunAnswer = one.details
            print(one.state, details.workflow, one.progress.fraction, one.started_at)
        why: WhyAnswer = run.why()
        print(why.reasons, [entry.name for entry in run.items("texts")], typed)
        try:
            run.refresh()
        except (NotFound, RunFailed, OutputRefused) as error:
            print(error.code, error.detail, error.problems, error.facts)
    return Sum(letters, until)


def counted_here(ctx: StepContext) -> int:
    return count(ctx, "ebb and flow")


class Fake:
    def request(self, request: HttpRequest) -> HttpResponse:
        return HttpResponse(404, request.url.encode())

    @contextmanager
    def stream(self, request: HttpRequest) -> Generator[HttpStream]:
        yield HttpStream(404, {}, iter([request.url.encode()]))

    def close(self) -> None:
        pass


def test_it(transport: Transport | None = None) -> None:
    client = Client("http://127.0.0.1:1", transport=transport or Fake())
    assert next(client.runs(), None) is None


app = FastAPI()


@app.get("/reports/{number}")
async def show(number: int) -> RunSummary:
    async with AsyncClient() as client:
        run = await client.run(number, of=report)
        outcome: Sum = await run.wait()
        print(outcome.letters)
        return run.summary()
