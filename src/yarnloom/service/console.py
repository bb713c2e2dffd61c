"""The console's files, as they were built into the package."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response

from yarnloom.errors import NotFound

POLICY = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:"
_HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
}
_MISSING = """<!doctype html><title>Yarn Loom</title>
<p>The console is not built into this checkout. Build it with <code>make console</code>,
then reload. The API is at <a href="/api/v1/openapi.json">/api/v1/openapi.json</a>."""

router = APIRouter(include_in_schema=False)


def console_folder() -> Path:
    """Where the built console is."""
    return Path(str(files("yarnloom") / "_console"))


@router.get("/assets/{name:path}")
async def asset(name: str) -> Response:
    """A script, style or font; names carry a hash of the content, so they never change."""
    folder = console_folder() / "assets"
    path = (folder / name).resolve()
    if not path.is_relative_to(folder.resolve()) or not path.is_file():
        raise NotFound(f"there is no console file {name!r}")
    forever = {"Cache-Control": "public, max-age=31536000, immutable"}
    return FileResponse(path, headers={**_HEADERS, **forever})


@router.get("/{path:path}")
async def page(path: str) -> Response:
    """Every other path is a page of the console, which finds its way itself."""
    if path.startswith("api/"):
        raise NotFound(f"there is no /{path}; what there is stands in /api/v1/openapi.json")
    if path == "icon.svg" and (icon := console_folder() / path).is_file():
        return FileResponse(icon, headers=_HEADERS)
    index = console_folder() / "index.html"
    fresh = {**_HEADERS, "Cache-Control": "no-cache"}
    if not index.is_file():
        return HTMLResponse(_MISSING, 503, headers=fresh)
    return FileResponse(index, headers=fresh)
