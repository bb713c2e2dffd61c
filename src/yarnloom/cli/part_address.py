"""Addresses as people type them."""

from __future__ import annotations

from yarnloom.errors import InvalidInput
from yarnloom.units import whole_number


def split_address(address: str) -> tuple[int, str]:
    """The run's number and what stands behind it.

    Raises:
        InvalidInput: it does not begin with a number.
    """
    number, _, label = address.partition("/")
    run = whole_number(number)
    if not run:
        raise InvalidInput(
            f"found {address!r}; expected a run's number, or one with a step: 1042 or 1042/fetch"
        )
    return run, label
