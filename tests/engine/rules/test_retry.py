"""The retry rule: how long is waited, and why there is no other try."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarnloom import Retry
from yarnloom.engine.rules.retry import Tried, next_wait
from yarnloom.errors import LoomError


def steady() -> float:
    """A chance in the middle: no jitter."""
    return 0.5


# The rule itself


@pytest.mark.parametrize(
    ("rule", "tried", "expected"),
    [
        (Retry(wait=2), Tried(1), 2.0),
        (Retry(attempts=9, wait=2), Tried(5), 2.0),
        (Retry(attempts=9, wait=2, growth=3), Tried(1), 2.0),
        (Retry(attempts=9, wait=2, growth=3), Tried(3), 18.0),
        (Retry(attempts=9, wait="2s", growth=3, longest="10s"), Tried(3), 10.0),
        (Retry(attempts=None, wait=1, growth=10, longest=60), Tried(500), 60.0),
        (Retry(attempts=None, wait=1, growth=1), Tried(5000), 1.0),
        (Retry(wait=5), Tried(1, after=0.25), 0.25),
        (Retry(attempts=4, wait=1), Tried(3), 1.0),
        (Retry(within="1m", wait=10), Tried(1, spent=50), 10.0),
        (Retry(on=[OSError]), Tried(1, ("ConnectionError", "OSError", "Exception")), 1.0),
        (Retry(on="OSError"), Tried(1, ("ConnectionError", "OSError")), 1.0),
        (Retry(on=["HTTPStatusError"]), Tried(1, ("httpx.HTTPStatusError",)), 1.0),
        (Retry(never_on=[ValueError]), Tried(1, ("KeyError", "Exception")), 1.0),
        (Retry(never_on=[ValueError]), Tried(1, ("ValueError",), after=3.0), 3.0),
    ],
)
def test_how_long_is_waited(rule: Retry, tried: Tried, expected: float) -> None:
    """Constant, growing, capped; or what the task chose."""
    assert next_wait(rule, tried, steady) == (expected, "")


@pytest.mark.parametrize(
    ("rule", "tried", "why"),
    [
        (None, Tried(1), "there is one try, since no retry rule is given"),
        (Retry(attempts=1), Tried(1), "that was try 1 of 1"),
        (Retry(attempts=4), Tried(4), "that was try 4 of 4"),
        (Retry(attempts=4), Tried(4, after=1.0), "that was try 4 of 4"),
        (
            Retry(within="1m", wait=10.5),
            Tried(1, spent=50),
            "the next try would begin more than 1 min after the first",
        ),
        (
            Retry(within=10),
            Tried(1, after=11.0),
            "the next try would begin more than 10 s after the first",
        ),
        (Retry(on=[OSError]), Tried(1, ("ValueError",)), "the retry rule is on OSError only"),
        (
            Retry(never_on=[LookupError]),
            Tried(1, ("KeyError", "LookupError")),
            "the retry rule says never_on LookupError",
        ),
        (
            Retry(on=[Exception], never_on=["app.Broken"]),
            Tried(1, ("app.Broken", "Exception")),
            "the retry rule says never_on app.Broken",
        ),
    ],
)
def test_why_there_is_no_other_try(rule: Retry | None, tried: Tried, why: str) -> None:
    """It is said, so that it can be shown."""
    assert next_wait(rule, tried, steady) == (None, why)


@given(
    st.floats(0, 1000),
    st.floats(1, 5),
    st.floats(0, 1),
    st.floats(0, 1),
    st.integers(1, 40),
    st.none() | st.floats(0, 2000),
)
def test_jitter_stays_within_its_share_and_the_longest(
    wait: float, growth: float, jitter: float, chance: float, tries: int, longest: float | None
) -> None:
    """Whatever the numbers."""
    rule = Retry(attempts=None, wait=wait, growth=growth, jitter=jitter, longest=longest)
    found, _ = next_wait(rule, Tried(tries), lambda: chance)
    plain = min(wait * growth ** (tries - 1), 366 * 86_400.0 if longest is None else longest)

    assert found is not None
    assert plain * (1 - jitter) - 1e-6 <= found <= plain * (1 + jitter) + 1e-6
    assert longest is None or found <= longest


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"attempts": 0}, "attempts="),
        ({"attempts": 2.5}, "attempts="),
        ({"wait": "soon"}, "'1h 30m'"),
        ({"wait": -1}, "wait="),
        ({"growth": 0.5}, "growth="),
        ({"jitter": 2}, "jitter="),
        ({"within": "1 fortnight"}, "within="),
        ({"on": [3]}, "exception classes"),
    ],
)
def test_a_rule_that_makes_no_sense_is_refused_where_it_is_written(
    given: dict[str, Any], message: str
) -> None:
    """With what was found and expected."""
    with pytest.raises(LoomError, match="found") as refused:
        Retry(**given)
    assert message in str(refused.value)
