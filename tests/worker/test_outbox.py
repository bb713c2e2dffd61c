"""What a process tells its worker, together or at once."""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator

import pytest

from tests.helpers import eventually
from yarnloom.worker.frames import Channel
from yarnloom.worker.outbox import TOGETHER, Outbox


@pytest.fixture
def ends() -> Iterator[tuple[Channel, Channel]]:
    """Both ends of a channel."""
    ours, theirs = map(Channel, socket.socketpair())
    yield ours, theirs
    ours.close()
    theirs.close()


def numbers(channel: Channel) -> list[int]:
    """What has arrived."""
    return [message["number"] for message in channel.pending()]


def test_messages_are_told_at_once_where_nothing_waits(ends: tuple[Channel, Channel]) -> None:
    """Each by itself."""
    ours, theirs = ends
    outbox = Outbox(ours)
    outbox.send({"kind": "x", "number": 1})
    assert numbers(theirs) == [1]


def test_messages_wait_for_each_other_but_not_for_long(ends: tuple[Channel, Channel]) -> None:
    """Also where nobody sends another."""
    ours, theirs = ends
    outbox = Outbox(ours)
    outbox.hold(True)
    found: list[int] = []
    for number in range(TOGETHER + 1):
        outbox.send({"kind": "x", "number": number})
    assert eventually(lambda: found.extend(numbers(theirs)) or len(found) > TOGETHER)
    assert found == list(range(TOGETHER + 1))


def test_the_order_stays(ends: tuple[Channel, Channel]) -> None:
    """Whether they wait or not."""
    ours, theirs = ends
    outbox = Outbox(ours)
    for number in range(500):
        outbox.hold(number % 7 > 0)
        outbox.send({"kind": "x", "number": number})
    outbox.flush()
    found: list[int] = []
    while len(found) < 500:
        found += numbers(theirs)
    assert found == list(range(500))


def test_a_fork_does_not_tell_what_its_parent_will(ends: tuple[Channel, Channel]) -> None:
    """A task may fork: what waits in the process is told once."""
    ours, theirs = ends
    outbox = Outbox(ours)
    outbox._held = True
    outbox._texts.append(b"waits")
    pid = os.fork()
    if not pid:
        outbox.in_fork()
        outbox.send({"kind": "x", "number": 2})
        os._exit(0)
    os.waitpid(pid, 0)
    assert numbers(theirs) == [2]
    outbox._texts.clear()
