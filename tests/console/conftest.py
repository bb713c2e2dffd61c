"""A browser, and a service of its own, for the console's tests."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.helpers import LOOM, ServiceProgram, service

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
