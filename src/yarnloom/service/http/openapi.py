"""The OpenAPI description: what FastAPI finds in the routes, and what only we know of answers."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from http import HTTPStatus

from fastapi import FastAPI

from yarnloom.media_types import JSON_LINES
from yarnloom.protocol.run_answers import ProblemAnswer
from yarnloom.service.http.problems import MEDIA_TYPE
from yarnloom.values import JsonObject

EVENTS = "text/event-stream"
_TEXT = {"schema": {"type": "string"}}
_BYTES = {"schema": {"type": "string", "format": "binary"}}

CONTENTS: dict[str, JsonObject] = {
    "/events": {EVENTS: _TEXT},
    "/runs/{number}/published/live": {EVENTS: _TEXT},
    "/runs/{number}/log/live": {EVENTS: _TEXT},
    "/runs/{number}/lines/live": {EVENTS: _TEXT},
    "/lines/live": {EVENTS: _TEXT},
    "/links/{token}/events": {EVENTS: _TEXT},
    "/runs/{number}/export": {"text/csv": _TEXT, JSON_LINES: _TEXT},
    "/files/{sha256}": {"*/*": _BYTES},
}
"""What a GET of these paths answers with, where it is not one JSON object."""


def problem_responses(statuses: Iterable[int]) -> dict[int | str, JsonObject]:
    """Return the description of problems as answers of an operation.

    By reference: from a model FastAPI would make a validator for each status of each route.
    """
    content = {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemAnswer"}}}
    return {
        status: {"description": HTTPStatus(status).phrase, "content": content}
        for status in statuses
    }


def describe(app: FastAPI, prefix: str) -> None:
    """Let an application describe itself completely, once it is asked to."""
    found: Callable[[], JsonObject] = app.openapi

    def complete() -> JsonObject:
        if app.openapi_schema is None:
            document = found()
            schemas = document["components"]["schemas"]
            schemas["ProblemAnswer"] = ProblemAnswer.model_json_schema(mode="serialization")
            for path, operations in document["paths"].items():
                for method, operation in operations.items():
                    _complete(path.removeprefix(prefix), method, operation)
            app.openapi_schema = document
        return app.openapi_schema

    app.openapi = complete  # type: ignore[method-assign]


def _complete(path: str, method: str, operation: JsonObject) -> None:
    responses = operation["responses"]
    if method == "get" and path in CONTENTS:
        responses["200"]["content"] = CONTENTS[path]
    if path == "/files/{sha256}":
        responses["206"] = {"description": "A part of it", "content": CONTENTS[path]}
        responses["416"] = {"description": "Not a part of it", "content": {"text/plain": _TEXT}}
    if path == "/files" and method == "post":
        operation["requestBody"] = {"content": {"application/octet-stream": _BYTES}}
    if "201" in responses and "202" in responses:
        again = {"description": "What the start key had made before"}
        responses["200"] = {**again, "content": responses["201"]["content"]}
