"""Tasks for values at the limits: as deep and as large as they may be, and deeper."""

from __future__ import annotations

import os
import socket
from typing import Any

from pydantic import BaseModel

from yarnloom import Loom, StepContext, output, parallel, param, sequence, step

loom = Loom("deep")


class Value(BaseModel):
    """Any value."""

    value: Any = None


@loom.task(name="echo-task")
def echo(value: Any) -> Any:
    """Give back what came."""
    return value


@loom.task
def depth_of(value: Any) -> int:
    """Say how deep a value is."""
    depth = 0
    while isinstance(value, list | dict):
        depth += 1
        value = list(value.values() if isinstance(value, dict) else value)[-1]
    return depth


@loom.task(name="use-task")
def use(ctx: StepContext, value: Any) -> Any:
    """Let a value through every door that a context has."""
    ctx.publish(value)
    ctx.checkpoint(value)
    return ctx.once("keep", lambda: value)


@loom.task
def nest(levels: int) -> Any:
    """Return something nested."""
    value: Any = "x"
    for _ in range(levels):
        value = [value]
    return value


@loom.task
def spoil() -> str:
    """Write to the channel what is no frame, as code that closes the wrong descriptor can."""
    for number in range(3, 64):
        try:
            sock = socket.socket(fileno=os.dup(number))
        except OSError:
            continue
        if sock.family == socket.AF_UNIX:
            sock.sendall(b"\xff" * 100)
    return "spoiled"


@loom.task
def mumble() -> str:
    """Send a frame that is no JSON."""
    for number in range(3, 64):
        try:
            sock = socket.socket(fileno=os.dup(number))
        except OSError:
            continue
        if sock.family == socket.AF_UNIX:
            sock.sendall((3).to_bytes(4, "big") + bytes(8) + b"{{{")
    return "mumbled"


loom.workflow("echo", params=Value, plan=step("echo", echo, value=param("value")))
loom.workflow("use", params=Value, plan=step("use", use, value=param("value")))
loom.workflow(
    "compose",
    params=Value,
    plan=sequence(
        parallel(
            "both",
            step("one", echo, value=param("value")),
            sequence("two", parallel("inner", step("three", echo, value=param("value")))),
        ),
        step("depth", depth_of, value=output("both")),
    ),
)
loom.workflow("fails", params=Value, plan=step("fail", nest, levels=param("value")))
loom.workflow("spoils", plan=step("spoil", spoil))
loom.workflow("mumbles", plan=step("mumble", mumble))
