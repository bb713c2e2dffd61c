"""The worker protocol, spoken raw: as a worker written in any language would."""

from __future__ import annotations

import threading
import uuid
from collections.abc import Iterator
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from typing import Any

import httpx
import pytest
from pydantic import BaseModel

from tests import raw_http
from tests.helpers import LOOM, ServiceProgram, eventually, run_command, service
from yarnloom import Loom, each, item, param, previous, sequence, step
from yarnloom.client.http_requests import Request
from yarnloom.protocol.attempt_groups import one_by_one

Message = dict[str, Any]
LEASE = 6.0


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service without workers, with a short lease."""
    with service(tmp_path_factory.mktemp("protocol"), "--lease", str(LEASE)) as found:
        assert run_command("publish", LOOM, url=found.url).returncode == 0
        yield found


class RawWorker:
    """A worker that does only what a test tells it."""

    def __init__(self, program: ServiceProgram, places: int = 1) -> None:
        self.http = raw_http.Client(base_url=f"{program.url}/api/v1", timeout=60, trust_env=False)
        self.id = f"raw-{uuid.uuid4().hex[:8]}"
        self.places = places
        self.received: list[int] = []
        self.epoch = ""

    def register(self, *in_hand: int, **more: Any) -> Message:
        """Say what this worker is."""
        body = {
            "id": self.id,
            "name": self.id,
            "places": self.places,
            "tasks": {"marks/add": "0123456789ab"},
            "in_hand": list(in_hand),
            **more,
        }
        answer = self.http.post("/workers", json=body)
        assert answer.status_code == 201, answer.text
        found: Message = answer.json()
        self.epoch = found["epoch"]
        return found

    def ask(self, *, acknowledge: bool = True) -> list[Message]:
        """Open the request; what it is answered with."""
        body = {"epoch": self.epoch, "received": self.received}
        answer = self.http.post(f"/workers/{self.id}/ask", json=body)
        assert answer.status_code == 200, answer.text
        messages: list[Message] = answer.json()["messages"]
        if acknowledge:
            self.received = [message["serial"] for message in messages]
        return messages

    def report(self, *items: Message, **more: Any) -> httpx.Response:
        """Tell what happened."""
        body = {"epoch": self.epoch, "items": list(items), **more}
        return self.http.post(f"/workers/{self.id}/report", json=body)

    def leave(self) -> None:
        """End."""
        assert self.http.delete(f"/workers/{self.id}").status_code == 204


@pytest.fixture
def worker(program: ServiceProgram) -> Iterator[RawWorker]:
    """A registered worker, which leaves at the end."""
    found = RawWorker(program)
    found.register()
    yield found
    found.leave()


def start(program: ServiceProgram, number: int) -> int:
    """Start a run of two steps; its number."""
    return program.client().start("sums", number=number).number


def state(program: ServiceProgram, run: int) -> str:
    """A run's state."""
    return program.client().run(run).state


def test_work_is_pushed_to_an_open_request(program: ServiceProgram, worker: RawWorker) -> None:
    """The request hangs until there is something, and is answered with it."""
    with ThreadPoolExecutor(1) as threads:
        asked = threads.submit(worker.ask)
        run = start(program, 20)
        (work,) = asked.result(30)
    assert work["kind"] == "work"
    assert (work["task"], work["input"]) == ("marks/add", {"number": 20, "more": 1})
    assert (work["address"], work["number"], work["tries"]) == (f"{run}/first", 1, 1)

    worker.report({"attempt": work["attempt"], "begun_ago": 0.1})
    assert state(program, run) == "running"
    answer = worker.report({"attempt": work["attempt"], "outcome": "done", "output": 21}).json()
    (following,) = answer["messages"]
    assert following["input"] == {"number": 21}
    assert following["token"] != work["token"]
    worker.report({"attempt": following["attempt"], "outcome": "done", "output": 22})

    assert program.client().run(run).output == 22


@pytest.fixture(scope="module")
def many(program: ServiceProgram) -> str:
    """A workflow of many items of one step."""
    loom = Loom("many")

    @loom.task
    def double(value: int, by: int) -> int:
        return value * by

    @loom.task
    def numbers(count: int) -> list[int]:
        return list(range(count))

    class Count(BaseModel):
        count: int

    do = step("double", double, value=item(), by=2)
    plan = sequence(step("list", numbers, count=param("count")), each("all", over=previous, do=do))
    loom.workflow("many", params=Count, plan=plan)
    program.client().call(Request("POST", "/workflows", loom.publication()))
    return "many/many"


def test_many_attempts_come_and_go_together(program: ServiceProgram, many: str) -> None:
    """In one message, and as columns of one report; an attempt no longer in hand is left out."""
    worker = RawWorker(program)
    worker.register(tasks={"many/double": "d" * 12, "many/numbers": "n" * 12}, ahead=100)
    run = program.client().start(many, count=40)
    (first,) = worker.ask()
    end = {"attempt": first["attempt"], "outcome": "done", "output": list(range(40))}
    (works,) = worker.report(end, ahead=100).json()["messages"]
    assert works["kind"] == "works"
    assert works["input"] == {"by": 2}
    assert [own for _, own in works["items"]] == [{"value": value} for value in range(40)]
    found = list(one_by_one([works]))
    assert found[7]["address"] == f"{run.number}/all[7]/double"
    assert found[7]["input"] == {"by": 2, "value": 7}
    assert len({one["token"] for one in found}) == 40

    # Not acknowledged: attempts that have ended are left out when it is sent again.
    done = columns(found[:10])
    assert worker.report(done=done).json()["refused"] == []
    (again,) = worker.ask(acknowledge=False)
    assert again["items"][:10] == [None] * 10
    assert [one["attempt"] for one in one_by_one([again])] == [one["attempt"] for one in found[10:]]
    assert worker.report(done=done).json()["refused"] == [], "said again"
    assert worker.report(done=columns(found[10:])).json()["refused"] == []
    assert run.wait(30) == [2 * value for value in range(40)]
    worker.leave()


def columns(works: list[Message]) -> Message:
    """That attempts are done, as a report tells it."""
    return {
        "attempts": [one["attempt"] for one in works],
        "outputs": [one["input"]["value"] * one["input"]["by"] for one in works],
        "begun_ago": [0.01] * len(works),
        "ended_ago": [0.005] * len(works),
        "pids": [None] * len(works),
        "cpu": [0.001] * len(works),
        "memory": [10_000_000] * len(works),
    }


def test_columns_of_different_lengths_are_refused(
    program: ServiceProgram, worker: RawWorker
) -> None:
    """Nothing of the report counts, and the answer says which lists there were."""
    run = start(program, 1)
    (work,) = worker.ask()
    done = {**columns([{"attempt": work["attempt"], "input": {"value": 1, "by": 1}}]), "pids": []}
    answer = worker.report(done=done)
    assert answer.status_code == 422
    assert "attempts 1" in answer.text
    assert "pids 0" in answer.text
    assert state(program, run) in ("queued", "running")
    worker.report({"attempt": work["attempt"], "outcome": "refused", "error": {"message": ""}})


def test_a_newer_request_takes_the_place_of_the_older(
    program: ServiceProgram, worker: RawWorker
) -> None:
    """One is open at a time; the older, whichever arrived first, is answered empty at once."""
    with ThreadPoolExecutor(2) as threads:
        both = [threads.submit(worker.ask) for _ in range(2)]
        (older,), (newer,) = wait(both, 30, FIRST_COMPLETED)
        assert older.result() == []
        run = start(program, 1)
        (work,) = newer.result(30)
    worker.report({"attempt": work["attempt"], "outcome": "failed", "error": {"message": "no"}})

    assert state(program, run) == "failed"


def test_an_answer_that_was_lost_is_sent_again(program: ServiceProgram, worker: RawWorker) -> None:
    """The same attempt, as often as it is not acknowledged."""
    run = start(program, 1)
    first = worker.ask(acknowledge=False)
    second = worker.ask()
    assert first == second

    worker.report({"attempt": first[0]["attempt"], "outcome": "refused", "error": {"message": ""}})
    assert state(program, run) == "failed"


def test_a_result_after_the_lease_is_refused(program: ServiceProgram) -> None:
    """The worker was silent for too long; another got the step, and its result counts."""
    silent, other = RawWorker(program), RawWorker(program)
    silent.register()
    run = start(program, 5)
    (work,) = silent.ask()
    silent.report({"attempt": work["attempt"], "begun_ago": 0.0})
    other.register()
    alive = threading.Event()

    def lost() -> bool:
        if not alive.wait(0.2):
            other.report()  # renews the other's lease
        query = {"address": "first"}
        step = silent.http.get(f"/runs/{run}/steps", params=query).json()
        return bool(step["attempts"][0]["outcome"] == "lost")

    eventually(lost)
    (again,) = other.ask()
    assert (again["number"], again["token"]) == (2, work["token"])

    late = {"attempt": work["attempt"], "outcome": "done", "output": 99}
    assert silent.report(late).json()["type"] == "urn:yarnloom:worker-unknown"
    silent.register(work["attempt"])
    answer = silent.report(late).json()
    (refusal,), (order,) = answer["refused"], answer["messages"]
    assert refusal["attempt"] == work["attempt"]
    assert (order["kind"], order["attempt"]) == ("drop", work["attempt"])

    answer = other.report({"attempt": again["attempt"], "outcome": "done", "output": 6}).json()
    other.report({"attempt": answer["messages"][0]["attempt"], "outcome": "done", "output": 7})
    assert program.client().run(run).output == 7
    silent.leave()
    other.leave()


def test_the_open_request_of_a_lost_worker_is_answered(program: ServiceProgram) -> None:
    """So that it registers again at once, and does not wait for an answer that cannot come."""
    silent = RawWorker(program, places=0)
    silent.register()
    answer = silent.http.post(f"/workers/{silent.id}/ask", json={"epoch": silent.epoch})

    assert (answer.status_code, answer.json()["type"]) == (404, "urn:yarnloom:worker-unknown")


def test_a_cancel_reaches_the_open_request(program: ServiceProgram, worker: RawWorker) -> None:
    """Also of a worker that is full."""
    run = start(program, 1)
    (work,) = worker.ask()
    worker.report({"attempt": work["attempt"], "begun_ago": 0.0})
    with ThreadPoolExecutor(1) as threads:
        asked = threads.submit(worker.ask)
        program.client().run(run).cancel("enough")
        (order,) = asked.result(30)
    assert (order["kind"], order["attempt"], order["why"]) == ("stop", work["attempt"], "cancel")

    worker.report({"attempt": work["attempt"], "outcome": "cancelled"})
    assert state(program, run) == "cancelled"


def test_a_worker_that_leaves_gives_back(program: ServiceProgram, worker: RawWorker) -> None:
    """Another one gets the step, which has lost nothing."""
    run = start(program, 1)
    leaving = RawWorker(program)
    leaving.register()
    (work,) = leaving.ask()
    leaving.leave()
    (again,) = worker.ask()

    assert (again["address"], again["number"], again["tries"]) == (work["address"], 2, 1)
    worker.report({"attempt": again["attempt"], "outcome": "failed", "error": {"message": "x"}})
    assert state(program, run) == "failed"


def test_lines_arrive_before_the_end(program: ServiceProgram, worker: RawWorker) -> None:
    """In one report; and once, although it was sent twice."""
    run = start(program, 1)
    (work,) = worker.ask()
    attempt = work["attempt"]
    lines = [{"at": "2027-01-01T00:00:00Z", "stream": "stdout", "text": "high water"}]
    logs = [{"attempt": attempt, "first": 0, "lines": lines}]
    item = {"attempt": attempt, "outcome": "failed", "error": {"type": "E", "message": "x"}}
    for _ in range(2):
        assert worker.report(item, logs=logs).json()["refused"] == []
    found = worker.http.get(f"/runs/{run}/log", params={"address": "first"}).json()

    assert [line["text"] for line in found["lines"]] == ["high water"]


@pytest.mark.parametrize(
    ("body", "pointer"),
    [
        ({"items": [{"attempt": 1, "outcome": "lucky"}]}, "/items/0/outcome"),
        ({"items": [{"attempt": "x"}]}, "/items/0/attempt"),
        ({"items": [{"attempt": 1, "begun_ago": -1}]}, "/items/0/begun_ago"),
        ({"places": -1}, "/places"),
        ({"what": 1}, "/what"),
    ],
)
def test_a_report_that_is_none_is_refused(worker: RawWorker, body: Message, pointer: str) -> None:
    """With the place of the mistake."""
    told = {"epoch": worker.epoch, **body}
    answer = worker.http.post(f"/workers/{worker.id}/report", json=told)

    assert answer.status_code == 422
    assert pointer in [problem["pointer"] for problem in answer.json()["problems"]]


@pytest.fixture(scope="module")
def chain(program: ServiceProgram) -> str:
    """A workflow of four steps, each of which reads the one before it."""
    loom = Loom("chain")

    @loom.task
    def more(value: int) -> int:
        return value + 1

    class Value(BaseModel):
        value: int

    names = ("b", "c", "d")
    steps = [step("a", more, value=param("value"))]
    steps += [step(name, more, value=previous) for name in names]
    loom.workflow("four", params=Value, plan=sequence(*steps))
    program.client().call(Request("POST", "/workflows", loom.publication()))
    return "chain/four"


def test_steps_come_behind_each_other_in_one_message(program: ServiceProgram, chain: str) -> None:
    """A worker that names its plain tasks gets a relay; a decision waits for its answer."""
    worker = RawWorker(program)
    task = {"chain/more": "m" * 12}
    worker.register(tasks=task, plain_tasks=list(task), ahead=10)
    run = program.client().start(chain, value=1)
    (message,) = worker.ask()
    first, *legs = one_by_one([message])
    assert (first["input"], [one["input"] for one in legs]) == ({"value": 1}, [{}] * 3)
    assert [one["passed"] for one in legs] == [
        {"value": one["attempt"]} for one in (first, *legs[:-1])
    ]
    answer = worker.http.post(f"/runs/{run.number}/steps/skip", params={"address": "d"})
    assert (answer.status_code, answer.json()["type"]) == (503, "urn:yarnloom:busy")
    assert "may have begun, and has not answered" in answer.json()["detail"]
    orders = worker.ask()
    assert {(one["kind"], one["attempt"]) for one in orders} == {
        ("stop", one["attempt"]) for one in legs
    }
    ends = [{"attempt": one["attempt"], "outcome": "handed_back"} for one in legs]
    assert worker.report(*ends).json()["refused"] == []
    answer = worker.http.post(f"/runs/{run.number}/steps/skip", params={"address": "d"})
    assert answer.status_code == 200, answer.text
    run.cancel()
    end = {"attempt": first["attempt"], "outcome": "cancelled"}
    assert worker.report(end).json()["refused"] == []
    worker.leave()


def test_workers_that_are_gone_are_told_apart_from_those_of_other_services(
    served: ServiceProgram,
) -> None:
    """Only those that this service knew are in the answer, and they are gone."""
    with raw_http.Client(base_url=f"{served.url}/api/v1", trust_env=False) as http:
        facts = {"id": "left-1", "name": "left", "places": 0, "tasks": {}}
        assert http.post("/workers", json=facts).status_code == 201
        body = {"begun_ago": {"left-1": {"7": 1.0}, "elsewhere": {}}}
        answer = http.post("/workers/gone", json=body)
        names = {worker["name"] for worker in http.get("/workers").json()["workers"]}
        again = http.post("/workers/gone", json=body)

    assert (answer.status_code, answer.json()) == (200, {"known": ["left-1"]})
    assert "left" not in names
    assert again.json() == {"known": []}
