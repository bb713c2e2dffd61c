"""Links: whoever has one may watch one run, until it expires, and nothing else.

A link's token holds the run's number and the time, signed with a key of this service; nothing is
kept of it.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets
from dataclasses import dataclass

from yarnloom.errors import NotAllowed
from yarnloom.store import Database

_BYTES = 18


@dataclass(frozen=True, slots=True)
class Link:
    """What a token allows.

    Attributes:
        run: the run's number.
        expires_at: until when, in seconds since 1970 UTC.
    """

    run: int
    expires_at: int


class Links:
    """Makes and reads tokens.

    Args:
        database: keeps the key.
    """

    def __init__(self, database: Database) -> None:
        self._key = database.keep_fact("link_key", secrets.token_hex(32)).encode()

    def make(self, link: Link) -> str:
        """The token of a link."""
        text = f"{link.run}.{link.expires_at}"
        return f"{text}.{self._sign(text)}"

    def read(self, token: str, now: float) -> Link:
        """What a token allows.

        Raises:
            NotAllowed: it was not made here, or has expired.
        """
        text, _, signature = token.rpartition(".")
        if not hmac.compare_digest(self._sign(text).encode(), signature.encode()):
            raise NotAllowed("this link was not made by this service")
        run, expires_at = (int(part) for part in text.split("."))
        if now >= expires_at:
            raise NotAllowed("this link has expired; ask for a new one")
        return Link(run, expires_at)

    def _sign(self, text: str) -> str:
        digest = hmac.new(self._key, text.encode(), hashlib.sha256).digest()[:_BYTES]
        return base64.urlsafe_b64encode(digest).decode()
