"""Futures that somebody else may have settled."""

from __future__ import annotations

import asyncio
from typing import TypeVar

T = TypeVar("T")


def settle(future: asyncio.Future[T], value: T) -> None:
    """Set the result of a future that has none."""
    if not future.done():
        future.set_result(value)
