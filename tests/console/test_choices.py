"""Choices, fallbacks and pools with weights in the console."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.helpers import ServiceProgram, service

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with the example of tickets and a worker."""
    loom = "docs.examples.tickets:loom"
    with service(tmp_path_factory.mktemp("tickets"), "--load", loom) as found:
        yield found


def test_what_was_not_taken_is_faint(program: ServiceProgram, page: Page) -> None:
    """A choice shows its branches by value; a fallback the part that it replaced."""
    guests = [{"name": "bob", "seats": 9, "way": "desk"}]
    run = program.client().start("send-tickets", guests=guests)
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}?at=guests[bob]")

    expect(page.get_by_text("by item's way")).to_be_visible()
    expect(page.locator("[data-faint]").filter(has_text="post")).to_contain_text("skipped")
    expect(page.locator("[data-faint]").filter(has_text="otherwise")).to_have_count(0)
    page.get_by_text("Outline").click()
    outline = page.get_by_text("with a stand-in")
    expect(outline).to_be_visible()
    expect(page.get_by_text("ValueError: the boat has six seats").last).to_be_visible()


def test_who_waits_for_a_pool_is_listed_in_order(program: ServiceProgram, page: Page) -> None:
    """With how much it takes, and why it waits; the list of its runs is one click away."""
    client = program.client()
    client.change_pool("press", limit=1)
    run = client.start("send-tickets", guests=[{"name": "ann", "seats": 2, "way": "post"}])
    page.goto(f"{program.url}/pools?pool=press")
    drawer = page.get_by_role("dialog")
    expect(drawer).to_contain_text("Next in line")
    expect(drawer).to_contain_text(
        re.compile(f"run {run.number}: 1 step of 2 press.*above the limit, 1")
    )
    drawer.get_by_role("link", name="all runs that use it or wait").click()
    expect(page.get_by_text("that use pool press, or wait for it")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="send-tickets")).to_have_count(1)
    client.change_pool("press", as_declared=True)
    assert run.wait(60) == ["mailed to ann: For ann / 2 seats"]
