"""Texts without the secrets in them, and the environment without the service's own.

Apart from `secrets`, so that a worker, which seals nothing, starts without what sealing needs.
"""

from __future__ import annotations

import json
import os
from base64 import b64encode
from collections.abc import Iterable
from functools import lru_cache
from urllib.parse import quote, quote_plus

from yarnloom.values import JsonValue

MASK = "•••"
KEY_VARIABLE = "YARNLOOM_SECRET_KEY"
TOKEN_VARIABLE = "YARNLOOM_TOKEN"
TOKEN_FILE_VARIABLE = "YARNLOOM_TOKEN_FILE"
TASK_TOKEN_VARIABLE = "YARNLOOM_TASK_TOKEN"
SHORTEST = 4
"""Text shorter than that is not looked for in what is printed: it would be found everywhere."""

SHORTEST_ENCODED = 6
"""The same for a secret that is written otherwise: in base64, quoted, escaped."""


def environment_without_secrets() -> dict[str, str]:
    """Return this process's environment without what only this process may know."""
    hidden = (KEY_VARIABLE, TOKEN_VARIABLE, TOKEN_FILE_VARIABLE)
    return {name: value for name, value in os.environ.items() if name not in hidden}


def environment_for_tasks() -> dict[str, str]:
    """Return the environment of processes that run tasks: with a token of theirs, if one is set."""
    environment = environment_without_secrets()
    if token_file := environment.pop(TASK_TOKEN_VARIABLE, ""):
        environment[TOKEN_FILE_VARIABLE] = token_file
    return environment


def masked_text(text: str, secrets: Iterable[str]) -> str:
    """Text without the secrets in it."""
    for secret in secrets:
        text = text.replace(secret, MASK)
    return text


def masked_in(value: JsonValue, secrets: Iterable[str]) -> JsonValue:
    """A value without the secrets in its texts."""
    if isinstance(value, str):
        return masked_text(value, secrets)
    if isinstance(value, dict):
        return {
            masked_text(name, secrets): masked_in(inner, secrets) for name, inner in value.items()
        }
    return [masked_in(inner, secrets) for inner in value] if isinstance(value, list) else value


def worth_masking(secrets: Iterable[str]) -> tuple[str, ...]:
    """Return the texts that are looked for: secrets that are long enough, and written otherwise.

    The longest come first, so that none is found inside another.
    """
    return _forms_of(tuple(secrets))


@lru_cache(maxsize=200)
def _forms_of(secrets: tuple[str, ...]) -> tuple[str, ...]:
    forms: set[str] = set()
    for secret in secrets:
        if len(secret) >= SHORTEST:
            forms.add(secret)
        if len(secret) >= SHORTEST_ENCODED:
            forms |= _encoded(secret)
    return tuple(sorted(forms, key=lambda form: (-len(form), form)))


def _encoded(secret: str) -> set[str]:
    """A secret as it stands in base64, in a URL, in JSON, in Python's own notation."""
    data = secret.encode("utf-8", "surrogatepass")
    forms = {
        json.dumps(secret)[1:-1],
        json.dumps(secret, ensure_ascii=False)[1:-1],
        repr(secret)[1:-1],
        quote(data, safe=""),
        quote(data),
        quote_plus(data),
        quote(data, safe="").lower(),
    }
    for before in range(3):
        # Text around it changes the letters at both ends; those between are the same.
        text = b64encode(bytes(before) + data).rstrip(b"=").decode()
        begin = (0, 2, 3)[before]
        end = (before + len(data)) * 8 // 6
        forms |= {text[begin:end], text[begin:end].replace("+", "-").replace("/", "_")}
    return {form for form in forms if len(form) >= SHORTEST_ENCODED}
