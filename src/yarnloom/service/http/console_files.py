"""The console's files, as they were built into the package."""

from __future__ import annotations

import gzip
import mimetypes
import re
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Header, Request
from fastapi.responses import FileResponse, HTMLResponse, Response

from yarnloom.errors import NotFound
from yarnloom.service.settings import ServiceSettings

POLICY = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:"
PACKED = (".js", ".css", ".svg")
_HEADERS = {"Content-Security-Policy": POLICY}
_MISSING = """<!doctype html><title>Yarn Loom</title>
<p>The console is not built into this checkout. Build it with <code>make console</code>,
then reload. The API is at <a href="/api/v1/openapi.json">/api/v1/openapi.json</a>."""

router = APIRouter(include_in_schema=False)


def console_folder() -> Path:
    """Where the built console is."""
    return Path(str(files("yarnloom") / "_console"))


@lru_cache(maxsize=256)
def _packed(path: Path) -> bytes:
    """A file compressed; what is served so never changes under its name."""
    return gzip.compress(path.read_bytes(), 9)


PAGES = re.compile(
    r"(runs(/\d{1,16})?|workflows(/[^/]+/[^/]+)?|files|pools|schedules|workers|tokens)?/?\Z",
    re.ASCII,
)
"""The addresses of the console's pages, as in `console/src/main.tsx`; no other path is one."""

_ASSET = re.compile(r"[A-Za-z0-9_.-]{1,150}\Z", re.ASCII)


@router.get("/assets/{name:path}")
def asset(name: str, accept_encoding: Annotated[str, Header(max_length=500)] = "") -> Response:
    """A script, style or font; names carry a hash of the content, so they never change."""
    path = console_folder() / "assets" / name
    if not _ASSET.match(name) or not path.is_file():
        raise NotFound(f"there is no console file {name!r:.80}")
    forever = {"Cache-Control": "public, max-age=31536000, immutable"}
    if path.suffix in PACKED and "gzip" in accept_encoding:
        kind = mimetypes.guess_type(path.name)[0]
        packed = {"Content-Encoding": "gzip", "Vary": "Accept-Encoding"}
        return Response(_packed(path), media_type=kind, headers={**_HEADERS, **forever, **packed})
    return FileResponse(path, headers={**_HEADERS, **forever})


@router.get("/link")
async def link_page(request: Request) -> Response:
    """The page that shows the run of a link; only it can be inside pages of other sites."""
    settings: ServiceSettings = request.app.state.core.settings
    sites = " ".join(settings.embed) or "'none'"
    policy = f"{POLICY}; frame-ancestors {sites}"
    headers = {"Content-Security-Policy": policy, "Cache-Control": "no-cache"}
    index = console_folder() / "link.html"
    if not index.is_file():
        return HTMLResponse(_MISSING, 503, headers=headers)
    return FileResponse(index, headers=headers)


@router.get("/follow.js")
async def follow_script() -> Response:
    """The script with which a page of another site follows the run of a link."""
    path = console_folder() / "follow.js"
    if not path.is_file():
        raise NotFound("the console is not built into this checkout")
    headers = {
        "Access-Control-Allow-Origin": "*",
        "Cross-Origin-Resource-Policy": "cross-origin",
        "Cache-Control": "no-cache",
    }
    return FileResponse(path, media_type="text/javascript", headers=headers)


@router.get("/{path:path}")
async def page(path: str, accept: Annotated[str, Header(max_length=1_000)] = "") -> Response:
    """A page of the console, which finds its way; `/api` tries the API.

    A path that is none is not found: a browser gets the console's page that says so.
    """
    if path == "icon.svg" and (icon := console_folder() / path).is_file():
        return FileResponse(icon, headers=_HEADERS)
    known = path == "api" or PAGES.match(path) is not None
    if not known and (path.startswith("api/") or "text/html" not in accept):
        raise NotFound(f"there is no /{path[:80]}; what there is stands in /api/v1/openapi.json")
    index = console_folder() / ("api.html" if path == "api" else "index.html")
    fresh = {**_HEADERS, "Cache-Control": "no-cache"}
    if not index.is_file():
        return HTMLResponse(_MISSING, 503, headers=fresh)
    return FileResponse(index, 200 if known else 404, headers=fresh)
