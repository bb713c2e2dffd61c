"""Pools, reasons, attempts and workers in the console."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.helpers import LOOM, Program, ServiceProgram, eventually

pytestmark = pytest.mark.browser


def begun(folder: Path) -> int:
    """How many steps of the pool have begun."""
    path = folder / "narrow"
    return len(path.read_text().splitlines()) if path.exists() else 0


def test_a_pool_is_watched_changed_and_paused(
    program: ServiceProgram, page: Page, marks: Path
) -> None:
    """All live: what uses it, a new limit, a pause; and the step says what it waits for."""
    page.goto(f"{program.url}/pools")
    row = page.get_by_label("pool narrow")
    expect(row).to_contain_text("0 of 1")
    run = program.client().start("narrows", folder=str(marks))
    expect(row).to_contain_text("1 of 1")
    expect(row.get_by_role("link")).to_have_text(f"run {run.number}")
    row.get_by_role("button", name="Change…").click()
    page.get_by_label("Limit").fill("2")
    page.get_by_label("Reason").fill("a test")
    page.get_by_role("button", name="Change", exact=True).click()
    expect(row).to_contain_text("2 of 2")
    expect(row).to_contain_text("limit set by hand; marks says 1")
    assert eventually(lambda: begun(marks) == 2)
    row.get_by_role("button", name="Pause").click()
    expect(row).to_contain_text("paused by console")
    row.get_by_role("link").click()
    page.get_by_role("button", name="What it waits for").click()
    waits = page.get_by_test_id("why")
    expect(waits).to_contain_text("pool narrow is paused by console")
    expect(waits).to_contain_text(re.compile("has run on worker w1 for"))
    program.client().change_pool("narrow", paused=False)
    expect(waits).to_contain_text(f"waits for pool narrow (2 of 2 in use by run {run.number})")
    waits.get_by_role("button", name="all[3]/pass").click()
    drawer = page.get_by_role("dialog")
    expect(drawer).to_contain_text("waits for pool narrow")
    (marks / "go").touch()

    expect(drawer.locator("[data-state=done]").first).to_be_visible()
    program.client().change_pool("narrow", as_declared=True)


def test_a_pool_is_made_and_removed(program: ServiceProgram, page: Page) -> None:
    """With a clear word where that does not work."""
    page.goto(f"{program.url}/pools")
    page.get_by_role("button", name="Make a pool…").click()
    page.get_by_label("Name").fill("no good")
    page.get_by_role("button", name="Make pool").click()
    expect(page.get_by_role("alert")).to_contain_text("a name has letters")
    page.get_by_label("Name").fill("made")
    page.get_by_label("Rate").fill("3")
    page.get_by_label("in seconds").fill("2")
    page.get_by_role("button", name="Make pool").click()
    row = page.get_by_label("pool made")
    expect(row).to_contain_text("at most 3 in 2 s")
    row.get_by_role("button", name="Change…").click()
    page.get_by_role("button", name="Remove pool made").click()

    expect(row).to_have_count(0)


def test_each_attempt_can_be_looked_at(program: ServiceProgram, page: Page, marks: Path) -> None:
    """Its own error and log, long after another has passed."""
    run = program.client().start("flakys", folder=str(marks))
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}?step=it")
    drawer = page.get_by_role("dialog")
    expect(drawer).to_contain_text("Log of attempt #4")
    expect(drawer.get_by_role("alert")).to_have_count(0)
    drawer.get_by_role("button", name="Show attempt 2").click()

    expect(drawer).to_contain_text("Log of attempt #2")
    expect(drawer.get_by_role("alert")).to_have_text("ConnectionResetError: cut off")


def test_a_run_that_waits_for_another_says_so(
    program: ServiceProgram, page: Page, marks: Path
) -> None:
    """And goes on when that has ended."""
    first = program.client().start("turns", folder=str(marks))
    second = program.client().start("turns", folder=str(marks))
    page.goto(f"{program.url}/runs/{second.number}")
    expect(page.get_by_role("status")).to_contain_text(f"waits until run {first.number} of")
    (marks / "go").touch()

    expect(page.get_by_label(re.compile("step it, done"))).to_be_visible()
    expect(page.get_by_text("waits until run")).to_have_count(0)


def test_a_worker_is_drained(program: ServiceProgram, page: Page) -> None:
    """It is in the list while it lives, and gone when it has ended."""
    page.goto(f"{program.url}/workers")
    expect(page.get_by_label("worker w1")).to_contain_text("all steps")
    url = {"YARNLOOM_URL": program.url}
    other = Program("worker", "--load", LOOM, "--name", "other", "--has", "gpu", env=url)
    row = page.get_by_label("worker other")
    expect(row).to_contain_text("has gpu")
    row.get_by_role("button", name="Drain…").click()
    page.get_by_role("button", name="Drain worker other").click()

    expect(row).to_have_count(0)
    assert other.process.wait(60) == 0
    assert "it is drained, ending" in other.text
