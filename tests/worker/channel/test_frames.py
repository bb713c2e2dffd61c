"""The channel between a worker and its processes."""

from __future__ import annotations

import asyncio
import socket
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.helpers import eventually
from tests.test_values import json_values
from yarnloom.worker.channel.frames import Channel, ChannelClosed, PatientChannel
from yarnloom.worker.processes import guardian


@given(st.lists(json_values, max_size=8))
def test_messages_arrive_whole_and_in_order(values: list[object]) -> None:
    """However they are cut on the way."""
    ours, theirs = map(Channel, socket.socketpair())
    for value in values:
        ours.send({"kind": "x", "value": value})

    assert [theirs.receive()["value"] for _ in values] == values
    assert theirs.pending() == []
    ours.close()
    with pytest.raises(ChannelClosed):
        theirs.receive()
    theirs.close()


def test_what_was_sent_before_the_end_still_arrives() -> None:
    """A process that dies has told what it told."""
    ours, theirs = map(Channel, socket.socketpair())
    ours.send({"kind": "last words"})
    ours.close()

    assert [message["kind"] for message in theirs.pending()] == ["last words"]
    with pytest.raises(ChannelClosed):
        theirs.pending()
    theirs.close()


def test_a_half_message_waits_for_the_rest() -> None:
    """Nothing is taken before it is whole."""
    left, right = socket.socketpair()
    channel = Channel(right)
    left.sendall((12).to_bytes(4, "big") + bytes(8) + b'{"kind"')
    assert channel.pending() == []
    left.sendall(b':"x"}')

    assert channel.pending() == [{"kind": "x"}]
    left.close()
    channel.close()


def test_a_process_that_reads_nothing_makes_nobody_wait() -> None:
    """What there is no room for is sent as it reads, whole and in order."""

    async def send_and_read() -> list[int]:
        left, right = socket.socketpair()
        sender, reader = PatientChannel(left, asyncio.get_running_loop()), Channel(right)
        right.setblocking(False)
        for number in range(5_000):
            sender.send({"kind": "work", "attempt": number, "text": "x" * 300})
        sender.send({"kind": "last", "attempt": 5_000, "text": "x" * 2_000_000})
        found: list[int] = []
        while len(found) <= 5_000:
            await asyncio.sleep(0)
            found += [message["attempt"] for message in reader.pending()]
        sender.close()
        reader.close()
        return found

    assert asyncio.run(asyncio.wait_for(send_and_read(), 60)) == list(range(5_001))


def test_what_cannot_be_sent_any_more_is_lost() -> None:
    """Also where the process died while messages waited."""

    async def send() -> None:
        left, right = socket.socketpair()
        sender = PatientChannel(left, asyncio.get_running_loop())
        for _ in range(5_000):
            sender.send({"kind": "work", "text": "x" * 300})
        right.close()
        with pytest.raises(ChannelClosed):
            while True:
                sender.send({"kind": "work"})
                await asyncio.sleep(0)
        sender.close()

    asyncio.run(asyncio.wait_for(send(), 60))


def test_the_guardian_kills_what_is_left_and_nothing_else() -> None:
    """When its input ends, however that happened."""
    sleeper = [sys.executable, "-S", "-c", "import signal; signal.pause()"]
    left, ended = (subprocess.Popen(sleeper, start_new_session=True) for _ in range(2))
    path = Path(guardian.__file__)
    process = subprocess.Popen([sys.executable, "-I", "-S", str(path)], stdin=subprocess.PIPE)
    assert process.stdin
    process.stdin.write(f"+{left.pid}\n+{ended.pid}\n-{ended.pid}\n".encode())
    process.stdin.close()

    assert process.wait(30) == 0
    assert eventually(lambda: left.poll() is not None)
    assert left.returncode == -9
    assert ended.poll() is None
    ended.kill()
    ended.wait()
