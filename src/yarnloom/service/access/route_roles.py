"""Which roles each route takes. It is declared with the routes: here it is collected."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from fastapi.routing import APIRoute

ANY = frozenset({"view", "operate", "publish", "work"})
READS = frozenset({"view", "operate"})
WORK = frozenset({"work"})
OPEN: frozenset[str] = frozenset({"anybody"})
"""Of routes that need neither a token nor a session: what opens them is in their address."""


@dataclass(slots=True)
class _Node:
    children: dict[str, _Node] = field(default_factory=dict)
    rest: bool = False  # a path parameter that takes all that is left
    roles: dict[str, frozenset[str]] = field(default_factory=dict)


class RouteRoles:
    """The roles of all routes, found by the path of a request.

    Args:
        routes: every route with its roles.
    """

    def __init__(self, routes: Iterable[tuple[APIRoute, frozenset[str]]]) -> None:
        self._root = _Node()
        self._listed: list[tuple[str, str, frozenset[str]]] = []
        for route, roles in routes:
            for method in sorted(route.methods or ()):
                self._listed.append((method, route.path, roles))
                self._add(method, route.path, roles)

    def __iter__(self) -> Iterator[tuple[str, str, frozenset[str]]]:
        """Yield method, path and roles of each operation."""
        return iter(self._listed)

    def _add(self, method: str, path: str, roles: frozenset[str]) -> None:
        node = self._root
        for piece in path.strip("/").split("/"):
            name = "{}" if piece.startswith("{") else piece
            node = node.children.setdefault(name, _Node())
            node.rest |= piece.endswith(":path}")
        node.roles[method] = roles

    def of(self, method: str, path: str) -> frozenset[str] | None:
        """Return the roles that may use a path; None where it is no operation of the API."""
        return _roles_below(self._root, path.strip("/").split("/"), method)


def _roles_below(node: _Node, pieces: list[str], method: str) -> frozenset[str] | None:
    """Look for an operation, as the router does: a name first, and else what stands for any."""
    if not pieces or node.rest:
        return node.roles.get(method)
    for name in (pieces[0], "{}"):
        child = node.children.get(name)
        if child is not None and (roles := _roles_below(child, pieces[1:], method)) is not None:
            return roles
    return None
