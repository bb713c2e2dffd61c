"""Tasks that say what a terminal or a browser would obey, wherever they can."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel

from yarnloom import Loom, StepContext, each, item, param, sequence, step

HOSTILE = "\x1b]0;owned\x07\x1b[2J\x1b[31mred\x1b[0m\x9b1A\u202egnp.exe\u2066<b>&amp;\r\x00end\x7f"

loom = Loom("hostile")


class Names(BaseModel):
    """What the items are called."""

    names: list[str]
    note: str = ""


@loom.task(name="say-task")
def say(ctx: StepContext, name: str) -> Any:
    """Print, log, publish and return it."""
    print(name)
    ctx.log.warning("logged %s", name)
    ctx.publish({name: name})
    ctx.progress(note=name)
    return {"said": name}


@loom.task
def fail(name: str) -> str:
    """Raise it."""
    raise ValueError(f"failed with {name}")


loom.workflow(
    "say",
    params=Names,
    plan=sequence(
        each("names", over=param("names"), name=item(), do=step("say", say, name=item())),
        step("fail", fail, name=param("note")),
    ),
)
