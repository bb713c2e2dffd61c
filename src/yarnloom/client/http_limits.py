"""How many connections a client opens, and how long and how often it tries."""

from __future__ import annotations

import httpx

TRIES = 4
NO_LIMIT = httpx.Limits(max_connections=None, max_keepalive_connections=20)
"""Of connections: a request that waits for the end of a run holds one."""

TIMEOUT = httpx.Timeout(10.0, read=40.0)
