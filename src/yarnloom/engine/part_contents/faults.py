"""Why an item, or what a part reads, is not what it needs."""

from __future__ import annotations


class ItemFault(Exception):
    """A part cannot begin: it reads a value that does not fit."""

    def __init__(self, message: str, kind: str = "Unfit") -> None:
        super().__init__(message)
        self.type = kind
