"""The data folder of a service, and the tokens of its steps."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.store import FileFolder, Past, StepRow


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

    def token_of(self, step: StepRow) -> str:
        """Return a text that is the same over all attempts of a step, and of no other's."""
        if step.item_part is None:
            return self.token_of_place(step.part, step.node)
        return f"{self.token}{step.id}"

    def token_of_place(self, part: int, node: int) -> str:
        """Return the token of a step in no item, which may have no row yet."""
        return f"{self.token}{part}.{node}"

    @property
    def token(self) -> str:
        """What the tokens of all steps begin with."""
        return f"{self.id}-"
