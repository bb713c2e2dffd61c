"""Messages to one worker: each is kept until the worker acknowledges it."""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass, field
from typing import Any

from yarnloom.values import JsonObject, JsonValue

Message = JsonObject
"""A message to a worker: `protocol/worker_messages.py` has a model of each kind."""

ANSWER_BYTES = 4 * 2**20
"""Work in one answer to a worker, at most; what is over it comes with the next."""


@dataclass(slots=True)
class WorkerMessages:
    """Messages to a worker, by serial number.

    Attributes:
        unacknowledged: messages that it has not acknowledged, with about how many bytes each has.
        unsent: serial numbers of those that were never sent.
        about: serial numbers of those about an attempt, by attempt.
        groups: by serial number the attempts of a message that gives many.
        serial: the last serial number.
        committed: the last one of a transaction that was committed.
    """

    unacknowledged: dict[int, tuple[Message, int]] = field(default_factory=dict)
    unsent: list[int] = field(default_factory=list)
    about: dict[int, list[int]] = field(default_factory=dict)
    groups: dict[int, range] = field(default_factory=dict)
    serial: int = 0
    committed: int = 0

    def undo(self) -> set[str]:
        """Drop the messages of a transaction that was rolled back; return their kinds."""
        kinds = set()
        for serial in range(self.committed + 1, self.serial + 1):
            message, _ = self.unacknowledged.pop(serial, ({}, 0))
            kinds.add(message.get("kind", ""))
            self.groups.pop(serial, None)
            if about := self.about.get(message.get("attempt", 0)):
                about.remove(serial)
        self.unsent = [serial for serial in self.unsent if serial <= self.committed]
        return kinds

    def post(self, *, size: int = 0, **message: Any) -> int:
        """Post a message of about so many bytes, and return its serial number."""
        self.serial = serial = self.serial + 1
        message["serial"] = serial
        self.unacknowledged[serial] = message, size
        self.unsent.append(serial)
        if attempt := message.get("attempt"):
            self.about.setdefault(attempt, []).append(serial)
        return serial

    def posted(self, attempt: int) -> bool:
        """Whether there is a message about an attempt of which it is not known that it arrived."""
        return any(serial in self.unacknowledged for serial in self.about.get(attempt, ())) or any(
            attempt in attempts for attempts in self.groups.values()
        )

    def post_works(self, first: int, items: list[JsonValue], size: int, **message: Any) -> None:
        """Post attempts in a row that have much in common, as one message.

        Args:
            first: the first attempt.
            items: what each has of its own.
            size: about how many bytes all of it has.
            message: the fields that they share.
        """
        serial = self.post(size=size, kind="works", first=first, items=items, **message)
        self.groups[serial] = range(first, first + len(items))

    def take_unsent(self, in_hand: Container[int]) -> list[Message]:
        """Return messages that were never sent, now marked as sent; as many as one answer holds."""
        taken: list[Message] = []
        room = ANSWER_BYTES
        count = 0
        for serial in self.unsent:
            if room <= 0 and taken:
                break
            count += 1
            if serial in self.unacknowledged and (message := self._still_due(serial, in_hand)):
                taken.append(message)
                room -= self.unacknowledged[serial][1]
        del self.unsent[:count]
        return taken

    def _still_due(self, serial: int, in_hand: Container[int]) -> Message | None:
        """A message without those of many attempts that are no longer in hand; None for nothing."""
        message, _ = self.unacknowledged[serial]
        attempts = self.groups.get(serial)
        if attempts is None or all(one in in_hand for one in attempts):
            return message
        left = [
            item if attempt in in_hand else None
            for attempt, item in zip(attempts, message["items"], strict=True)
        ]
        return {**message, "items": left} if any(left) else None

    def acknowledge(self, received: tuple[int, ...]) -> None:
        """Forget messages that have arrived."""
        for serial in received:
            message, _ = self.unacknowledged.pop(serial, ({}, 0))
            if self.groups.pop(serial, None):
                continue
            if about := self.about.get(message.get("attempt", 0)):
                about.remove(serial)
                if not about:
                    del self.about[message["attempt"]]

    def forget_about(self, attempt: int) -> None:
        """Drop the messages about an attempt."""
        if self.about:
            for serial in self.about.pop(attempt, ()):
                self.unacknowledged.pop(serial, None)

    def clear(self) -> None:
        """Drop every message."""
        for kept in (self.unacknowledged, self.unsent, self.about, self.groups):
            kept.clear()

    def send_again(self) -> None:
        """Mark every message that was not acknowledged as not sent."""
        self.unsent = list(self.unacknowledged)
