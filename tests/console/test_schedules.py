"""Schedules, later starts, and which code ran, in the console."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.end_to_end.test_surroundings import AROUND, worker, write
from tests.helpers import ServiceProgram, eventually, service

pytestmark = pytest.mark.browser


def test_a_schedule_is_made_with_its_times_in_view_and_changed(
    program: ServiceProgram, page: Page
) -> None:
    """Times and mistakes while it is typed; all live, in two tabs."""
    page.goto(f"{program.url}/schedules")
    expect(page.get_by_text("No schedules yet")).to_be_visible()
    other = page.context.new_page()
    other.goto(f"{program.url}/schedules")
    page.get_by_role("button", name="Make a schedule…").click()
    form = page.get_by_role("form", name="make a schedule")
    form.get_by_label("Name").fill("nightly")
    form.get_by_label("Workflow").click()
    page.get_by_role("option", name="marks/sums").click()
    form.get_by_label("Cron").fill("30 2 * *")
    expect(form.get_by_role("status")).to_contain_text("expected five fields")
    form.get_by_label("Cron").fill("30 2 * * *")
    form.get_by_label("Zone").fill("Europe/Lisbo")
    expect(form.get_by_role("status")).to_contain_text("did you mean 'Europe/Lisbon'")
    form.get_by_label("Zone").fill("Europe/Lisbon")
    expect(form.get_by_role("status").get_by_role("listitem")).to_have_count(5)
    expect(form.get_by_role("listitem").first).to_contain_text(", 02:30 +0")
    form.get_by_role("button", name="Make schedule").click()
    expect(form.get_by_text("missing; expected an integer")).to_be_visible()
    form.get_by_label("number").fill("3")
    form.get_by_role("button", name="Make schedule").click()

    expect(form).to_have_count(0)
    for tab in (page, other):
        expect(tab.get_by_label("schedule nightly")).to_contain_text("30 2 * * *")
    row = other.get_by_label("schedule nightly")
    row.get_by_role("button", name="Pause").click()
    expect(row).to_contain_text("paused by console")
    row = page.get_by_label("schedule nightly")
    expect(row).to_contain_text("if resumed")
    row.get_by_role("button", name="Start now").click()
    expect(row.get_by_role("link", name="its runs")).to_be_visible()
    run = eventually(lambda: list(program.client().runs(schedule="nightly")))[0]
    assert run.wait(60) == 5
    row.get_by_role("link", name="its runs").click()
    expect(page.get_by_text("of schedule nightly")).to_be_visible()
    page.get_by_role("link", name=str(run.number), exact=True).click()
    expect(page.get_by_text("Of schedule nightly, planned for")).to_be_visible()

    page.goto(f"{program.url}/schedules")
    page.get_by_label("schedule nightly").get_by_role("button", name="Change…").click()
    form = page.get_by_role("form", name="change nightly")
    expect(form.get_by_label("number")).to_have_value("3")
    form.get_by_label("Cron").fill("0 4 * * *")
    form.get_by_label("Missed times").click()
    page.get_by_role("option", name="start all").click()
    form.get_by_role("button", name="Change").click()
    expect(form.get_by_text("if_busy='start'")).to_be_visible()
    form.get_by_label("While one is under way").click()
    page.get_by_role("option", name="start beside it").click()
    form.get_by_role("button", name="Change").click()
    expect(page.get_by_label("schedule nightly")).to_contain_text("0 4 * * *")
    page.get_by_label("schedule nightly").get_by_role("button", name="Change…").click()
    page.get_by_role("button", name=re.compile("Remove schedule nightly")).click()
    expect(page.get_by_text("No schedules yet")).to_be_visible()


def test_a_run_is_started_later_from_the_form(program: ServiceProgram, page: Page) -> None:
    """A mistake stands beside its field; the run says when it starts."""
    page.goto(f"{program.url}/workflows/marks/sums?start")
    page.get_by_label("number").fill("1")
    page.get_by_role("button", name="Later…").click()
    at = datetime.now() + timedelta(days=1)
    page.get_by_label("Start by").fill("2020-01-01T00:00")
    page.get_by_label("Start at").fill(at.strftime("%Y-%m-%dT%H:%M"))
    page.get_by_role("button", name="Start then").click()
    expect(page.get_by_text("expected a time ahead")).to_be_visible()
    page.get_by_label("Start by").fill("")
    page.get_by_role("button", name="Start then").click()

    expect(page.get_by_text("scheduled").first).to_be_visible()
    expect(page.get_by_text(re.compile(r"Starts in 23 h \d+ min"))).to_be_visible()
    page.get_by_role("button", name="What it waits for").click()
    expect(page.get_by_test_id("why")).to_contain_text("starts at")
    page.get_by_role("button", name="Cancel run").click()
    cancel = page.get_by_role("button", name=re.compile("^Cancel"))
    expect(cancel).to_have_count(2)  # the second is in the form that opens
    cancel.last.click()
    expect(page.get_by_text("cancelled").first).to_be_visible()


def test_which_attempt_ran_which_code_is_shown(page: Page, tmp_path: Path) -> None:
    """One that failed with the old, one that was tried again with the new."""
    write(tmp_path, "old")
    path = tmp_path / "changing.py"
    path.write_text(path.read_text().replace('return "old"', "raise ValueError(number)"))
    arguments = ("--load", "changing:loom", "--processes", "1", "--reload")
    with service(tmp_path / "data", *arguments, cwd=tmp_path) as program:
        program.wait_for("watches the code in")
        run = program.client().start("one")
        page.goto(f"{program.url}/runs/{run.number}?step=it")
        drawer = page.get_by_role("dialog")
        expect(drawer.locator("tbody tr", has_text="#1")).to_contain_text("failed")
        write(tmp_path, "new")
        program.wait_for("new code is loaded")
        run.refresh().mend()
        assert run.wait(60) == "new"
        # One that was given for the old code, before the service knew of the new, is handed back.
        last = run.step("it").data["attempts"][-1]["number"]
        expect(drawer.locator("tbody tr", has_text=f"#{last}")).to_contain_text("done")
        codes = [
            drawer.locator("tbody tr", has_text=f"#{number}").locator("td").last.inner_text()
            for number in (1, last)
        ]
        assert len(set(codes)) == 2
        assert all(re.fullmatch("[0-9a-f]{7}", code) for code in codes)


def test_a_worker_that_cannot_set_up_says_why(page: Page, tmp_path: Path) -> None:
    """And is well again without a reload of the page."""
    (tmp_path / "down").touch()
    env = {"AROUND_FOLDER": str(tmp_path)}
    with service(tmp_path / "data", "--load", AROUND, env=env) as program:
        page.goto(f"{program.url}/workers")
        row = page.get_by_label("worker w1")
        expect(row).to_contain_text("around_process 'connections' failed to set up")
        (tmp_path / "down").unlink()
        eventually(lambda: worker(program.client(), "w1")["trouble"] is None)
        expect(row).not_to_contain_text("around_process")
