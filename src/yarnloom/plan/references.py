"""References: where a step's input comes from, when it is not a constant."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


class Reference:
    """Something that stands for a value not known before the run."""

    __slots__ = ()

    def to_json(self) -> dict[str, Any]:
        """The reference as it stands in a plan."""
        raise NotImplementedError


@dataclass(frozen=True, slots=True)
class Param(Reference):
    """A param of the workflow, or a field inside one."""

    path: str

    def to_json(self) -> dict[str, Any]:
        """`{"param": "region.name"}`."""
        return {"param": self.path}


@dataclass(frozen=True, slots=True)
class Output(Reference):
    """The output of a labelled part."""

    label: str

    def to_json(self) -> dict[str, Any]:
        """`{"output": "fetch"}`."""
        return {"output": self.label}


@dataclass(frozen=True, slots=True)
class Previous(Reference):
    """The output of the part before, in a sequence."""

    def to_json(self) -> dict[str, Any]:
        """`{"previous": true}`."""
        return {"previous": True}


def param(path: str) -> Any:
    """The value of a param, e.g. `param("year")` or, inside one, `param("region.name")`."""
    return Param(path)


def output(label: str) -> Any:
    """The output of the part with that label, looked for among the siblings, then outwards."""
    return Output(label)


previous: Any = Previous()
"""The output of the part before, in a sequence."""
