"""Plans: parts, references, compile, check, and the JSON form. Pure: no I/O, no clock."""

from yarnloom.plan.check import NAME, NAME_RULE, examine, read_plan
from yarnloom.plan.compile import compile_plan
from yarnloom.plan.model import (
    Constant,
    FromOutput,
    FromParam,
    Kind,
    Node,
    Plan,
)
from yarnloom.plan.parts import STEP_OPTIONS, Part, Sequence, Step, sequence, step
from yarnloom.plan.references import output, param, previous

__all__ = [
    "NAME",
    "NAME_RULE",
    "STEP_OPTIONS",
    "Constant",
    "FromOutput",
    "FromParam",
    "Kind",
    "Node",
    "Part",
    "Plan",
    "Sequence",
    "Step",
    "compile_plan",
    "examine",
    "output",
    "param",
    "previous",
    "read_plan",
    "sequence",
    "step",
]
