"""What a process tells its worker, together or at once."""

from __future__ import annotations

import contextlib
import os
import socket
from collections.abc import Iterator

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.helpers import eventually
from yarnloom.sdk.interrupts import SharedPage
from yarnloom.worker.channel.frames import Channel, ChannelClosed, Message
from yarnloom.worker.channel.messages import TOGETHER, HeldMessages, HeldReader, MessageBuffer

Ends = tuple[Channel, Channel]


@pytest.fixture
def ends() -> Iterator[Ends]:
    """Both ends of a channel."""
    ours, theirs = map(Channel, socket.socketpair())
    yield ours, theirs
    ours.close()
    theirs.close()


@pytest.fixture
def page() -> Iterator[SharedPage]:
    """What both sides share."""
    page = SharedPage()
    yield page
    page.close()


def numbers(channel: Channel) -> list[int]:
    """What has arrived."""
    return [message["number"] for message in channel.pending() if message["kind"] != "held"]


def test_messages_are_told_at_once_where_nothing_waits(ends: Ends, page: SharedPage) -> None:
    """Each by itself."""
    ours, theirs = ends
    outbox = MessageBuffer(ours, HeldMessages(page))
    outbox.send({"kind": "x", "number": 1})
    assert numbers(theirs) == [1]


def test_messages_wait_for_each_other_but_not_for_long(ends: Ends, page: SharedPage) -> None:
    """Also where nobody sends another."""
    ours, theirs = ends
    outbox = MessageBuffer(ours, HeldMessages(page))
    outbox.hold(True)
    found: list[int] = []
    for number in range(TOGETHER + 1):
        outbox.send({"kind": "x", "number": number})
    assert eventually(lambda: found.extend(numbers(theirs)) or len(found) > TOGETHER)
    assert found == list(range(TOGETHER + 1))


def test_the_order_stays(ends: Ends, page: SharedPage) -> None:
    """Whether they wait or not."""
    ours, theirs = ends
    outbox = MessageBuffer(ours, HeldMessages(page))
    for number in range(500):
        outbox.hold(number % 7 > 0)
        outbox.send({"kind": "x", "number": number})
    outbox.flush()
    found: list[int] = []
    while len(found) < 500:
        found += numbers(theirs)
    assert found == list(range(500))


def test_a_fork_says_nothing_to_the_worker(ends: Ends, page: SharedPage) -> None:
    """A task may fork: what waits in the process is sent once, and the fork cannot send."""
    ours, theirs = ends
    outbox = MessageBuffer(ours, HeldMessages(page))
    outbox._held = True
    outbox._texts.append(b"waits")
    pid = os.fork()
    if not pid:
        ours.disown()
        outbox.in_fork()
        try:
            outbox.send({"kind": "x", "number": 2})
        except RuntimeError:
            os._exit(7)
        os._exit(0)
    status = os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
    outbox._texts.clear()
    outbox.hold(False)
    outbox.send({"kind": "x", "number": 1})

    assert status == 7
    assert numbers(theirs) == [1]


def told(channel: Channel, reader: HeldReader) -> list[Message]:
    """What a worker knows after it has looked at all that a process has told."""
    found = reader.unread(channel.pending())
    while (early := reader.take()) is None:
        found += reader.unread(channel.pending())
    return found + early


@given(st.text("mbhnfcr", max_size=60))
@example("hmmrmfhmr")
@example("hmrmcfmhmrb")
@settings(deadline=None)
def test_a_worker_gets_each_message_once_and_in_order(actions: str) -> None:
    """However much it reads in memory before that is sent, and whenever it looks."""
    ours, theirs = map(Channel, socket.socketpair())
    page = SharedPage()
    outbox, reader = MessageBuffer(ours, HeldMessages(page)), HeldReader(page)
    sent, found = 0, []
    for action in actions:
        match action:
            case "m" | "b":  # a small one, or one for which there is no room
                outbox.send({"kind": "x", "number": sent, "of": " " * 90_000 * (action == "b")})
                sent += 1
                if action == "b":  # else the channel is full before long
                    found += reader.unread(theirs.pending())
            case "h" | "n":
                outbox.hold(action == "h")
            case "f":
                outbox.flush()
            case "c":
                found += reader.unread(theirs.pending())
            case "r":
                found += told(theirs, reader)
                assert len(found) == sent, "all that was told so far, sent or not"
    ours.close()  # the process dies
    with contextlib.suppress(ChannelClosed):
        found += reader.unread(theirs.pending())
    found += reader.take() or []
    assert [message["number"] for message in found] == list(range(sent))
    theirs.close()
    page.close()


def test_what_was_sent_before_is_read_first(ends: Ends, page: SharedPage) -> None:
    """What waits in memory is not told before it."""
    ours, theirs = ends
    outbox, reader = MessageBuffer(ours, HeldMessages(page)), HeldReader(page)
    for number in (1, 2):
        outbox.hold(True)
        outbox.send({"kind": "x", "number": number})
        if number == 1:
            outbox.flush()
    assert reader.take() is None
    assert [one["number"] for one in told(theirs, reader)] == [1, 2]
