"""A FastAPI application with a service beside it: `uvicorn web_app:app --workers 4`."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI

import yarnloom
from yarnloom import Loom, step

loom = Loom("tickets")


@loom.task
def print_ticket(boat: str) -> str:
    return f"a ticket for the {boat}"


loom.workflow("print", plan=step("print", print_ticket, boat="grey heron"))


@asynccontextmanager
async def lifespan(app: FastAPI) -> AsyncIterator[None]:
    async with yarnloom.running(load="web_app:loom") as client:
        app.state.client = client
        yield


app = FastAPI(lifespan=lifespan)


@app.post("/tickets")
async def order() -> dict[str, int]:
    run = await app.state.client.start("print")
    return {"run": run.number}
