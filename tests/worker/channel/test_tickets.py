"""Tickets: who has one has the attempt."""

from __future__ import annotations

import os
import threading

from hypothesis import given
from hypothesis import strategies as st

from yarnloom.worker.channel.frames import MOST, Tickets


def make() -> Tickets:
    """Both sides of a pipe."""
    read, write = os.pipe()
    os.set_blocking(read, False)
    return Tickets(read, write)


@given(st.lists(st.lists(st.integers(1, 2**63), max_size=MOST), max_size=4), st.integers(0, 20))
def test_what_was_not_taken_can_be_taken_back(batches: list[list[int]], taken: int) -> None:
    """In order, and each once."""
    tickets = make()
    for batch in batches:
        tickets.put(batch)
    wanted = [attempt for batch in batches for attempt in batch]
    begun = [tickets.take() for _ in range(min(taken, len(wanted)))]
    assert begun + tickets.take_back() == wanted
    assert tickets.take() is None
    tickets.close()


def test_two_sides_never_have_the_same_attempt() -> None:
    """However they read at once."""
    tickets, begun, over = make(), [], threading.Event()

    def begin() -> None:
        while not over.is_set() or (attempt := tickets.take()) is not None:
            if (attempt := tickets.take()) is not None:
                begun.append(attempt)

    process = threading.Thread(target=begin)
    process.start()
    back: list[int] = []
    for first in range(1, 20_001, 50):
        tickets.put(range(first, first + 50))
        if first % 300 == 1:
            back += tickets.take_back()
    over.set()
    process.join()
    back += tickets.take_back()
    assert not set(begun) & set(back)
    tickets.close()


def test_a_dead_process_takes_no_tickets() -> None:
    """And putting some does no harm."""
    read, write = os.pipe()
    os.set_blocking(read, False)
    process = Tickets(read)
    worker = Tickets(os.dup(read), write)
    process.close()
    worker.put([1, 2])
    assert worker.take_back() == [1, 2]
    worker.close()
