"""Tokens, and the sessions of browsers."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

from fastapi import Path, Query, Request
from fastapi.responses import Response

from yarnloom.engine.records.access import TokenRecord
from yarnloom.errors import InvalidInput, Problem
from yarnloom.protocol.access_answers import (
    CallerAnswer,
    CodeAnswer,
    NewToken,
    SessionAnswer,
    SignInCode,
    TokenAnswer,
    TokenList,
)
from yarnloom.protocol.access_bodies import AddTokenBody, DownloadBody, SignInBody, SignInCodeBody
from yarnloom.protocol.fields import ROLES
from yarnloom.service.access.callers import CALLER, Caller
from yarnloom.service.access.gate import DOWNLOAD_SECONDS, SESSION_SECONDS, SIGN_IN_SECONDS
from yarnloom.service.access.route_roles import ANY
from yarnloom.service.http.api_router import api_router, takes
from yarnloom.service.route_helpers import Asker, TheCore, answer, problems
from yarnloom.values import JsonObject

router = api_router("access", reads=(), changes=())

TokenName = Annotated[str, Path(max_length=100, description="The name of a token")]


@router.get("/tokens", response_model=TokenList)
async def list_tokens(core: TheCore) -> Response:
    """The tokens, newest first, without the tokens themselves."""
    return answer(TokenList, {"tokens": [_facts(token) for token in core.gate.tokens()]})


@router.post("/tokens", status_code=201, response_model=NewToken, responses=problems(409, 422))
async def add_token(core: TheCore, who: Asker, body: AddTokenBody) -> Response:
    """Make a token. The answer shows it, and nothing else ever does."""
    may = tuple(role for role in ROLES if role in body.may)
    patterns = tuple(dict.fromkeys(body.workflows))
    record, token = await core.gate.add_token(body.name, may, patterns, body.seconds, who)
    return answer(NewToken, {**_facts(record), "token": token}, 201)


@router.delete("/tokens/{name}", response_model=TokenAnswer, responses=problems(404))
async def revoke_token(
    core: TheCore, who: Asker, name: TokenName, reason: Annotated[str, Query(max_length=2_000)] = ""
) -> Response:
    """End a token before its time, with its sessions and all that it holds open."""
    return answer(TokenAnswer, _facts(await core.gate.revoke_token(name, who, reason)))


@router.get("/session", response_model=CallerAnswer)
@takes(*ANY)
async def session() -> Response:
    """Who asks, and what that one may do."""
    return answer(CallerAnswer, _caller_facts(CALLER.get()))


@router.post("/session", status_code=201, response_model=SessionAnswer, responses=problems(422))
@takes("anybody")
async def sign_in(core: TheCore, request: Request, body: SignInBody) -> Response:
    """Sign a browser in, with the code of a one-time address or with a token.

    A session is a cookie and a header, since a browser sends cookies to every port of a host.
    """
    if bool(body.code) == bool(body.token):
        text = "expected either a code or a token"
        raise InvalidInput(text, problems=[Problem("", text)])
    made = await core.gate.sign_in(code=body.code, token=body.token)
    caller = _caller_facts(made.caller)
    done = answer(SessionAnswer, {**caller, "session": made.header}, 201)
    done.set_cookie(
        core.gate.cookie_name,
        made.cookie,
        max_age=round(SESSION_SECONDS),
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )
    return done


@router.delete("/session", status_code=204, response_class=Response)
@takes(*ANY)
async def sign_out(core: TheCore) -> Response:
    """Sign the browser out that asks."""
    caller = CALLER.get()
    if caller.session:
        await core.gate.sign_out(caller.session)
    done = Response(status_code=204)
    done.delete_cookie(core.gate.cookie_name)
    return done


@router.post("/session/codes", status_code=201, response_model=SignInCode)
async def sign_in_code(core: TheCore, who: Asker, body: SignInCodeBody | None = None) -> Response:
    """Make an address that signs a browser in once, as the service's own user."""
    address = core.sign_in_address(who, body.path if body else "/")
    return answer(SignInCode, {"address": address, "seconds": SIGN_IN_SECONDS}, 201)


@router.post("/session/downloads", status_code=201, response_model=CodeAnswer)
@takes(*ANY)
async def download_code(core: TheCore, body: DownloadBody) -> Response:
    """Make a code with which a browser can open a path once, as `once` in its query."""
    code = core.gate.downloads.make((body.path, CALLER.get()))
    return answer(CodeAnswer, {"code": code, "seconds": DOWNLOAD_SECONDS}, 201)


def _facts(token: TokenRecord) -> JsonObject:
    facts = asdict(token)
    return {name: facts[name] for name in TokenAnswer.model_fields}


def _caller_facts(caller: Caller) -> JsonObject:
    may = [role for role in ROLES if role in caller.may]
    return {"name": caller.name, "may": may, "workflows": caller.workflows}
