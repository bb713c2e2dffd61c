"""The service: HTTP over the engine."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from yarnloom.service.app import create_app
    from yarnloom.service.serve import Service
    from yarnloom.service.settings import (
        DEFAULT_HOST,
        DEFAULT_PORT,
        ServiceSettings,
        default_data_folder,
    )
    from yarnloom.service.workers import Helpers

__all__ = [
    "DEFAULT_HOST",
    "DEFAULT_PORT",
    "Helpers",
    "Service",
    "ServiceSettings",
    "create_app",
    "default_data_folder",
]

# `serve` starts its workers before it loads the rest, which takes its time.
_LATER = {
    "Helpers": "workers",
    "Service": "serve",
    "create_app": "app",
    **dict.fromkeys(
        ("DEFAULT_HOST", "DEFAULT_PORT", "ServiceSettings", "default_data_folder"), "settings"
    ),
}


def __getattr__(name: str) -> Any:
    """Import a name on first use."""
    if name not in _LATER:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(importlib.import_module(f"{__name__}.{_LATER[name]}"), name)
