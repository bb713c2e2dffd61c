"""Messages of a process to its worker, sent in batches while more attempts wait in the process.

Short attempts end faster than single messages can be sent. So messages wait for up to `TOGETHER`
of them or `HELD_SECONDS`, as long as another attempt waits. A thread sends the rest when an
attempt takes longer than that. If the process dies before, the worker reads them in memory
(`held_messages`).
"""

from __future__ import annotations

import contextlib
import os
import threading
import time

from yarnloom.values import dump
from yarnloom.worker.channel.frames import Channel, ChannelClosed, Message, frames_of
from yarnloom.worker.channel.held_messages import MARK, HeldMessages

TOGETHER = 64
HELD_SECONDS = 0.003


class MessageBuffer:
    """Sends messages over a channel; any thread may.

    Args:
        channel: to the worker.
        kept: where the worker reads waiting messages.
    """

    def __init__(self, channel: Channel, kept: HeldMessages) -> None:
        self._channel = channel
        self._kept = kept
        self._lock = threading.RLock()
        self._texts: list[bytes] = []  # JSON
        self._since = 0.0
        self._held = False
        self._some = threading.Event()
        self._pid = 0  # of the process in which the thread runs
        self._is_owned = True

    def hold(self, on: bool) -> None:
        """Say whether messages may wait a little from now on."""
        self._held = on

    def send(self, message: Message) -> None:
        """Send a message.

        Raises:
            ValueRefused: it cannot be written as JSON; nothing was sent.
            ChannelClosed: the other side is gone.
        """
        text = dump(message)
        if not self._is_owned:
            self._channel.send_frames([text])  # which says why a fork cannot
        with self._lock:
            self._texts.append(text)
            if not self._held or not self._kept.add(text):
                self._tell()
            elif len(self._texts) == 1:
                self._since = time.monotonic()
                self._wake()
            elif len(self._texts) >= TOGETHER or self._is_late():
                self._tell()

    def flush(self) -> None:
        """Send what waits; from now on everything is sent at once.

        Raises:
            ChannelClosed: the other side is gone.
        """
        with self._lock:
            self._held = False
            self._tell()

    def _tell(self) -> None:
        if self._texts:
            texts, self._texts = self._texts, []
            if not self._kept:
                self._channel.send_frames(frames_of(texts))
                return
            self._channel.send_frames(frames_of([MARK, *texts]))
            self._kept.clear()

    def _is_late(self) -> bool:
        return time.monotonic() - self._since >= HELD_SECONDS

    def _wake(self) -> None:
        """Let the thread send the waiting messages soon, whatever the main thread does."""
        if self._pid != os.getpid():
            self._pid = os.getpid()
            threading.Thread(target=self._tell_late, name="yarnloom-outbox", daemon=True).start()
        self._some.set()

    def _tell_late(self) -> None:
        while True:
            self._some.wait()
            self._some.clear()
            time.sleep(HELD_SECONDS)
            with self._lock, contextlib.suppress(ChannelClosed):
                if self._texts:
                    if self._is_late():
                        self._tell()
                    else:
                        self._some.set()

    def in_fork(self) -> None:
        """Leave the waiting messages, and their memory, to the process of which this is a fork."""
        self._is_owned = False
        self._lock = threading.RLock()
        self._some = threading.Event()
        self._texts, self._held = [], False
        self._kept.forget()
