"""The service: HTTP over the engine."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yarnloom.lazy_names import lazy_names

if TYPE_CHECKING:
    from yarnloom.service.app import create_app
    from yarnloom.service.processes.worker_process import Helpers
    from yarnloom.service.server import Notices, Service
    from yarnloom.service.settings import DEFAULT_HOST, DEFAULT_PORT, ServiceSettings

__all__ = [
    "DEFAULT_HOST",
    "DEFAULT_PORT",
    "Helpers",
    "Notices",
    "Service",
    "ServiceSettings",
    "create_app",
]

# `serve` starts its workers before it loads the rest, which takes its time.
_LATER = {
    "Helpers": "processes.worker_process",
    "Notices": "server",
    "Service": "server",
    "create_app": "app",
    **dict.fromkeys(("DEFAULT_HOST", "DEFAULT_PORT", "ServiceSettings"), "settings"),
}


__getattr__ = lazy_names(__name__, _LATER)
