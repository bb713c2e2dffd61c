"""Whether the service can keep what it is told: said once when it cannot, and once when it can."""

from __future__ import annotations

import logging

log = logging.getLogger("yarnloom.service")


class Health:
    """What is wrong with the ground that the service stands on.

    Attributes:
        fault: why nothing can be stored; None while all is well.
        damage: what was found damaged in the records.
    """

    def __init__(self) -> None:
        self.fault: str | None = None
        self.damage: str | None = None

    def note_damage(self, faults: list[str]) -> None:
        """Take in what is damaged in the records, found while the service serves."""
        if faults:
            self.damage = f"the records are damaged: {faults[0]}; restore them from a copy"
            log.error("%s", self.damage)

    def note(self, fault: str | None) -> None:
        """Take in whether something could be stored just now."""
        if fault and not self.fault:
            log.error("nothing can be stored, so nothing is accepted: %s", fault)
        if self.fault and not fault:
            log.warning("changes can be stored again")
        self.fault = fault
