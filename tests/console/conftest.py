"""A browser, and a service of its own, for the console's tests."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from weakref import WeakKeyDictionary

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from tests.helpers import LOOM, ServiceProgram, service
from yarnloom import Client, local_socket
from yarnloom.client.http_requests import sign_in_request

expect.set_options(timeout=30_000)

CHROMIUM = os.environ.get("CHROMIUM") or shutil.which("chromium") or "/usr/bin/chromium"
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


_goto = Page.goto
_known: WeakKeyDictionary[BrowserContext, set[str]] = WeakKeyDictionary()


def sign_in(context: BrowserContext, url: str) -> None:
    """Sign a browser in to the service at an address, as `yarnloom open` does; once."""
    origin = "/".join(url.split("/")[:3])
    if origin in _known.setdefault(context, set()) or not local_socket.socket_of(origin):
        return
    _known[context].add(origin)
    with Client(origin) as own:
        code = own.call(sign_in_request("/"))["address"].partition("#sign-in=")[2]
    answer = context.request.post(f"{origin}/api/v1/session", data={"code": code})
    kept = json.dumps(answer.json()["session"])
    context.add_init_script(
        f"if (location.origin === {json.dumps(origin)}) "
        f"localStorage.setItem('yarnloom-session', {kept})"
    )


@pytest.fixture(scope="module", autouse=True)
def pages_are_signed_in() -> Iterator[None]:
    """Every page is, unless its context is told otherwise with `stay_out`."""

    def goto(page: Page, url: str, **more: Any) -> Any:
        sign_in(page.context, url)
        return _goto(page, url, **more)

    Page.goto = goto  # type: ignore[method-assign]
    yield
    Page.goto = _goto  # type: ignore[method-assign]


def stay_out(context: BrowserContext, url: str) -> None:
    """Leave a browser as it is: nobody is signed in."""
    _known.setdefault(context, set()).add("/".join(url.split("/")[:3]))


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """Headless Chromium. It ends with its file: while it is there, asyncio cannot run beside it."""
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        yield found
        found.close()


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with the tests' loom and a worker."""
    with service(tmp_path_factory.mktemp("console"), "--load", LOOM) as found:
        yield found


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """A page of 1280 by 800; errors on its console fail the test."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    found = context.new_page()
    found.set_default_timeout(30_000)
    errors: list[str] = []
    found.on("pageerror", lambda error: errors.append(str(error)))
    yield found
    context.close()
    assert errors == []


@pytest.fixture
def marks(tmp_path: Path) -> Path:
    """Where tasks leave their marks."""
    return tmp_path
