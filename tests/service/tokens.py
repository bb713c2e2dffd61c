"""Tokens for tests that come over TCP."""

from __future__ import annotations

import itertools
from functools import lru_cache

from yarnloom import Client
from yarnloom.protocol.fields import Role

_COUNTER = itertools.count(1)


@lru_cache(maxsize=200)
def token_of(url: str, *may: Role, workflows: tuple[str, ...] = ()) -> str:
    """Return a token for the service at an address; without roles one for everything."""
    with Client(url, token="") as own:
        name = f"tests-{next(_COUNTER)}-{'-'.join(may)}"
        return own.add_token(name, may or ("admin",), workflows=workflows).token
