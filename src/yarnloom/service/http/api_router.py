"""Routers of the API: the full path, and the problems that any operation can answer with.

Routes are put into the application as they are. A router that is included with a prefix is built a
second time by FastAPI when the first request comes, which cost a second at each start.
"""

from __future__ import annotations

from fastapi import APIRouter

from yarnloom.service.http.openapi import problem_responses
from yarnloom.service.http.strict_route import API, StrictRoute

EVERYWHERE = (400, 401, 403, 405, 408, 413, 422, 431, 500, 503)
"""Problems that any operation can answer with."""


def api_router(tag: str, prefix: str = "") -> APIRouter:
    """Return a router for operations below `/api/v1`."""
    return _router(tag, API + prefix)


def health_router() -> APIRouter:
    """Return a router for what answers at the root, for those who watch the service."""
    return _router("system", "")


def _router(tag: str, prefix: str) -> APIRouter:
    return APIRouter(
        route_class=StrictRoute, prefix=prefix, tags=[tag], responses=problem_responses(EVERYWHERE)
    )
