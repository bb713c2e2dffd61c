"""What files and lists are called in values, and what they are: names, hashes, media types."""

from __future__ import annotations

import hashlib
import mimetypes
import os
import re
from pathlib import Path

from yarnloom.values import JsonValue

FILE_FORMAT, ROWS_FORMAT = "yarnloom-file", "yarnloom-rows"
"""The formats by which a JSON Schema marks a file, and rows."""
HASH = r"^[0-9a-f]{64}$"
BLOCK = 1024 * 1024
JSON_LINES = "application/jsonl"
PLAIN = "application/octet-stream"
_NAMED = re.compile(r'"(?:sha256|list|lines)": ?"([0-9a-f]{64})"')
# What the standard library leaves to the machine's own tables.
_TYPES = {
    ".csv": "text/csv",
    ".json": "application/json",
    ".jsonl": JSON_LINES,
    ".ndjson": JSON_LINES,
}


def named_in(text: str | None) -> set[str]:
    """The hash of every file and list that a JSON text may name; cheap where it names none."""
    if text is None or ('"sha256"' not in text and '"list"' not in text):
        return set()
    return set(_NAMED.findall(text))


def is_list_reference(value: JsonValue) -> bool:
    """Whether a value stands for a list that is kept as a file."""
    return isinstance(value, dict) and "list" in value and "count" in value and "size" in value


def media_type_of(name: str) -> str:
    """The media type that a name's ending suggests."""
    ending = os.path.splitext(name)[1].lower()
    return _TYPES.get(ending) or mimetypes.guess_type(name)[0] or PLAIN


def hash_of(path: Path) -> str:
    """The SHA-256 of a file, a block at a time."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(BLOCK):
            digest.update(block)
    return digest.hexdigest()
