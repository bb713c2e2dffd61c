"""Limits of the engine, and the data folder."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field

from yarnloom.engine.state.verdicts import Verdicts
from yarnloom.secrets import Vault
from yarnloom.store import FileFolder, Past
from yarnloom.values import VALUE_LIMIT

LEASE = 30.0
LOSSES = 3
KEEP_FILES = 86_400.0


@dataclass(slots=True)
class EngineSettings:
    """Limits, and what the engine takes from outside.

    Attributes:
        lease: seconds a worker is thought to live after its last request.
        losses: how often a step may lose its worker or process before it fails, unless it says so.
        chance: gives numbers from 0 to 1, for the jitter of waits.
        vault: seals secret params; None for that of the data folder.
        list_above: over how many bytes a gathered list is kept as a file.
        straight: whether items may go to workers without rows (`without_rows/giving_items`).
        failures_above: over how many failed items their list is.
        keep_files: seconds that a file is kept that no run uses.
        verdicts: finds out what is wrong with values from outside.
    """

    lease: float = LEASE
    losses: int = LOSSES
    list_above: int = VALUE_LIMIT
    failures_above: int = 200
    straight: bool = True
    keep_files: float = KEEP_FILES
    chance: Callable[[], float] = random.random
    vault: Vault | None = None
    verdicts: Verdicts = field(default_factory=Verdicts)


@dataclass(frozen=True, slots=True)
class Folder:
    """The data folder of a service.

    Attributes:
        files: the bytes of files and lists.
        id: a text that no other folder has.
        past: whether the records went back, and their epoch.
    """

    files: FileFolder
    id: str
    past: Past
