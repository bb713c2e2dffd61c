"""A plain WSGI application with a service beside it."""

import json
import os
from collections.abc import Callable, Iterable
from typing import Any
from wsgiref.simple_server import make_server

import yarnloom
from yarnloom import Client, Loom, step

loom = Loom("tickets")


@loom.task
def print_ticket(boat: str) -> str:
    return f"a ticket for the {boat}"


loom.workflow("print", plan=step("print", print_ticket, boat="grey heron"))


def app_of(client: Client) -> Callable[..., Iterable[bytes]]:
    def app(environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        run = client.start("print")
        start_response("200 OK", [("Content-Type", "application/json")])
        return [json.dumps({"run": run.number}).encode()]

    return app


if __name__ == "__main__":
    with yarnloom.running(load="wsgi_app:loom") as client:
        port = int(os.environ.get("PORT", "8000"))
        make_server("127.0.0.1", port, app_of(client)).serve_forever()
