"""How far runs are, in the console: while they move, in lists, and what failed beside them."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.helpers import ServiceProgram, eventually, service

pytestmark = pytest.mark.browser

LOOM = "tests.trouble_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two places."""
    folder = tmp_path_factory.mktemp("progress")
    with service(folder, "--load", LOOM, "--processes", "2") as found:
        yield found


def test_a_run_says_how_far_it_is_while_it_moves(program: ServiceProgram, page: Page) -> None:
    """On its page and in the list, without a reload."""
    client = program.client()
    run = client.start("reads")
    page.goto(f"{program.url}/runs/{run.number}")
    told = page.get_by_test_id("run-progress")
    expect(told).to_contain_text("of 10,000 pages, slowly")
    expect(told).to_contain_text(re.compile(r"\d%"))
    expect(told).to_contain_text("a second")
    expect(told).to_contain_text("left")
    before = told.text_content()
    eventually(lambda: told.text_content() != before)
    page.get_by_role("link", name="Runs", exact=True).click()
    expect(page.get_by_role("row", name=re.compile("trouble.reads"))).to_contain_text(
        "of 10,000 pages"
    )
    run.cancel()
    eventually(lambda: run.refresh().state == "cancelled")
    page.goto(f"{program.url}/runs/{run.number}")
    expect(page.get_by_test_id("run-progress")).to_contain_text(re.compile(r"at \d+%"))
    page.goto(f"{program.url}/workers")
    worker = page.get_by_role("row", name=re.compile("worker w1"))
    expect(worker).to_contain_text("idle for")
    expect(worker).to_contain_text(f"ran {run.number}/read#1 last")


def test_a_follow_up_that_failed_is_found_and_tried_again(
    program: ServiceProgram, page: Page
) -> None:
    """By a filter; from the run's page, whose outcome stands."""
    run = program.client().start("tells")
    run.wait(60)
    page.goto(f"{program.url}/runs")
    page.get_by_text("a follow-up failed").click()
    expect(page).to_have_url(re.compile("followups_failed=true"))
    rows = page.get_by_role("region", name="runs").get_by_role("row")
    expect(rows).to_have_count(2)
    rows.nth(1).click()
    expect(page.get_by_text("A follow-up failed beside it")).to_be_visible()
    page.goto(f"{program.url}/runs/{run.number}?step=deliver/on_end/tell")
    again = page.get_by_role("button", name="Try again")
    again.click()
    expect(again).to_have_count(2)  # the second is in the form that opens
    again.last.click()
    eventually(lambda: len(run.step("deliver/on_end/tell").data["attempts"]) == 2)
    eventually(lambda: run.refresh().state == "done")


def test_runs_that_only_tell_of_an_end_are_left_out(program: ServiceProgram, page: Page) -> None:
    """Unless they are asked for; the choice stands in the address."""
    program.client().start("tells").wait(60)
    eventually(lambda: any(run.data["after"] for run in program.client().runs()))
    page.goto(f"{program.url}/runs")
    rows = page.get_by_role("region", name="runs")
    expect(rows).to_contain_text("trouble/tells")
    expect(rows).not_to_contain_text("trouble/note_end")
    page.get_by_text("with those that tell of an end").click()
    expect(page).to_have_url(re.compile("reports=shown"))
    expect(rows).to_contain_text("trouble/note_end")
