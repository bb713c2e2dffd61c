"""What is unsure is settled in the console, with its value where the step uses that."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.helpers import ServiceProgram, eventually, service

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service whose steps die in the middle of what they do."""
    with service(tmp_path_factory.mktemp("settle"), "--load", "tests.stops_loom:loom") as found:
        yield found


def test_what_is_unsure_is_settled_with_its_value(
    program: ServiceProgram, page: Page, tmp_path: Path
) -> None:
    """And otherwise again, until a mend has used it."""
    run = program.client().start("dies-in-the-middle", folder=str(tmp_path))
    eventually(lambda: run.refresh().state == "failed")
    page.goto(f"{program.url}/runs/{run.number}")
    page.get_by_role("button", name="Done outside: 1").click()
    page.get_by_role("button", name="It was done").click()
    page.get_by_label("What it gave").fill("{")
    expect(page.get_by_role("button", name="Say so", exact=True)).to_be_disabled()
    page.get_by_label("What it gave").fill("40")
    page.get_by_role("button", name="Say so", exact=True).click()
    page.get_by_role("button", name="It was not").click()
    page.get_by_role("button", name="It was done").click()
    page.get_by_label("What it gave").fill("41")
    page.get_by_role("button", name="Say so", exact=True).click()
    expect(page.get_by_role("button", name="It was done")).to_have_count(0)
    run.mend()

    assert run.wait(30) == 42
    page.reload()
    expect(page.get_by_role("button", name="Done outside: 1")).to_be_visible()
    expect(page.get_by_role("button", name="It was not")).to_have_count(0)
