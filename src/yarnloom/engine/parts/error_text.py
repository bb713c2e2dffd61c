"""Errors as they are kept: JSON text that people can read in the records."""

from __future__ import annotations

import json
from typing import Any


def error_text(value: Any) -> str:
    """Return an error, or what is kept beside it, as JSON text."""
    return json.dumps(value, ensure_ascii=False)
