"""The OpenAPI description: what FastAPI finds in the routes, and what only we know of answers."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from http import HTTPStatus

from fastapi import FastAPI

from yarnloom.media_types import JSON_LINES
from yarnloom.protocol.field_words import FIELD_WORDS
from yarnloom.protocol.run_answers import ProblemAnswer
from yarnloom.service.access.route_roles import OPEN, RouteRoles
from yarnloom.service.http.problems import MEDIA_TYPE
from yarnloom.values import JsonObject

EVENTS = "text/event-stream"
_TEXT = {"schema": {"type": "string"}}
_BYTES = {"schema": {"type": "string", "format": "binary"}}

CONTENTS: dict[str, JsonObject] = {
    "/events": {EVENTS: _TEXT},
    "/lines/live": {EVENTS: _TEXT},
    "/runs/{number}/published/live": {EVENTS: _TEXT},
    "/runs/{number}/log/live": {EVENTS: _TEXT},
    "/runs/{number}/lines/live": {EVENTS: _TEXT},
    "/links/{token}/events": {EVENTS: _TEXT},
    "/link/events": {EVENTS: _TEXT},
    "/runs/{number}/export": {"text/csv": _TEXT, JSON_LINES: _TEXT},
    "/files/{sha256}": {"*/*": _BYTES},
}
"""What a GET of these paths answers with, where it is not one JSON object."""

NAMES = {
    "start": "startRun",
    "start_many": "startRuns",
    "show": "showRun",
    "counts": "countRuns",
    "change": "changeRun",
    "cancel": "cancelRun",
    "pause": "pauseRun",
    "resume": "resumeRun",
    "mend": "mendRun",
    "rerun": "rerunRun",
    "graph": "showGraph",
    "glance": "glanceAtRun",
    "failures": "listFailures",
    "times": "showTimes",
    "outliers": "listOutliers",
    "attempts": "listAttempts",
    "steps": "showSteps",
    "why": "explainRun",
    "items": "listItems",
    "log": "readAttemptLog",
    "log_live": "followAttemptLog",
    "lines": "readLines",
    "lines_live": "followLines",
    "all_lines_live": "followAllLines",
    "commands": "listRunCommands",
    "save": "saveFilter",
    "drop": "dropFilter",
    "act_on_many": "actOnRuns",
    "ledger": "showLedger",
    "settle": "settleEffect",
    "published": "listPublished",
    "published_live": "followPublished",
    "shown_by_header": "showRunOfLink",
    "events_by_header": "followRunOfLink",
    "linked_run": "showLinkedRun",
    "linked_events": "followLinkedRun",
    "export": "exportItems",
    "record": "exportRecord",
    "upload": "uploadFile",
    "download": "downloadFile",
    "facts": "showFile",
    "preview": "previewFile",
    "preview_rows": "previewRows",
    "publish": "publishLooms",
    "workflows": "listWorkflows",
    "over_time": "showOverTime",
    "tasks": "listTasks",
    "pool_use": "showPoolUse",
    "register": "registerWorker",
    "ask": "pollWorker",
    "report": "reportAttempts",
    "begin": "beginAttempts",
    "gone": "reportGoneWorkers",
    "drain": "drainWorker",
    "leave": "leaveWorker",
    "overview": "showOverview",
    "service": "showService",
    "events": "followEvents",
    "hold": "holdService",
    "session": "showSession",
    "sign_in": "beginSession",
    "sign_out": "endSession",
    "sign_in_code": "makeSignInAddress",
    "download_code": "makeDownloadCode",
}
"""Names of operations whose function's name alone does not say what it is about."""


def problem_responses(statuses: Iterable[int]) -> dict[int | str, JsonObject]:
    """Return the description of problems as answers of an operation.

    By reference: from a model FastAPI would make a validator for each status of each route.
    """
    content = {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemAnswer"}}}
    headers: dict[int, JsonObject] = {
        401: {"WWW-Authenticate": _header("How to show a token: `Bearer`.")},
        405: {"Allow": _header("The methods that there are.")},
        503: {"Retry-After": _header("Seconds until it may go better.")},
    }
    return {
        status: {
            "description": HTTPStatus(status).phrase,
            "content": content,
            **({"headers": headers[status]} if status in headers else {}),
        }
        for status in statuses
    }


def _header(words: str) -> JsonObject:
    return {"description": words, "schema": {"type": "string"}}


def describe(app: FastAPI, prefix: str, roles: RouteRoles) -> None:
    """Let an application describe itself completely, once it is asked to."""
    found: Callable[[], JsonObject] = app.openapi

    def complete() -> JsonObject:
        if app.openapi_schema is None:
            app.openapi_schema = completed(found(), prefix, roles)
        return app.openapi_schema

    app.openapi = complete  # type: ignore[method-assign]


def completed(document: JsonObject, prefix: str, roles: RouteRoles) -> JsonObject:
    """Return what FastAPI found, with all that it cannot know."""
    components = document["components"]
    schemas = components["schemas"]
    schemas["ProblemAnswer"] = ProblemAnswer.model_json_schema(mode="serialization")
    components["securitySchemes"] = {
        "token": {
            "type": "http",
            "scheme": "bearer",
            "description": "A named token, as `yarnloom token add` makes it. Over the Unix socket "
            "the service's own user needs none. An operation names the roles that it takes; "
            "`admin` may use all.",
        },
        "session": {
            "type": "apiKey",
            "in": "header",
            "name": "Yarnloom-Session",
            "description": "The session of a browser, which sends a cookie beside it.",
        },
    }
    for path, operations in document["paths"].items():
        for method, operation in operations.items():
            _complete(path.removeprefix(prefix), method, operation)
            allowed = roles.of(method.upper(), path)
            taken = sorted(allowed or ()) or ["admin"]
            operation["security"] = (
                [] if allowed is OPEN else [{"token": taken}, {"session": taken}, {}]
            )
    for schema in schemas.values():
        _describe_fields(schema)
    for name in _bodies(document):
        _without_defaults(schemas[name])
    return document


def _complete(path: str, method: str, operation: JsonObject) -> None:
    # FastAPI knows the models; names, tags, streams and headers are ours.
    responses = operation["responses"]
    own = operation["operationId"].partition("_api_v1")[0]
    operation["operationId"] = NAMES.get(own) or _camel(own)
    if path.startswith(("/links/", "/link")):
        operation["tags"] = ["public"]
    elif path == "/holders":
        operation["tags"] = ["session"]
        responses["200"]["content"] = {EVENTS: _TEXT}
    elif path.startswith("/session"):
        operation["tags"] = ["session"]
    elif path.startswith("/workers") and method != "get" and not path.endswith("/drain"):
        operation["tags"] = ["worker"]
    for parameter in operation.get("parameters", ()):
        words = FIELD_WORDS.get(parameter["name"].lower())
        if "description" not in parameter and words:
            parameter["description"] = words
    if method == "get" and path in CONTENTS:
        responses["200"]["content"] = CONTENTS[path]
    if path == "/files/{sha256}":
        responses["206"] = {"description": "A part of it", "content": CONTENTS[path]}
        responses["416"] = {"description": "Not a part of it", "content": {"text/plain": _TEXT}}
    elif method == "get" and "application/json" in responses["200"].get("content", ()):
        responses["200"]["headers"] = {"ETag": _header("Names this answer, for If-None-Match.")}
        responses["304"] = {"description": "As If-None-Match has it"}
    if path == "/files" and method == "post":
        operation["requestBody"] = {"content": {"application/octet-stream": _BYTES}}
    if "201" in responses and "202" in responses:
        again = {"description": "What the start key had made before"}
        responses["200"] = {**again, "content": responses["201"]["content"]}
        if "many" not in path:
            responses["201"]["headers"] = {"Location": _header("The path of the new run.")}


def _camel(name: str) -> str:
    first, *rest = name.split("_")
    return first + "".join(word.capitalize() for word in rest)


def _describe_fields(schema: JsonObject) -> None:
    for name, field in schema.get("properties", {}).items():
        if "description" not in field and (words := FIELD_WORDS.get(name.lower())):
            field["description"] = words


def _bodies(document: JsonObject) -> set[str]:
    """Names of all schemas that requests have, and those in them."""
    schemas = document["components"]["schemas"]
    bodies: set[str] = set()
    names: set[str] = set()
    for operations in document["paths"].values():
        for operation in operations.values():
            names |= set(_references(operation.get("requestBody", {})))
    while names:
        name = names.pop()
        if name not in bodies:
            bodies.add(name)
            names |= set(_references(schemas[name]))
    return bodies


def _references(value: object) -> Iterator[str]:
    if isinstance(value, dict):
        if isinstance(target := value.get("$ref"), str):
            yield target.rpartition("/")[2]
        for inner in value.values():
            yield from _references(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _references(inner)


def _without_defaults(schema: JsonObject) -> None:
    """Say defaults of a body in words.

    Generators of clients take a field with a default for a required one.
    """
    for field in schema.get("properties", {}).values():
        if "default" in field:
            default = field.pop("default")
            if default not in (None, "", [], {}):
                said = str(default).lower() if isinstance(default, bool) else default
                field["description"] = f"{field.get('description', '')} Default: {said}.".strip()
