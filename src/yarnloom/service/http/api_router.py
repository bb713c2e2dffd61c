"""Routers of the API: the full path, and the problems that any operation can answer with.

Routes are put into the application as they are. A router that is included with a prefix is built a
second time by FastAPI when the first request comes, which cost a second at each start.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, TypeVar

from fastapi import APIRouter
from fastapi.routing import APIRoute

from yarnloom.service.access.route_roles import OPEN, READS
from yarnloom.service.http.openapi import problem_responses
from yarnloom.service.http.strict_route import API, StrictRoute

F = TypeVar("F", bound=Callable[..., Any])
_ROLES = "yarnloom_roles"

EVERYWHERE = (400, 401, 403, 405, 408, 413, 422, 431, 500, 503)
"""Problems that any operation can answer with."""


class ApiRouter(APIRouter):
    """A router that knows the roles of its routes.

    Attributes:
        reads: the roles for its GETs.
        changes: the roles for all else; `admin` may use everything.
    """

    reads: frozenset[str] = OPEN
    changes: frozenset[str] = OPEN

    def with_roles(self) -> Iterator[tuple[APIRoute, frozenset[str]]]:
        """Yield the routes, each with its roles."""
        for route in self.routes:
            if isinstance(route, APIRoute):
                usual = self.reads if "GET" in (route.methods or ()) else self.changes
                yield route, getattr(route.endpoint, _ROLES, usual)


def takes(*roles: str) -> Callable[[F], F]:
    """Say which roles may use a route, where they are others than those of its router.

    `admin` may use it in any case.
    """

    def mark(endpoint: F) -> F:
        setattr(endpoint, _ROLES, OPEN if roles == ("anybody",) else frozenset(roles))
        return endpoint

    return mark


def api_router(
    tag: str, prefix: str = "", *, reads: Iterable[str] = READS, changes: Iterable[str] = ()
) -> ApiRouter:
    """Return a router for operations below `/api/v1`.

    Args:
        tag: of its operations in the description.
        prefix: of their paths.
        reads: the roles for its GETs.
        changes: the roles for all else, beside `admin`.
    """
    router = _router(tag, API + prefix)
    router.reads, router.changes = frozenset(reads), frozenset(changes)
    return router


def health_router() -> ApiRouter:
    """Return a router for what answers at the root, for those who watch the service."""
    return _router("system", "")


def _router(tag: str, prefix: str) -> ApiRouter:
    return ApiRouter(
        route_class=StrictRoute, prefix=prefix, tags=[tag], responses=problem_responses(EVERYWHERE)
    )
