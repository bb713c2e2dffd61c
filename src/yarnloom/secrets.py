"""Values that must not be seen: marked in params, sealed in the records, masked wherever shown.

A param is secret where its type is `Secret[str]`. In the data folder it is an object
`{"$secret": "…"}` whose text only this service can open, with a key that is kept in a file of the
same folder, or given in `YARNLOOM_SECRET_KEY`. Only the worker that runs a step gets it in clear.
"""

from __future__ import annotations

import hashlib
import hmac
import os
from collections.abc import Callable, Iterable
from functools import cached_property
from pathlib import Path
from typing import Any, TypeVar

import pydantic
from cryptography.fernet import Fernet, InvalidToken
from pydantic import GetJsonSchemaHandler
from pydantic_core import CoreSchema

from yarnloom.errors import FolderUnusable
from yarnloom.masking import KEY_VARIABLE, MASK, masked_text
from yarnloom.values import JsonObject, JsonValue

T = TypeVar("T")

SEALED = "$secret"
KEY_FILE = "secret.key"


class Secret(pydantic.Secret[T]):
    """Marks a param whose value must not be seen: `token: Secret[str]`.

    A task reads it with `token.get_secret_value()`, or declares its input as `str`.
    """

    @classmethod
    def __get_pydantic_json_schema__(
        cls, core: CoreSchema, handler: GetJsonSchemaHandler
    ) -> JsonObject:
        """The schema says so, since the service knows nothing else of a type."""
        return {**handler(core), "writeOnly": True, "format": "password"}


class Vault:
    """Seals and opens secret values with the key of a data folder.

    Args:
        folder: the data folder; the key's file is made at the first use.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def seal(self, text: str) -> dict[str, str]:
        """What is kept in place of a secret text."""
        return {SEALED: self._fernet.encrypt(text.encode()).decode()}

    def mark(self, text: str) -> dict[str, str]:
        """The same for the same text, to compare by; it cannot be opened."""
        return {SEALED: hmac.new(self._key, text.encode(), hashlib.sha256).hexdigest()}

    def key_for(self, purpose: str) -> bytes:
        """Return a key for something else than secrets, made from that of the folder."""
        return hmac.new(self._key, f"key for {purpose}".encode(), hashlib.sha256).digest()

    def open(self, value: JsonValue, found: list[str] | None = None) -> JsonValue:
        """A value with every sealed text opened; the texts are added to `found`.

        Raises:
            FolderUnusable: the key is another than it was sealed with.
        """

        def opened(sealed: str) -> str:
            try:
                text = self._fernet.decrypt(sealed).decode()
            except InvalidToken as error:
                raise FolderUnusable(
                    f"the secrets of {self._folder} were sealed with another key than that in "
                    f"{KEY_FILE} or {KEY_VARIABLE}"
                ) from error
            if found is not None:
                found.append(text)
            return text

        return _replaced(value, opened)

    @cached_property
    def _fernet(self) -> Fernet:
        return Fernet(self._key)

    @cached_property
    def _key(self) -> bytes:
        if given := os.environ.get(KEY_VARIABLE):
            return given.encode()
        path = self._folder / KEY_FILE
        try:
            return path.read_bytes()
        except FileNotFoundError:
            key = Fernet.generate_key()
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "wb") as file:
                file.write(key)
                file.flush()
                os.fsync(file.fileno())
            return key


def key_problem() -> str | None:
    """What is wrong with the key that is given from outside; None if nothing, or none is."""
    given = os.environ.get(KEY_VARIABLE)
    if not given:
        return None
    try:
        Fernet(given)
    except ValueError as error:
        return f"{KEY_VARIABLE} is no key: {error}"
    return None


def mask(value: JsonValue) -> JsonValue:
    """A value as it may be shown."""
    return _replaced(value, lambda _: MASK)


def has_sealed(text: str) -> bool:
    """Whether a JSON text has something sealed in it; cheap, and now and then wrongly yes."""
    return SEALED in text


def _replaced(value: JsonValue, text_for: Callable[[str], str]) -> JsonValue:
    """A value with another text for everything in it that is sealed."""
    if isinstance(value, dict):
        if value.keys() == {SEALED} and isinstance(value[SEALED], str):
            return text_for(value[SEALED])
        return {name: _replaced(inner, text_for) for name, inner in value.items()}
    if isinstance(value, list):
        return [_replaced(inner, text_for) for inner in value]
    return value


def sealed_in(value: JsonValue, secrets: Iterable[str], seal: Callable[[str], Any]) -> JsonValue:
    """A value with every text sealed that has a secret in it; in names of fields it is masked."""
    if isinstance(value, str):
        return seal(value) if any(secret in value for secret in secrets) else value
    if isinstance(value, dict):
        return {
            masked_text(name, secrets): sealed_in(inner, secrets, seal)
            for name, inner in value.items()
        }
    return (
        [sealed_in(inner, secrets, seal) for inner in value] if isinstance(value, list) else value
    )
