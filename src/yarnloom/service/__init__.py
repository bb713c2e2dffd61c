"""The service: HTTP over the engine."""

from yarnloom.service.app import create_app
from yarnloom.service.helpers import Helpers
from yarnloom.service.serve import Service
from yarnloom.service.settings import (
    DEFAULT_HOST,
    DEFAULT_PORT,
    ServiceSettings,
    default_data_folder,
)

__all__ = [
    "DEFAULT_HOST",
    "DEFAULT_PORT",
    "Helpers",
    "Service",
    "ServiceSettings",
    "create_app",
    "default_data_folder",
]
