"""Texts without the secrets in them, and the environment without the service's own.

Apart from `secrets`, so that a worker, which seals nothing, starts without what sealing needs.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any

MASK = "•••"
KEY_VARIABLE = "YARNLOOM_SECRET_KEY"
TOKEN_VARIABLE = "YARNLOOM_TOKEN"
SHORTEST = 4
"""Text shorter than that is not looked for in what is printed: it would be found everywhere."""


def environment_for_tasks() -> dict[str, str]:
    """Return this process's environment without what only the service and its workers may know."""
    hidden = (KEY_VARIABLE, TOKEN_VARIABLE)
    return {name: value for name, value in os.environ.items() if name not in hidden}


def masked_text(text: str, secrets: Iterable[str]) -> str:
    """Text without the secrets in it."""
    for secret in secrets:
        text = text.replace(secret, MASK)
    return text


def masked_in(value: Any, secrets: Iterable[str]) -> Any:
    """A value without the secrets in its texts."""
    if isinstance(value, str):
        return masked_text(value, secrets)
    if isinstance(value, dict):
        return {
            masked_text(name, secrets): masked_in(inner, secrets) for name, inner in value.items()
        }
    return [masked_in(inner, secrets) for inner in value] if isinstance(value, list) else value


def worth_masking(secrets: Iterable[str]) -> list[str]:
    """The secrets that are long enough to be looked for, the longest first."""
    return sorted({secret for secret in secrets if len(secret) >= SHORTEST}, key=len, reverse=True)
