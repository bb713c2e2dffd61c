"""Params as they are typed: `-p NAME=VALUE`, files of them, and secrets that are typed unseen."""

from __future__ import annotations

import getpass
import sys
from pathlib import Path

from yarnloom.client import Client, Request
from yarnloom.errors import InvalidInput, NotFound, ValueRefused
from yarnloom.media_types import FILE_FORMAT, ROWS_FORMAT
from yarnloom.values import JsonObject, JsonValue, decode

BY_REFERENCE = (FILE_FORMAT, ROWS_FORMAT)
SECRET = "password"
"""The format of a text that is secret."""


def lines_from(path: str) -> dict[int, JsonObject]:
    """Params from a file of JSON Lines, or from the input: one object a line, by line number."""
    try:
        text = sys.stdin.read() if path == "-" else Path(path).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InvalidInput(f"the file {path} cannot be read: {error}") from error
    found = {}
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            value = decode(line, f"line {number} of {path}")
            if not isinstance(value, dict):
                raise InvalidInput(f"line {number} of {path} holds no JSON object; expected params")
            found[number] = value
    if not found:
        raise InvalidInput(f"{path} is empty; expected one JSON object of params a line")
    return found


def params_from(path: str | None) -> JsonObject:
    """Params from a JSON file, or from the input."""
    if path is None:
        return {}
    try:
        text = sys.stdin.read() if path == "-" else Path(path).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InvalidInput(f"the params file {path} cannot be read: {error}") from error
    value = decode(text, f"the params file {path}")
    if not isinstance(value, dict):
        raise InvalidInput(f"the params file {path} holds no JSON object; expected one")
    return value


def named_params(wants: JsonObject, named: list[str]) -> JsonObject:
    """Return `-p` values: text stays text where text is wanted, else it is read as JSON."""
    found: JsonObject = {}
    for one in named:
        name, equals, text = one.partition("=")
        if not equals or not name:
            raise InvalidInput(f"found -p {one!r}; expected -p NAME=VALUE, e.g. -p year=2027")
        if name in found:
            raise InvalidInput(f"the param {name!r} is given twice; give it once")
        if wants.get(name) in BY_REFERENCE and text[:1] not in ("{", "["):
            raise InvalidInput(f"{name} takes a file: give it with --file {name}={text or 'PATH'}")
        found[name] = _value(name, text, as_text=wants.get(name) in ("string", SECRET))
    return found


def _value(name: str, text: str, *, as_text: bool) -> JsonValue:
    """One value: as typed, of a file (`@FILE`), of the input (`-`), or unseen of a person."""
    if text.startswith("@@"):
        text = text[1:]
    elif text.startswith("@"):
        text = _read(name, text[1:])
    elif text == "-":
        text = sys.stdin.read().removesuffix("\n")
    return text if as_text else json_or_text(text)


def _read(name: str, path: str) -> str:
    try:
        return Path(path).read_text(encoding="utf-8").removesuffix("\n")
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        raise InvalidInput(
            f"-p {name}=@{path}: the file cannot be read: {reason}. A value that begins with @ is "
            f"given as {name}=@@{path}"
        ) from error


def ask_for_secrets(wants: JsonObject, given: JsonObject) -> dict[str, str]:
    """Ask a person for the secret params that were not given; nobody where nobody is there.

    What is typed is neither shown nor kept in the shell's history.
    """
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return {}
    missing = [name for name, kind in wants.items() if kind == SECRET and name not in given]
    return {name: getpass.getpass(f"{name} (not shown): ", sys.stderr) for name in missing}


def wanted_types(client: Client, name: str, task: bool) -> JsonObject:
    """The JSON types of a workflow's params, or of a task's inputs; of files their format."""
    try:
        noun, field = ("tasks", "input") if task else ("workflows", "params")
        found = client.call(Request("GET", f"/{noun}", query={"name": name}))
    except NotFound:
        return {}  # starting it says so better
    properties = found[field].get("properties", {})
    known = found[field].get("$defs", {})
    return {param: _wanted(schema, known) for param, schema in properties.items()}


def wanted_of_target(client: Client, name: str) -> JsonObject:
    """Return the types for the target of a start: a workflow if there is one, else a task."""
    return wanted_types(client, name, task=False) or wanted_types(client, name, task=True)


def _wanted(schema: JsonObject, known: JsonObject) -> JsonValue:
    schema = known.get(schema.get("$ref", "").rpartition("/")[2], schema)
    kind = schema.get("format")
    return kind if kind in (*BY_REFERENCE, SECRET) else schema.get("type")


def json_or_text(text: str) -> JsonValue:
    """Return a value as JSON where it looks like it, else as text."""
    try:
        return decode(text) if text[:1] in ('{["-0123456789tfn') and text else text
    except ValueRefused:
        return text
