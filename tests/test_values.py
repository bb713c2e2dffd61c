"""Values: strict JSON, exact, and small."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarnloom.errors import ValueRefused
from yarnloom.values import VALUE_LIMIT, decode, encode, fingerprint, pointer

json_values = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(st.characters(exclude_categories=["Cs"])),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(st.text(st.characters(exclude_categories=["Cs"])), inner, max_size=4)
    ),
    max_leaves=12,
)


@given(json_values)
def test_what_goes_in_comes_out(value: Any) -> None:
    """Every JSON value survives, integers of any size exactly."""
    assert decode(encode(value)) == value


def test_large_integers_stay_exact() -> None:
    """Beyond 2^53, and beyond 64 bits."""
    assert decode(encode({"n": [2**53 + 1, -(10**40)]})) == {"n": [2**53 + 1, -(10**40)]}


@pytest.mark.parametrize(
    ("value", "where", "words"),
    [
        ({"levels": [1.0, float("nan")]}, "/levels/1", "found nan"),
        ([float("inf")], "/0", "found inf"),
        ({"a/b": {"~": {1, 2}}}, "/a~1b/~0", "found a set"),
        ({(1, 2): 3}, "/", "the key (1, 2)"),
        (b"bytes", "/", "found a bytes"),
        (["\ud800"], "/0", "surrogate"),
    ],
)
def test_what_json_cannot_hold_is_refused_with_its_place(
    value: Any, where: str, words: str
) -> None:
    """The message leads to the place."""
    with pytest.raises(ValueRefused) as refused:
        encode(value)

    assert f"{where}: " in str(refused.value)
    assert words in str(refused.value)


def test_a_large_value_is_refused() -> None:
    """The message says how large it is, how large it may be, and what to do."""
    with pytest.raises(ValueRefused, match=r"262,146 bytes; at most 262,144.*file"):
        encode("x" * VALUE_LIMIT, "the output of step fetch")


def test_nan_is_refused_on_the_way_in() -> None:
    """Python's own reader would take it."""
    assert json.loads("NaN") != json.loads("NaN")
    with pytest.raises(ValueRefused):
        decode("[NaN]")


def test_a_fingerprint_does_not_depend_on_the_order_of_keys() -> None:
    """The same content is the same start."""
    assert fingerprint({"a": 1, "b": [2]}) == fingerprint({"b": [2], "a": 1})
    assert fingerprint({"a": 1}) != fingerprint({"a": 1.5})


def test_a_pointer_escapes() -> None:
    """As RFC 6901 says."""
    assert pointer("a/b", "~", 0) == "/a~1b/~0/0"


@given(st.text(st.characters(exclude_categories=())))
def test_a_text_is_encoded_as_the_standard_library_does(text: str) -> None:
    """Letter for letter; only Unicode is let in."""
    try:
        text.encode()
    except UnicodeEncodeError:
        with pytest.raises(ValueRefused, match="not JSON"):
            encode(text)
    else:
        assert encode(text) == json.dumps(text, ensure_ascii=False)
