"""The console, driven in a real browser against a real service."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.helpers import ServiceProgram, service

pytestmark = pytest.mark.browser


def test_a_run_moves_without_reload(program: ServiceProgram, page: Page, marks: Path) -> None:
    """States follow the run live, in the graph and in the head."""
    run = program.client().start("held", folder=str(marks))
    page.goto(f"{program.url}/runs/{run.number}")
    hold = page.get_by_label(re.compile(r"step hold, running"))
    expect(hold).to_be_visible()
    expect(page.get_by_label(re.compile("step begin, done"))).to_be_visible()
    expect(page.get_by_label(re.compile("step finish, waiting"))).to_be_visible()
    (marks / "go").touch()

    expect(page.get_by_label(re.compile("step finish, done"))).to_be_visible()
    expect(page.locator("h1 + span [data-state=done]")).to_be_visible()


def test_an_each_is_a_bundle_that_opens(program: ServiceProgram, page: Page) -> None:
    """Counts and failed items in the graph; a filtered list beside it; an item's own graph."""
    run = program.client().start("coast", harbours=["brackwater", "fogwick", "old weir"])
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    bundle = page.get_by_label("each harbours", exact=True)
    expect(bundle).to_contain_text("2 of 3 done, 1 failed")
    expect(page.get_by_text("1 failed, as allowed")).to_be_visible()
    expect(page.get_by_label("step harbours/listen", exact=True)).to_be_visible()
    page.get_by_label("step harbours/listen", exact=True).click()
    drawer = page.get_by_role("dialog")
    expect(drawer).to_contain_text("its gauge is silent")
    expect(drawer.get_by_role("row")).to_have_count(3)
    drawer.get_by_text("failed", exact=True).first.click()
    expect(drawer.get_by_role("row")).to_have_count(1)
    drawer.get_by_text("done", exact=True).first.click()
    drawer.get_by_role("button", name="old weir").click()
    expect(page).to_have_url(re.compile(r"at=harbours%5Bold%2520weir%5D"))
    expect(page.get_by_label("Where this is")).to_contain_text("harbours[old weir]")
    page.get_by_label(re.compile(r"step harbours\[old%20weir\]/figures/sum, done")).click()
    opened = page.get_by_role("dialog", name=f"{run.number}/harbours[old%20weir]/figures/sum")
    expect(opened).to_contain_text("marks/pair")
    expect(drawer).to_have_count(1)
    page.get_by_role("button", name="whole run").click()

    expect(bundle).to_be_visible()


def test_a_failure_in_an_item_leads_there(program: ServiceProgram, page: Page) -> None:
    """The page opens on the step; from there to the item's graph; the follow-up is shown below."""
    run = program.client().start("coast", harbours=["fogwick"])
    page.goto(f"{program.url}/runs/{run.number}")
    expect(page.get_by_label("step on_failure/notice, done", exact=True)).to_be_visible()
    expect(page.get_by_role("dialog")).to_contain_text("its gauge is silent")
    page.get_by_role("button", name="The parts of this item").click()

    expect(page.get_by_role("dialog")).to_contain_text("its gauge is silent")
    expect(page.get_by_label("step harbours[fogwick]/figures/sum, skipped")).to_be_visible()


def test_the_list_of_runs_is_live(program: ServiceProgram, page: Page) -> None:
    """A run that starts appears by itself, and ends by itself."""
    program.client().start("sums", number=1).wait(60)
    page.goto(f"{program.url}/runs")
    expect(page.get_by_role("row").nth(1)).to_be_visible()
    run = program.client().start("misbehaves", how="raise")
    row = page.get_by_role("row", name=re.compile(rf"\b{run.number}\b.*misbehaves"))

    expect(row.locator("[data-state=failed]")).to_be_visible()
    row.click()
    expect(page).to_have_url(f"{program.url}/runs/{run.number}")


def test_the_filter_stands_in_the_address(program: ServiceProgram, page: Page) -> None:
    """So that a view can be shared."""
    program.client().start("sums", number=1).wait(60)
    page.goto(f"{program.url}/runs?state=cancelled&workflow=marks/speaks")
    expect(page.get_by_text("No run fits the filter")).to_be_visible()
    page.get_by_role("combobox", name="Workflow").click()
    page.get_by_role("option", name="marks/sums").click()
    expect(page).to_have_url(re.compile("workflow=marks%2Fsums"))
    page.get_by_role("radiogroup", name="State").get_by_text("done").click()
    expect(page).to_have_url(re.compile("state=done"))

    expect(page.get_by_role("row").nth(1)).to_contain_text("marks/sums")


def test_a_step_shows_everything(program: ServiceProgram, page: Page) -> None:
    """Log, attempts, input and output, beside the graph; Escape closes it."""
    run = program.client().start("speaks", words="spring tide")
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    page.get_by_label(re.compile("step speak")).click()
    drawer = page.get_by_role("dialog")
    expect(drawer).to_contain_text(f"{run.number}/speak")
    expect(drawer.get_by_role("log")).to_contain_text("printed spring tide")
    expect(drawer.get_by_role("log")).to_contain_text("logged spring tide")
    drawer.get_by_role("button", name="Output").click()
    expect(drawer.get_by_label("output", exact=True)).to_contain_text("spring tide")
    expect(page).to_have_url(re.compile(r"step=speak"))
    page.keyboard.press("Escape")

    expect(drawer).to_be_hidden()
    expect(page).not_to_have_url(re.compile(r"step="))


def test_a_failure_leads_to_its_step(program: ServiceProgram, page: Page) -> None:
    """The page opens on the failed step; once closed it stays closed, and its line opens it."""
    run = program.client().start("misbehaves", how="raise")
    page.goto(f"{program.url}/runs/{run.number}")

    for _ in range(2):
        expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("it went wrong")
        expect(page.get_by_label("traceback")).to_contain_text("ValueError")
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_be_hidden()
        page.get_by_role("group", name="what failed").get_by_role("button").first.click()


def test_a_run_is_cancelled(program: ServiceProgram, page: Page, marks: Path) -> None:
    """With a reason, which is shown; the button goes when there is nothing to cancel."""
    run = program.client().start("heeds", folder=str(marks))
    page.goto(f"{program.url}/runs/{run.number}")
    expect(page.get_by_label(re.compile("step heed, running"))).to_be_visible()
    page.get_by_role("button", name="Cancel run", exact=True).click()
    page.get_by_label("Reason").fill("fog")
    page.get_by_role("button", name=f"Cancel run {run.number}").click()

    expect(page.get_by_role("status")).to_contain_text(re.compile(r"cancelled by console:\S+: fog"))
    expect(page.get_by_role("button", name="Cancel run")).to_be_hidden()


def test_a_form_starts_a_workflow(program: ServiceProgram, page: Page) -> None:
    """The service's words stand beside the field; once right, the run opens."""
    page.goto(f"{program.url}/workflows")
    page.get_by_role("link", name="marks/sums").click()
    page.get_by_role("button", name="Start…").click()
    form = page.get_by_role("form", name="start marks/sums")
    expect(form.get_by_label("step")).to_have_value("1")
    form.get_by_label("number").fill("many")
    form.get_by_role("button", name="Start run").click()
    expect(form).to_contain_text("found 'many'; expected an integer")
    form.get_by_label("number").fill("40")
    form.get_by_role("button", name="Start run").click()

    expect(page).to_have_url(re.compile(r"/runs/\d+$"))
    expect(page.locator("[data-state=done]").first).to_be_visible()


def test_the_form_is_sent_by_the_keyboard(program: ServiceProgram, page: Page) -> None:
    """Enter in a field starts the run."""
    page.goto(f"{program.url}/workflows/marks/sums?start")
    page.get_by_label("number").fill("1")
    page.keyboard.press("Enter")

    expect(page).to_have_url(re.compile(r"/runs/\d+$"))


def test_two_tabs_show_the_same(program: ServiceProgram, page: Page, marks: Path) -> None:
    """What is done in one is seen in the other."""
    run = program.client().start("heeds", folder=str(marks))
    other = page.context.new_page()
    for tab in (page, other):
        tab.goto(f"{program.url}/runs/{run.number}")
        expect(tab.get_by_label(re.compile("step heed, running"))).to_be_visible()
    run.cancel("seen by both")

    for tab in (page, other):
        expect(tab.get_by_role("status")).to_contain_text("seen by both")


def test_a_broken_connection_is_shown_and_healed(tmp_path: Path, page: Page, marks: Path) -> None:
    """The page says that it may be old, and is right again when the service is back."""
    data = tmp_path / "data"
    with service(data, "--load", "tests.looms:loom") as first:
        run = first.client().start("heeds", folder=str(marks))
        page.goto(f"{first.url}/runs/{run.number}")
        expect(page.get_by_label(re.compile("step heed, running"))).to_be_visible()
        first.kill()
        expect(page.get_by_text("connection to the service is broken")).to_be_visible()
    with service(data, port=first.port) as second:
        expect(page.get_by_text("connection to the service is broken")).to_be_hidden()
        second.client().run(run.number).cancel("after the break")

        expect(page.get_by_role("status").first).to_contain_text("after the break")
        # Its first service's worker delivers here, and ends.
        expect(page.locator("h1 + span [data-state=cancelled]")).to_be_visible()


def test_what_is_not_there_is_explained(program: ServiceProgram, page: Page) -> None:
    """A run that never was, a number that is none, a page that is none."""
    page.goto(f"{program.url}/runs/999999")
    expect(page.get_by_role("alert")).to_contain_text("there is no run 999999")
    page.goto(f"{program.url}/runs/abc")
    expect(page.get_by_text("is no run number")).to_be_visible()
    page.goto(f"{program.url}/nowhere")
    expect(page.get_by_text("There is no such page")).to_be_visible()


def test_an_empty_service_teaches_the_next_step(tmp_path: Path, page: Page) -> None:
    """The exact command to paste."""
    with service(tmp_path) as program:
        page.goto(program.url)
        expect(page.get_by_text("yarnloom start WORKFLOW")).to_be_visible()
        page.goto(f"{program.url}/workflows")
        expect(page.get_by_text("yarnloom publish MODULE:LOOM")).to_be_visible()
        expect(page.locator("footer")).to_contain_text(str(tmp_path))


def test_a_page_left_open_makes_no_request(program: ServiceProgram, page: Page) -> None:
    """No query has an interval: once shown, a page asks only when something changed."""
    run = program.client().start("sums", number=1)
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    expect(page.get_by_label(re.compile("step second, done"))).to_be_visible()
    page.wait_for_load_state("load")
    asked: list[str] = []
    page.clock.install()
    page.on("request", lambda request: asked.append(request.url))
    page.clock.run_for(60_000)

    assert asked == []


def test_hostile_text_stays_text(program: ServiceProgram, page: Page) -> None:
    """What a step prints or returns is never markup."""
    words = "<img src=x onerror=document.title='hit'>"
    run = program.client().start("speaks", words=words)
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}?step=speak")
    expect(page.get_by_role("log")).to_contain_text(words)

    assert page.title() == f"done · Run {run.number} · Yarn Loom"
