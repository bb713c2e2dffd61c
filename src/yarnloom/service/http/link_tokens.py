"""Links: whoever has one may watch one run, until it expires or is revoked, and nothing else.

A link's token holds its id, signed with a key of this service; what it allows is in the records.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
from pathlib import Path

from yarnloom.errors import NotAllowed
from yarnloom.secrets import Vault
from yarnloom.units import whole_number

_BYTES = 18


class Links:
    """Makes and reads tokens.

    Args:
        folder: the data folder, which has the key.
    """

    def __init__(self, folder: Path) -> None:
        self._key = Vault(folder).key_for("links")

    def token(self, link: int) -> str:
        """Return the token of a link."""
        return f"{link}.{self._sign(str(link))}"

    def read(self, token: str) -> int:
        """Return the link of a token.

        Raises:
            NotAllowed: it was not made here.
        """
        text, _, signature = token.rpartition(".")
        link = whole_number(text)
        if link is None or not hmac.compare_digest(self._sign(text).encode(), signature.encode()):
            raise NotAllowed("this link was not made by this service")
        return link

    def _sign(self, text: str) -> str:
        digest = hmac.new(self._key, f"link {text}".encode(), hashlib.sha256).digest()[:_BYTES]
        return base64.urlsafe_b64encode(digest).decode()
