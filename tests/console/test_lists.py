"""Lists in the console: saved filters, columns, tags, and the log of a whole run."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.helpers import ServiceProgram

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module", autouse=True)
def spoken(program: ServiceProgram) -> None:
    """Runs with tags."""
    client = program.client()
    for words, tags in ((["ebb"], ("night", "long shore")), (["flood"], ("day",))):
        client.start("speak-often", words=words, tags=tags).wait(60)


def test_a_filter_is_saved_and_stands_in_the_address(program: ServiceProgram, page: Page) -> None:
    """Chosen by its name; more can be set beside it, and it can be dropped."""
    page.goto(f"{program.url}/runs")
    rows = page.get_by_role("region", name="runs").get_by_role("row")
    expect(rows).to_have_count(3)
    page.get_by_role("link", name="long shore", exact=True).click()
    expect(page).to_have_url(re.compile(r"\?tag=long"))
    expect(rows).to_have_count(2)
    page.get_by_role("button", name="Saved filters").click()
    page.get_by_label("Save this filter as").fill("shore")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page).to_have_url(re.compile(r"/runs\?saved=shore$"))
    expect(rows).to_have_count(2)
    page.goto(f"{program.url}/runs")
    page.get_by_role("button", name="Saved filters").click()
    page.get_by_role("button", name="shore tag long shore", exact=True).click()
    expect(page.get_by_text("saved as shore")).to_be_visible()
    page.get_by_label("Text").fill("flood")
    expect(page.get_by_text("No run fits the filter")).to_be_visible()
    page.get_by_role("button", name="Saved filters").click()
    page.get_by_role("button", name="Drop shore").click()
    expect(page.get_by_text("None is saved yet")).to_be_visible()
    page.goto(f"{program.url}/runs?saved=shore")
    expect(page.get_by_text("no filter is saved as 'shore'")).to_be_visible()


def test_columns_are_chosen_and_stay(program: ServiceProgram, page: Page) -> None:
    """In this browser, after a reload too."""
    page.goto(f"{program.url}/runs")
    heads = page.get_by_role("columnheader")
    expect(heads.filter(has_text="Params")).to_have_count(0)
    page.get_by_role("button", name="Columns").click()
    page.get_by_label("Params").check()
    page.get_by_label("Attempts").uncheck()
    expect(heads.filter(has_text="Params")).to_be_visible()
    expect(page.get_by_role("cell", name='{"words":["flood"]}')).to_be_visible()
    page.reload()
    expect(heads.filter(has_text="Params")).to_be_visible()
    expect(heads.filter(has_text="Attempts")).to_have_count(0)
    page.get_by_role("button", name="Columns").click()
    page.get_by_role("button", name="As usual").click()
    expect(heads.filter(has_text="Attempts")).to_be_visible()


def test_the_log_of_a_run_is_searched_and_followed(
    program: ServiceProgram, page: Page, marks: Path
) -> None:
    """All steps in one list; a line leads to its step; new lines come without a reload."""
    client = program.client()
    run = client.start("speak-often", words=["neap", "spring", "slack"])
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    page.get_by_role("radio", name="Log").locator("..").click()
    log = page.get_by_role("log", name="log of the run")
    for words in ("neap", "spring", "slack"):
        expect(log).to_contain_text(f"printed {words}")
    page.get_by_label("Search the log of the run").fill("PRINTED S")
    expect(page.get_by_text("2 lines with this")).to_be_visible()
    expect(log).not_to_contain_text("neap")
    expect(page).to_have_url(re.compile("text=PRINTED"))
    log.get_by_role("button", name="words[2]/speak").click()
    drawer = page.get_by_role("dialog")
    expect(drawer).to_contain_text("words[2]/speak")
    expect(drawer.get_by_role("log")).to_contain_text("complained slack")

    live = client.start("gather", folder=str(marks), words="neap tide")
    page.goto(f"{program.url}/runs/{live.number}?view=log")
    expect(log).to_contain_text("logged neap tide")
    expect(page.get_by_text("· live")).to_be_visible()
    (marks / "go").touch()
    expect(log).to_contain_text("printed neap tide")
    expect(page.get_by_text("· live")).to_have_count(0)
