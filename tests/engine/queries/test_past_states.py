"""What is looked back at is what was seen: any plan, at every moment of its run."""

from __future__ import annotations

import random
from typing import Any

import pytest
from pydantic import BaseModel

from tests.floor import Floor, floor, task_loom
from tests.helpers import much
from tests.plans import POOL, Maker, behave
from tests.same import PARAMS, document_of
from yarnloom import Loom, each, item, output, parallel, param, sequence, step
from yarnloom.engine.commands import DrainWorker, MendRun, Publish
from yarnloom.engine.queries.past_states import PastMoment, step_then

Seen = dict[str, Any]


def seen(view: dict[str, Any]) -> Seen:
    """By address the state of everything that a graph shows, and of an each how many are how."""
    found: Seen = {}
    pending = [view]
    while pending:
        one = pending.pop()
        if one.get("begun") is not False:
            counts = one.get("counts") if one["kind"] == "each" else None
            under_way = ("running", "ready", "paused", "backing_off", "resting")
            found[one["address"]] = (
                one["state"],
                counts
                and (
                    counts["total"],
                    sum(counts[name] for name in under_way),
                    *(counts[name] for name in ("done", "failed", "cancelled", "skipped")),
                ),
            )
            pending += [*one.get("parts", ()), *one.get("follow_ups", {}).values()]
    return found


class Watcher:
    """Lets time pass between everything that happens, and notes what is seen at each moment."""

    def __init__(self, at: Floor, number: int) -> None:
        self.at, self.number = at, number
        self.notes: list[tuple[int, str, Seen]] = []

    def note(self) -> None:
        """See the run's graph, and that of one of its items."""
        now = self.at.inline.clock.now
        graph = self.at.inline.graph(self.number)
        self.notes.append((now, "", seen(graph)))
        for address in self.items(graph)[:2]:
            self.notes.append((now, address, seen(self.at.inline.graph(self.number, address))))
        self.at.advance(0.01)

    def items(self, view: dict[str, Any]) -> list[str]:
        """Addresses of items that are shown on top of eaches."""
        found = [one["address"] for one in view.get("top", ())]
        for inner in view.get("parts", ()):
            found += self.items(inner)
        return found

    def compare(self) -> None:
        """What is looked back at is what was seen."""
        for now, address, wanted in self.notes:
            found = seen(self.at.inline.graph(self.number, address, now))
            assert agreeing(found, wanted) == wanted, (now, address)


def agreeing(found: Seen, wanted: Seen) -> Seen:
    """What is looked back at, but for what is not kept.

    That is when the rest of a part was given up, and when an item was decided whose follow-ups
    went on.
    """
    agreed = dict(found)
    for address, (state, counts) in found.items():
        was_state, was = wanted.get(address, (None, None))
        if (state, was_state) == ("waiting", "skipped"):
            agreed[address] = wanted[address]
        if counts and was and state == was_state and counts[0] == was[0]:
            later = sum(counts[2:]) <= sum(was[2:]) and sum(counts[1:]) == sum(was[1:])
            agreed[address] = wanted[address] if later else found[address]
    return agreed


def run_to_end(at: Floor, watcher: Watcher, choose: random.Random, tries: int = 0) -> None:
    """Let everything that is in hand end, one after the other in any order, as its task does."""
    for _ in range(400):
        watcher.note()
        if not at.running:
            state = at.inline.run(watcher.number)["state"]
            if state in ("done", "failed", "cancelled"):
                return
            at.advance(1.0)
            continue
        address = choose.choice(at.running)
        worker, attempt = at.find(address)
        work = at.hands[worker].attempts[attempt]
        outcome, value = behave(work["task"].split("/")[1], work["input"], work["tries"] + tries)
        if outcome == "done":
            at.end(address, "done", output=value)
        else:
            at.fail(address)
    raise AssertionError("the run has no end")


def world(at: Floor, seed: int, choose: random.Random) -> int:
    """A random plan is published, and a run of it started."""
    maker = Maker(choose.randrange, 10)
    document = document_of(maker, "w", *maker.make())
    tasks = [
        {"name": name, "code_hash": "h", "rules": {}, **facts}
        for name, facts in document["tasks"].items()
    ]
    at.do(Publish([document], [], "t", [POOL]))
    at.looms |= {task["name"]: "h" for task in tasks}
    at.worker(places=1 + seed % 3)
    return at.start("random/w", PARAMS)


@pytest.mark.parametrize("seed", range(much(14, 40)))
def test_any_plan_looks_as_it_did(seed: int) -> None:
    """Every part and step, the counts of eaches, and what is in items."""
    choose = random.Random(seed)
    with floor() as at:
        watcher = Watcher(at, world(at, seed, choose))
        run_to_end(at, watcher, choose)
        watcher.note()

        watcher.compare()
        assert len(watcher.notes) > 1


class Names(BaseModel):
    """Which harbours."""

    names: list[str]


def coast(at_once: int | None = None) -> Loom:
    """A loom whose harbours can fail."""
    loom = Loom("coast")

    @loom.task
    def fetch(name: str) -> int:
        raise NotImplementedError

    @loom.task
    def bind(pages: list[int]) -> int:
        raise NotImplementedError

    harbours = each(
        "harbours",
        over=param("names"),
        name=item(),
        at_once=at_once,
        if_one_fails="finish",
        do=step("fetch", fetch, name=item()),
    )
    plan = sequence(harbours, step("bind", bind, pages=output("harbours")))
    loom.workflow("all", params=Names, plan=plan)
    return loom


def test_rounds_before_a_mend_look_as_they_did() -> None:
    """What had failed is failed again there, in the counts of the each too."""
    with floor() as at:
        at.publish(coast())
        at.worker(places=3)
        number = at.start("all", {"names": ["a", "b", "c"]})
        watcher = Watcher(at, number)
        for name, end in (("a", at.end), ("b", at.fail), ("c", at.end)):
            watcher.note()
            end(f"1/harbours[{name}]/fetch")
        watcher.note()
        assert at.inline.run(number)["state"] == "failed"
        at.do(MendRun(number, "t"))
        watcher.note()
        at.end("1/harbours[b]/fetch", output=1)
        watcher.note()
        at.end("1/bind", output=2)
        watcher.note()

        watcher.compare()
        counts = watcher.notes[-1][2]["harbours"]
        assert counts == ("done", (3, 0, 3, 0, 0, 0))


def test_a_window_is_never_overfull_in_a_round_before_a_mend() -> None:
    """Items that ran again have the times of their new round: before, they are as they were."""
    with floor() as at:
        at.publish(coast(at_once=3))
        at.worker(places=8)
        number = at.start("all", {"names": list("abcdefg")})
        watcher = Watcher(at, number)
        while at.running:
            watcher.note()
            first = at.running[0]
            (at.fail if first[-8] in "bdef" else at.end)(first)
        watcher.note()
        assert at.inline.run(number)["state"] == "failed"
        at.do(MendRun(number, "t"))
        while at.running:
            watcher.note()
            at.end(at.running[-1], output=1)
        watcher.note()

        watcher.compare()
        for now, address, noted in watcher.notes:
            if not address:
                then = seen(at.inline.graph(number, "", now))
                assert then["harbours"] == noted["harbours"], "exactly, not only about"


def test_a_step_between_two_attempts_waits_as_the_first_ended() -> None:
    """Backing off after a failure, resting when it asked to be called again, else ready."""
    row = {"state": "done", "ended_at": 90, "ready_at": 50, "started_at": 12}
    row |= dict.fromkeys(("skip_reason", "error", "due_at", "saved"))
    common = {"error": None, "worker_name": "w", "round": 1}
    second = {**common, "number": 2, "ready_at": 50, "begun_at": 60, "ended_at": 90}
    second |= {"outcome": "done"}
    for outcome, state in (
        ("failed", "backing_off"),
        ("called_again", "resting"),
        ("lost", "ready"),
        ("handed_back", "ready"),
        ("stopped", "paused"),
    ):
        first = {**common, "number": 1, "ready_at": 10, "begun_at": 12, "ended_at": 20}
        first |= {"outcome": outcome}

        found = [step_then(PastMoment(at), row, [first, second]) for at in (5, 10, 15, 30, 55, 95)]
        assert [one and one["state"] for one in found] == [
            *(None, "ready", "running", state, "ready", "done")
        ]


def test_attempts_are_told_with_why_they_waited() -> None:
    """Until when the pool let nothing begin; what waited for a place says nothing of a pool."""
    loom, work = task_loom()
    loom.pool("gauge", limit=1)
    branches = [step(name, work, value=1, pool="gauge") for name in ("a", "b")]
    loom.workflow("both", plan=parallel("p", *branches, step("c", work, value=1)))
    with floor() as at:
        at.publish(loom)
        at.worker(places=2)
        at.start("both")
        at.advance(3.0)
        at.end("1/p/a")
        at.advance(2.0)
        at.drain()

        found = at.inline.attempts(1)
        told = {one["address"]: one for one in found["attempts"]}
        assert {one["outcome"] for one in told.values()} == {"done"}
        assert told["p/b"]["pool_until"] == told["p/a"]["ended_at"] == told["p/b"]["handed_at"]
        assert told["p/a"]["pool_until"] is None
        assert told["p/c"]["pool_until"] is None
        page = at.inline.attempts(1, limit=2)
        rest = at.inline.attempts(1, int(page["next"]), 2)
        assert [one["id"] for one in (*page["attempts"], *rest["attempts"])] == [
            one["id"] for one in found["attempts"]
        ]
        assert at.inline.run(1)["attempts"] == 3


def test_a_wait_for_a_place_is_none_for_the_pool() -> None:
    """The pool was open again while no worker had a place."""
    loom, work = task_loom()
    loom.pool("gauge", limit=1)
    branches = [step(name, work, value=1, pool="gauge") for name in ("a", "b")]
    loom.workflow("both", plan=parallel("p", *branches))
    loom.workflow("urgent", plan=step("c", work, value=1))
    with floor() as at:
        at.publish(loom)
        at.worker("w", places=1)
        at.start("both")
        at.worker("v", places=1)
        at.start("urgent")
        at.do(DrainWorker("w", "t", ""))
        at.advance(3.0)
        at.end("1/p/a")
        at.advance(2.0)
        at.end("2/c")

        first, second = at.inline.attempts(1)["attempts"]
        assert second["pool_until"] == first["ended_at"]
        assert second["handed_at"] > second["pool_until"]


def test_items_are_searched_whether_they_were_made_or_not() -> None:
    """By name or value; a page of those to come says where to go on."""
    with floor() as at:
        at.publish(coast())
        at.worker(places=1)
        names = [f"h{number}" for number in range(23_000)]
        at.start("all", {"names": names})

        def search(text: str, first: int = 0) -> dict[str, Any]:
            return at.inline.search(1, "harbours", text, first)

        assert [one["name"] for one in search("H3")["items"][:2]] == [names[3], names[30]]
        page, found = search("22999"), []
        while page["next"]:
            found += page["items"]
            page = search("22999", int(page["next"]))
        assert [one["name"] for one in (*found, *page["items"])] == [names[22_999]]
        assert search("100%")["items"] == []
