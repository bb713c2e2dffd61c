"""Tasks that know a secret, and spill it in every way they can."""

from __future__ import annotations

import logging
import os
import time
from pathlib import Path

from pydantic import BaseModel

from yarnloom import Loom, Secret, StepContext, item, parallel, param, sequence, step
from yarnloom.plan import each

loom = Loom("secrets")


class Account(BaseModel):
    """One of several, each with its own secret."""

    name: str
    password: Secret[str]


class Params(BaseModel):
    """What a run is started with."""

    token: Secret[str]
    accounts: list[Account] = []
    fail: bool = False


@loom.task
def marked(ctx: StepContext, token: Secret[str]) -> str:
    """Know it as a secret."""
    print("printed", token.get_secret_value())
    return "sent"


@loom.task
def plain(ctx: StepContext, token: str, fail: bool) -> str:
    """Know it as plain text, print it, log it, publish it, save it, and raise it."""
    print(f"token={token}")
    logging.getLogger("secrets").warning("the token is %s", token)
    ctx.publish({"token": token})
    ctx.progress(note=f"with {token}")
    ctx.checkpoint({"token": token})
    once = ctx.once("post a letter", lambda: {"receipt": f"r-{token}"})
    assert once == {"receipt": f"r-{token}"}
    if fail:
        raise RuntimeError(f"refused {token}")
    return "posted"


@loom.task
def named(ctx: StepContext, token: str) -> str:
    """Name an effect by the secret, which is refused before anything happens."""
    return ctx.once(f"post {token}", lambda: "never")


@loom.task
def log_in(name: str, password: str) -> str:
    """Know one of several."""
    print(name, password)
    return name


@loom.task
def environment() -> list[str]:
    """Say which of this process's variables could be secret."""
    return sorted(name for name in os.environ if "TOKEN" in name or "SECRET" in name)


@loom.task
def holds(ctx: StepContext, token: str, until: str) -> str:
    """Run until a file is there, so that the processes can be looked at meanwhile."""
    while not Path(until).exists():
        ctx.check()
        time.sleep(0.01)
    return "held"


loom.workflow(
    "spill",
    params=Params,
    plan=sequence(
        parallel(
            "both",
            step("marked", marked, token=param("token")),
            step("plain", plain, token=param("token"), fail=param("fail")),
            if_one_fails="finish",
        ),
        each(
            "accounts",
            over=param("accounts"),
            do=step("log-in", log_in, name=item("name"), password=item("password")),
        ),
    ),
)


class Named(BaseModel):
    """What a run is started with."""

    token: Secret[str]


loom.workflow("names", params=Named, plan=step("named", named, token=param("token")))


class Held(BaseModel):
    """What a run is started with."""

    token: Secret[str]
    until: str


loom.workflow(
    "hold", params=Held, plan=step("hold", holds, token=param("token"), until=param("until"))
)
