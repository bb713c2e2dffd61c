"""The client library: `Client` and `AsyncClient` over one shared core."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yarnloom.client.http_messages import (
    AsyncHttpStream,
    AsyncTransport,
    ConnectionLost,
    HttpRequest,
    HttpResponse,
    HttpStream,
    Transport,
)
from yarnloom.client.http_requests import ENDED, Request, default_who
from yarnloom.client.start_request import Start
from yarnloom.client.target import DEFAULT_URL, Target
from yarnloom.lazy_names import lazy_names

if TYPE_CHECKING:
    from yarnloom.client.async_client import AsyncClient
    from yarnloom.client.async_runs import AsyncRun
    from yarnloom.client.run_facts import RunSummary
    from yarnloom.client.runs import Run
    from yarnloom.client.sync_client import Client

__all__ = [
    "DEFAULT_URL",
    "ENDED",
    "AsyncClient",
    "AsyncHttpStream",
    "AsyncRun",
    "AsyncTransport",
    "Client",
    "ConnectionLost",
    "HttpRequest",
    "HttpResponse",
    "HttpStream",
    "Request",
    "Run",
    "RunSummary",
    "Start",
    "Target",
    "Transport",
    "default_who",
]

# A worker needs none of these, which take their time to be loaded.
_LATER = {
    "AsyncClient": "async_client",
    "AsyncRun": "async_runs",
    "Client": "sync_client",
    "Run": "runs",
    "RunSummary": "run_facts",
}


__getattr__ = lazy_names(__name__, _LATER)
