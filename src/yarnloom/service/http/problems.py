"""Errors become answers here, and nowhere else: RFC 9457 problem details, from one table."""

from __future__ import annotations

import logging
from http import HTTPStatus

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect
from starlette.routing import Match

from yarnloom import errors
from yarnloom.errors import Problem, YarnloomError
from yarnloom.plan.value_problems import MOST_SHOWN
from yarnloom.side_process.check_values import mistake_in
from yarnloom.values import JsonObject, dump

log = logging.getLogger("yarnloom.service")

MEDIA_TYPE = "application/problem+json"

# The most special class that an error is an instance of decides.
STATUS: dict[type[YarnloomError], HTTPStatus] = {
    errors.NotFound: HTTPStatus.NOT_FOUND,
    errors.Gone: HTTPStatus.GONE,
    errors.InvalidInput: HTTPStatus.UNPROCESSABLE_ENTITY,
    errors.ValueRefused: HTTPStatus.UNPROCESSABLE_ENTITY,
    errors.TooLarge: HTTPStatus.REQUEST_ENTITY_TOO_LARGE,
    errors.TooSlow: HTTPStatus.REQUEST_TIMEOUT,
    errors.BadRequest: HTTPStatus.BAD_REQUEST,
    errors.Conflict: HTTPStatus.CONFLICT,
    errors.NotAllowed: HTTPStatus.FORBIDDEN,
    errors.TokenNeeded: HTTPStatus.UNAUTHORIZED,
    errors.WorkerUnknown: HTTPStatus.NOT_FOUND,
    errors.Busy: HTTPStatus.SERVICE_UNAVAILABLE,
    errors.Refused: HTTPStatus.BAD_REQUEST,
    YarnloomError: HTTPStatus.INTERNAL_SERVER_ERROR,
}


HEADERS: dict[type, dict[str, str]] = {
    errors.TooLarge: {"Connection": "close"},
    errors.TokenNeeded: {"WWW-Authenticate": 'Bearer realm="yarnloom"'},
    errors.Busy: {"Retry-After": "1"},
}


def install(app: FastAPI) -> None:
    """Answer every error of the app with a problem."""

    async def on_ours(request: Request, error: Exception) -> Response:
        assert isinstance(error, YarnloomError)
        return problem_response(error)

    async def on_body(request: Request, error: Exception) -> Response:
        assert isinstance(error, RequestValidationError)
        found = [
            # The first element says where FastAPI looked: body, query, path, header.
            mistake_in(one["loc"][1:], one["msg"])
            for one in error.errors()[:MOST_SHOWN]
        ]
        return problem_response(
            errors.InvalidInput("the request does not fit; see `problems`", problems=found)
        )

    async def on_http(request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        status = HTTPStatus(error.status_code)
        body = {
            "type": f"urn:yarnloom:{status.phrase.lower().replace(' ', '-')}",
            "title": status.phrase,
            "status": status.value,
            "detail": f"{request.method} {request.url.path[:200]}: {error.detail}. "
            "What there is stands in /api/v1/openapi.json.",
        }
        headers = dict(error.headers or {})
        if status == HTTPStatus.METHOD_NOT_ALLOWED:
            headers["Allow"] = ", ".join(_methods_of(request))
        return Response(dump(body), status, media_type=MEDIA_TYPE, headers=headers)

    async def on_bug(request: Request, error: Exception) -> Response:
        log.error("%s %s failed", request.method, request.url.path, exc_info=error)
        return problem_response(
            YarnloomError("this is a mistake in the service; its log has the details")
        )

    async def on_gone(request: Request, error: Exception) -> Response:
        # Nobody is there any more to read an answer; it is no mistake of this program.
        return Response(status_code=HTTPStatus.BAD_REQUEST)

    app.add_exception_handler(ClientDisconnect, on_gone)
    app.add_exception_handler(YarnloomError, on_ours)
    app.add_exception_handler(RequestValidationError, on_body)
    app.add_exception_handler(HTTPException, on_http)
    app.add_exception_handler(Exception, on_bug)


def _methods_of(request: Request) -> list[str]:
    """Return the methods that the path of a request takes; each route knows its own only."""
    methods: set[str] = set()
    for route in request.app.router.routes:
        matched, _ = route.matches(request.scope)
        if matched is not Match.NONE:
            methods |= set(getattr(route, "methods", None) or ())
    return sorted(methods | ({"HEAD"} if "GET" in methods else set()))


def problem_of(error: YarnloomError) -> tuple[int, JsonObject]:
    """Return the status and the body of the answer for an error."""
    status = next(STATUS[kind] for kind in type(error).__mro__ if kind in STATUS)
    body: JsonObject = {
        "type": f"urn:yarnloom:{error.code}",
        "title": (type(error).__doc__ or "").partition("\n")[0],
        "status": status.value,
        "detail": error.detail,
    }
    if error.hint:
        body["hint"] = error.hint
    if error.problems:
        body["problems"] = [_problem(problem) for problem in error.problems]
    return status.value, {**body, **error.facts}


def problem_response(error: YarnloomError) -> Response:
    """Return the answer for an error."""
    status, body = problem_of(error)
    # What is left of a body that is too large is not waited for.
    headers = next((HEADERS[kind] for kind in type(error).__mro__ if kind in HEADERS), None)
    return Response(dump(body), status, headers, MEDIA_TYPE)


def _problem(problem: Problem) -> JsonObject:
    found: JsonObject = {"pointer": problem.where, "detail": problem.message}
    if problem.line:
        found["line"] = problem.line
    if problem.column:
        found["column"] = problem.column
    return found
