"""A worker's talk with the service: order, retries, and what is kept while nobody answers."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from typing import Any

import pytest

from tests.fake_network import AsyncFakeNetwork, answer_json, body_of
from yarnloom.client import AsyncClient, ConnectionLost, HttpRequest, HttpResponse, Target
from yarnloom.worker import connection as link_module
from yarnloom.worker import report_queue
from yarnloom.worker.connection import Link
from yarnloom.worker.report_queue import NOT_TOLD

Message = dict[str, Any]


class Service:
    """A made-up service: keeps what it is told, and fails when it is asked to."""

    def __init__(self) -> None:
        self.requests: list[tuple[str, Message]] = []
        self.failures: list[Callable[[str], HttpResponse | None]] = []
        self.refused: list[Message] = []
        self.refuse: Callable[[str, Message], HttpResponse | None] = lambda kind, body: None
        self.epoch = "one"
        self.epochs: list[str] = []
        self.commits = 1

    def __call__(self, request: HttpRequest) -> HttpResponse:
        kind = request.url.rsplit("/", 1)[1]
        body = json.loads(body_of(request))
        if self.failures and (answer := self.failures.pop(0)(kind)):
            return answer
        if answer := self.refuse(kind, body):
            return answer
        self.requests.append((kind, body))
        if kind == "workers":
            told = {"worker": "w", "lease": 30.0, "service": "s", "epoch": self.epoch}
            return answer_json(201, {**told, "commits": 1, "secret": "s"})
        told = {"refused": self.refused, "messages": [], "commits": self.commits}
        return answer_json(200, told)

    @property
    def reports(self) -> list[Message]:
        """The bodies of all reports."""
        return [body for kind, body in self.requests if kind == "report"]


def make_link(service: Service) -> Link:
    """A link over a made-up connection."""

    async def on_epoch() -> None:
        service.epochs.append(service.epoch)

    target = Target("http://127.0.0.1:9", "the test's")
    found = Link(
        target,
        "w",
        introduce=lambda: {"name": "w", "places": 1, "tasks": {}, "in_hand": []},
        places=lambda: {"places": 1},
        on_message=lambda message: None,
        on_taken=lambda: None,
        on_refused=lambda refusal: None,
        on_lease_over=lambda: None,
        on_epoch=on_epoch,
        on_shut_out=lambda error: None,
        on_heard=lambda until: None,
        say=lambda text: None,
    )
    found._client = AsyncClient(target=target, transport=AsyncFakeNetwork(service))
    return found


def line(text: str) -> Message:
    """A printed line."""
    return {"at": "2027-01-01T00:00:00Z", "stream": "stdout", "text": text}


def run(service: Service, use: Callable[[Link], Any]) -> None:
    """Use a link that is registered."""

    async def main() -> None:
        link = make_link(service)
        await link.register()
        await use(link)
        await link.close()

    asyncio.run(main())


def test_an_end_waits_until_its_lines_are_sent(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whoever sees that an attempt has ended finds its whole log."""
    monkeypatch.setattr(report_queue, "REPORT_BYTES", 600)
    service = Service()

    async def use(link: Link) -> None:
        for number in range(10):
            link.queue.line(7, line(f"line {number}"))
        link.queue.report({"attempt": 7, "outcome": "done"})
        link.queue.report({"attempt": 8, "outcome": "done"})
        while not link.queue.settled:
            await link.send_report()

    run(service, use)

    ends = [[item["attempt"] for item in report["items"]] for report in service.reports]
    lines = [one["text"] for r in service.reports for log in r["logs"] for one in log["lines"]]
    firsts = [log["first"] for r in service.reports for log in r["logs"]]
    assert ends[0] == [8]
    assert ends[-1] == [7]
    assert lines == [f"line {number}" for number in range(10)]
    assert firsts == sorted(set(firsts))


def test_ends_of_a_process_are_told_in_their_order(monkeypatch: pytest.MonkeyPatch) -> None:
    """What ran behind another is not told before it, though that still has lines to send."""
    monkeypatch.setattr(report_queue, "REPORT_BYTES", 600)
    service = Service()

    async def use(link: Link) -> None:
        for number in range(10):
            link.queue.line(7, line(f"line {number}"))
        for attempt, pid in ((6, 1), (7, 1), (8, 1), (9, 2)):
            link.queue.report({"attempt": attempt, "pid": pid, "outcome": "done"})
        while not link.queue.settled:
            await link.send_report()

    run(service, use)

    ends = [item["attempt"] for report in service.reports for item in report["items"]]
    assert ends == [6, 9, 7, 8]


def test_what_was_not_answered_is_told_again() -> None:
    """After a broken connection, and after the service forgot this worker."""
    service = Service()

    def breaks(kind: str) -> HttpResponse | None:
        raise ConnectionLost("cut")

    def forgets(kind: str) -> HttpResponse | None:
        problem = {"type": "urn:yarnloom:worker-unknown", "detail": "register again"}
        return answer_json(404, problem)

    async def use(link: Link) -> None:
        service.failures += [breaks, forgets]
        link.queue.line(7, line("kept"))
        link.queue.report({"attempt": 7, "outcome": "done"})
        await link.send_report()
        assert not link.queue.settled
        await link.send_report()
        assert link.queue.settled

    run(service, use)

    assert [kind for kind, _ in service.requests] == ["workers", "workers", "report"]
    (report,) = service.reports
    assert [item["attempt"] for item in report["items"]] == [7]
    assert report["logs"] == [{"attempt": 7, "first": 0, "lines": [line("kept")]}]


def test_what_prints_without_end_is_cut(monkeypatch: pytest.MonkeyPatch) -> None:
    """The last line says so; another attempt is not touched."""
    monkeypatch.setattr(report_queue, "LOG_BYTES_AN_ATTEMPT", 1_000)
    service = Service()

    async def use(link: Link) -> None:
        for number in range(100):
            link.queue.line(7, line(f"line {number}"))
        link.queue.line(8, line("other"))
        await link.send_report()

    run(service, use)
    logs = {log["attempt"]: log["lines"] for log in service.reports[0]["logs"]}

    assert len(logs[7]) < 20
    assert "dropped" in logs[7][-1]["text"]
    assert logs[8] == [line("other")]


def test_a_short_attempt_is_told_once() -> None:
    """Its end says when it began, too."""
    service = Service()

    async def use(link: Link) -> None:
        link.queue.report_begun({"attempt": 7, "outcome": None, "begun_at": 0.0})
        link.queue.report({"attempt": 7, "outcome": "done", "begun_at": 0.0})
        await link.send_report()

    run(service, use)
    (item,) = service.reports[0]["items"]

    assert item["outcome"] == "done"
    assert item["begun_ago"] > 0


def test_what_other_records_gave_out_is_not_reported() -> None:
    """With another epoch everything is forgotten, and the worker ends what it has."""
    service = Service()

    def forgets(kind: str) -> HttpResponse | None:
        problem = {"type": "urn:yarnloom:worker-unknown", "detail": "register again"}
        service.epoch = "two"
        return answer_json(404, problem)

    async def use(link: Link) -> None:
        service.commits = 41
        await link.send_report()
        link.queue.line(7, line("of before"))
        link.queue.report({"attempt": 7, "outcome": "done"})
        service.failures.append(forgets)
        await link.send_report()
        link.queue.report({"attempt": 7, "outcome": "done"})  # another attempt, by that number
        await link.send_report()

    run(service, use)

    assert service.epochs == ["two"]
    first, again, third = [body for kind, body in service.requests if kind == "workers"]
    assert (first["service"], first["epoch"], first["commits"]) == ("", "", 0)
    assert (again["service"], again["epoch"], again["commits"]) == ("s", "one", 41)
    assert (third["epoch"], third["in_hand"]) == ("two", [])
    told = [(report["epoch"], len(report["items"])) for report in service.reports]
    assert told == [("one", 0), ("two", 1)]


def refusing(*attempts: int, status: int = 422) -> Callable[[str, Message], HttpResponse | None]:
    """A service that takes no report of some attempts, unless it is only that they failed."""

    def answer(kind: str, body: Message) -> HttpResponse | None:
        if kind != "report":
            return None
        items = [item for item in body["items"] if item.get("error", {}).get("type") != NOT_TOLD]
        told = [entry["attempt"] for entry in items + body["logs"]]
        told += [*map(int, body["saved"]), *body.get("done", {}).get("attempts", ())]
        if not set(attempts) & set(told):
            return None
        code = {422: "invalid-input", 413: "too-large", 500: "error"}[status]
        problem = {"type": f"urn:yarnloom:{code}", "detail": "it does not fit"}
        return answer_json(status, problem)

    return answer


@pytest.mark.parametrize("status", [413, 422, 500])
def test_a_refused_end_fails_its_attempt_and_all_others_are_told(
    status: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The report is halved until the one that is in the way is alone."""
    monkeypatch.setattr(link_module, "BROKEN_SECONDS", 0.0)
    service = Service()
    service.refuse = refusing(7, 20, status=status)

    async def use(link: Link) -> None:
        for number in range(1, 31):
            link.queue.report({"attempt": number, "outcome": "done", "output": number})
        ack = link.queue.acknowledge_saved()
        while not link.queue.settled:
            await link.send_report()
        await ack

    run(service, use)

    items = [item for report in service.reports for item in report["items"]]
    columns = [report.get("done", {}) for report in service.reports]
    done = [attempt for column in columns for attempt in column.get("attempts", ())]
    done += [item["attempt"] for item in items if item["outcome"] == "done"]
    failed = {item["attempt"]: item["error"] for item in items if item["outcome"] == "failed"}
    assert sorted(done) == [number for number in range(1, 31) if number not in (7, 20)]
    assert failed.keys() == {7, 20}
    assert failed[7]["type"] == NOT_TOLD
    assert "it does not fit" in failed[7]["message"]


def test_refused_lines_and_records_are_dropped_and_the_end_is_told() -> None:
    """What they belong to goes on."""
    service = Service()
    service.refuse = refusing(7)

    async def use(link: Link) -> None:
        for number in (6, 7, 8):
            link.queue.line(number, line(f"of {number}"))
            link.queue.saved(number, {"kept": number})
        link.queue._tell_saved()
        for _ in range(3):
            await link.send_report()

    run(service, use)

    lines = [one["text"] for r in service.reports for log in r["logs"] for one in log["lines"]]
    saved = [number for report in service.reports for number in report["saved"]]
    assert sorted(lines) == ["of 6", "of 8"]
    assert sorted(saved) == ["6", "8"]


def test_a_service_that_cannot_store_is_waited_for() -> None:
    """503 divides nothing, and neither does a broken line."""
    service = Service()
    busy = {"type": "urn:yarnloom:busy", "detail": "the disk is full"}
    service.failures = [lambda kind: None, *[lambda kind: answer_json(503, busy)] * 3]

    async def use(link: Link) -> None:
        for number in range(1, 4):
            link.queue.report({"attempt": number, "outcome": "done", "output": number})
        await link.send_report()

    run(service, use)

    (report,) = service.reports
    assert [item["attempt"] for item in report["items"]] == [1, 2, 3]
