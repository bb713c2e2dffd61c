"""Errors as they are kept: JSON text that people can read in the records."""

from __future__ import annotations

import json

from yarnloom.values import JsonValue


def error_text(value: JsonValue) -> str:
    """Return an error, or what is kept beside it, as JSON text."""
    return json.dumps(value, ensure_ascii=False)
