"""Start keys: those that a caller chose, and those that were made for a start without one."""

from __future__ import annotations

import uuid

GENERATED, OF_OUTBOX, OF_SCHEDULE = "auto/", "outbox/", "schedule/"


def generated_key() -> str:
    """Return a new key for a start to which its caller gave none."""
    return GENERATED + uuid.uuid4().hex


def is_chosen(key: str) -> bool:
    """Whether a caller chose a key."""
    return not key.startswith((GENERATED, OF_OUTBOX, OF_SCHEDULE))
