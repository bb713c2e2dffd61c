"""The ledger: what is begun and done, what is unsure, and who may say so."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.engine.use_cases.test_pause import weave
from tests.floor import Floor, floor, state
from yarnloom import Retry, parallel, step
from yarnloom.engine.commands import BeginEffect, EndEffect, MendRun, SettleEffect
from yarnloom.errors import Conflict, InvalidInput, NotFound

RETRY = Retry(attempts=9, wait=0, jitter=0)


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor with a run of two steps that run side by side."""
    with floor() as found:
        weave(
            found,
            lambda work: parallel(
                "p", step("a", work, retry=RETRY), step("b", work), if_one_fails="finish"
            ),
        )
        yield found


def begin(at: Floor, name: str = "a", what: str = "mail", call: int = 1, **options: Any) -> Any:
    """An attempt is about to do something."""
    worker, attempt = at.find(f"1/p/{name}")
    return at.do(BeginEffect(worker, attempt, what, call, **options))


def end(at: Floor, name: str = "a", what: str = "mail", **options: Any) -> Any:
    """It has done it, or not."""
    worker, attempt = at.find(f"1/p/{name}")
    return at.do(EndEffect(worker, attempt, what, **{"done": True, **options}))


def again(at: Floor) -> None:
    """Step a fails, and has another attempt."""
    at.fail("1/p/a")
    at.advance(0.001)


def test_one_name_at_two_places_of_a_loop_is_refused(at: Floor) -> None:
    """Also in a later attempt; at the same place the entry is known."""
    begin(at, position="letters#0")
    end(at, value=1)
    again(at)
    assert begin(at, position="letters#0").now == "done"
    with pytest.raises(Conflict, match=r"at item 0 of the loop 'letters'.* item 1"):
        begin(at, position="letters#1")
    assert begin(at, what="mail two", position="letters#1").now == "go"


def test_what_is_done_is_not_done_again(at: Floor) -> None:
    """The next attempt gets what it gave, and the token stays the same."""
    first = begin(at)
    end(at, value={"id": 7})
    again(at)
    second = begin(at)

    assert (first.now, second.now, second.value) == ("go", "done", {"id": 7})
    assert first.token == second.token


def test_what_was_begun_by_an_attempt_that_ended_is_unsure(at: Floor) -> None:
    """Nothing repeats it silently, unless the task says so."""
    begin(at)
    again(at)
    assert begin(at).now == "unsure"
    assert begin(at, again=True).now == "go"


def test_a_request_that_is_sent_twice_counts_once(at: Floor) -> None:
    """The answer was lost; another call of the same attempt is another matter."""
    assert begin(at, call=1).now == "go"
    assert begin(at, call=1).now == "go"
    assert begin(at, call=2).now == "unsure"
    end(at)
    assert end(at) is None  # sent again


def test_what_did_not_happen_can_be_begun_anew(at: Floor) -> None:
    """The task itself knows."""
    begin(at)
    end(at, done=False)
    end(at, done=False)  # sent twice
    assert begin(at, call=2).now == "go"


def test_a_lost_attempt_begins_nothing(at: Floor) -> None:
    """But what it had done, it may still say."""
    worker, attempt = at.find("1/p/a")
    begin(at)
    at.end("1/p/a", "lost", error={"type": "X", "message": ""})

    with pytest.raises(Conflict, match="given up"):
        at.do(BeginEffect(worker, attempt, "other", 2))
    at.do(EndEffect(worker, attempt, "mail", done=True, value=1))
    assert begin(at).now == "done"


def test_one_ledger_for_the_whole_run(at: Floor) -> None:
    """With scope run two steps share an entry; another attempt that is at it is not disturbed."""
    assert begin(at, "a", scope="run").now == "go"
    assert begin(at, "b", scope="run").now == "busy"
    end(at, "a", scope="run", value=1)
    assert begin(at, "b", scope="run").now == "done"
    assert begin(at, "b").now == "go"


@pytest.mark.parametrize("done", [True, False])
def test_someone_says_whether_it_was_done(at: Floor, done: bool) -> None:
    """Only of what is unsure; the record says who."""
    settle = SettleEffect(1, "p/a", "mail", done, "ann", "I asked the harbour", value=5)
    with pytest.raises(NotFound):
        at.do(settle)
    begin(at)
    with pytest.raises(Conflict, match="at this moment"):
        at.do(settle)
    again(at)
    at.do(settle)

    found = begin(at)
    assert found.now == ("done" if done else "go")
    with pytest.raises(Conflict, match="has used that" if done else "at this moment"):
        at.do(settle)


def test_who_was_wrong_can_say_otherwise(at: Floor) -> None:
    """As often as they like, until an attempt has used it."""
    begin(at)
    again(at)
    for done in (True, False, False, True, True):
        at.do(SettleEffect(1, "p/a", "mail", done, "ann", value=int(done)))

    assert begin(at).value == 1
    again(at)
    with pytest.raises(Conflict, match="ann said that 'mail' was done"):
        at.do(SettleEffect(1, "p/a", "mail", False, "ann"))


def test_a_value_that_the_step_uses_is_asked_for(at: Floor) -> None:
    """Null can be said too; what is not looked at need not be known."""
    begin(at)
    begin(at, what="ring", call=2, is_used=False)
    again(at)
    with pytest.raises(InvalidInput, match="or null where it gave nothing"):
        at.do(SettleEffect(1, "p/a", "mail", True, "ann"))
    at.do(SettleEffect(1, "p/a", "mail", True, "ann", valued=True))
    at.do(SettleEffect(1, "p/a", "ring", True, "ann"))

    assert begin(at).value is None
    assert begin(at, what="ring").now == "done"


def test_what_certainly_did_not_happen_is_tried_again() -> None:
    """Whatever errors the retry rule is on."""
    with floor() as at:
        rule = Retry(attempts=3, wait=0, jitter=0, on=["HarbourClosed"])
        weave(at, lambda work: step("a", work, retry=rule))
        for kind in ("NotDone", "ValueError"):
            at.end("1/a", "failed", error={"type": kind, "message": "", "kinds": [kind]})
            at.advance(0.001)
        assert state(at, 1, "a") == "failed"


def test_the_ledger_survives_a_mend(at: Floor) -> None:
    """That is what it is for."""
    begin(at)
    end(at, value=1)
    begin(at, what="second")
    at.end("1/p/a", "refused", error={"type": "GiveUp", "message": ""})
    at.end("1/p/b")
    at.do(MendRun(1, "t"))

    assert begin(at).now == "done"
    assert begin(at, what="second").now == "unsure"
