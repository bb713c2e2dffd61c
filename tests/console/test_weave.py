"""A run in the console: its graph by keyboard, its time, its past, and everything of a step."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.console.test_limits import begun
from tests.helpers import ServiceProgram, eventually, run_command, service

pytestmark = pytest.mark.browser


def node(page: Page, name: str) -> Locator:
    """A step or an each in the graph, by its label."""
    return page.get_by_label(re.compile(f"^(step|each) {re.escape(name)}(,|$)"))


def test_the_graph_is_walked_by_keyboard(program: ServiceProgram, page: Page) -> None:
    """One stop for Tab; arrows along the thread and across strands; Enter opens, Escape closes."""
    run = program.client().start("coast", harbours=["brackwater"])
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    bundle = node(page, "harbours")
    expect(bundle).to_be_visible()
    stops = page.locator(".react-flow__node[tabindex='0']")
    expect(stops).to_have_count(1)
    stops.focus()
    expect(node(page, "harbours/listen")).to_be_focused()
    page.keyboard.press("ArrowRight")
    expect(node(page, "harbours/figures/twice")).to_be_focused()
    page.keyboard.press("ArrowRight")
    expect(node(page, "harbours/figures/sum")).to_be_focused()
    page.keyboard.press("ArrowRight")
    expect(node(page, "check")).to_be_focused()
    expect(stops).to_have_count(1)
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog")).to_contain_text(f"{run.number}/check")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_be_hidden()
    node(page, "harbours/listen").focus()
    page.keyboard.press("ArrowUp")
    expect(bundle).to_be_focused()
    page.keyboard.press("Enter")

    expect(page.get_by_test_id("items")).to_be_visible()


def test_what_the_time_went_into_is_marked(program: ServiceProgram, page: Page) -> None:
    """The longest path, where something went on beside it, and a legend that says what is what."""
    straight = program.client().start("coast", harbours=["brackwater", "old weir"])
    straight.wait(60)
    page.goto(f"{program.url}/runs/{straight.number}")
    expect(node(page, "check")).to_be_visible()
    expect(page.get_by_text("longest path")).to_have_count(0)
    run = program.client().start("sides")
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    expect(page.get_by_text("longest path")).to_contain_text(re.compile(r"\d m?s, \d+% of"))
    expect(node(page, "both/long").locator("[data-longest]")).to_be_visible()
    expect(node(page, "both/short").locator("[data-longest]")).to_have_count(0)
    page.get_by_role("button", name="Legend").click()
    legend = page.get_by_role("dialog")
    for word in ("waiting", "ready", "running", "backing off", "resting", "paused", "done"):
        expect(legend.get_by_text(word, exact=True)).to_be_visible()
    for word in ("failed", "cancelled", "skipped", "longest path"):
        expect(legend.get_by_text(word, exact=True)).to_be_visible()


def test_live_changes_move_nothing(program: ServiceProgram, page: Page, marks: Path) -> None:
    """Every step stays where it is, and what did not change is not drawn anew."""
    run = program.client().start("held", folder=str(marks))
    page.goto(f"{program.url}/runs/{run.number}")
    expect(page.get_by_label("step hold, running")).to_be_visible()
    first = node(page, "begin").locator("> div").element_handle()
    places = [node(page, name).bounding_box() for name in ("begin", "hold", "finish")]
    (marks / "go").touch()
    expect(page.get_by_label("step finish, done")).to_be_visible()

    assert [node(page, name).bounding_box() for name in ("begin", "hold", "finish")] == places
    assert first is not None and first.evaluate("one => one.isConnected")


def test_time_shows_what_was_waited_for(program: ServiceProgram, page: Page, marks: Path) -> None:
    """Live; a bar for what waits for a pool, rows by worker, a zoom, and a bar that opens."""
    run = program.client().start("narrows", folder=str(marks))
    page.goto(f"{program.url}/runs/{run.number}")
    page.get_by_role("radiogroup", name="View").get_by_text("Time").click()
    expect(page).to_have_url(re.compile("view=time"))
    view = page.get_by_test_id("time")
    expect(view.locator("[data-dye=running]:not([data-wait])").first).to_be_visible()
    eventually(lambda: begun(marks) == 1)
    (marks / "go").touch()
    run.wait(60)
    expect(view.locator("i[data-attempt][data-dye=done]")).to_have_count(3)
    expect(view.locator("i[data-wait=ready]").first).to_be_visible()
    expect(view.get_by_test_id("sums")).to_contain_text("waited for pools")
    waits = view.locator("i[data-wait=ready]").last.get_attribute("title")
    assert waits is not None and "waits for a pool narrow" in waits
    view.get_by_text("by worker").click()
    expect(view.get_by_role("listitem")).to_have_count(1)
    expect(view.get_by_role("listitem")).to_contain_text("w1")
    view.get_by_text("by step").click()
    # The last step alone: a drag over its bar.
    box = view.locator("i[data-attempt][data-dye=done]").last.bounding_box()
    assert box is not None
    far = view.get_by_role("button", name="All", exact=True)
    expect(far).to_be_disabled()
    page.mouse.move(box["x"] - 20, box["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] + 1, box["y"] + 5, steps=4)
    page.mouse.up()
    expect(far).to_be_enabled()
    far.click()
    view.get_by_role("button", name="all[2]/pass").click()
    expect(page.get_by_role("dialog")).to_contain_text(f"{run.number}/all[2]/pass")
    page.get_by_role("radiogroup", name="View").get_by_text("Weave").click()

    # The same step is open in the graph of its item.
    expect(page.get_by_label("step all[2]/pass, done")).to_be_visible()
    expect(page.locator(".react-flow__node [data-chosen]")).to_be_visible()


def test_the_graph_is_shown_as_it_was(program: ServiceProgram, page: Page, marks: Path) -> None:
    """By the slider's keys or by an address that can be shared; and back to now."""
    run = program.client().start("held", folder=str(marks))
    eventually((marks / "hold").exists)
    steps = program.client().run(run.number)
    while_held = steps.data["started_at"]
    (marks / "go").touch()
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    expect(page.get_by_label("step finish, done")).to_be_visible()
    slider = page.get_by_role("slider", name="moment of the run")
    slider.focus()
    page.keyboard.press("Home")
    expect(page.get_by_label("step hold, waiting")).to_be_visible()
    expect(page.get_by_label("step finish, waiting")).to_be_visible()
    expect(page).to_have_url(re.compile("then="))
    expect(page.get_by_text("as it was at")).to_be_visible()
    page.reload()
    expect(page.get_by_label("step finish, waiting")).to_be_visible()
    page.get_by_label("step finish, waiting").click()
    expect(page.get_by_role("dialog")).to_contain_text("as it is now")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Now", exact=True).click()
    expect(page.get_by_label("step finish, done")).to_be_visible()
    page.goto(f"{program.url}/runs/{run.number}?then={while_held}")

    expect(page.get_by_label("step begin, running")).to_be_visible()
    expect(page.get_by_text("as it was at")).not_to_contain_text("%")
    page.goto(f"{program.url}/runs/{run.number}?then={run.refresh().data['ended_at']}")
    expect(page.get_by_text("as it was at")).to_contain_text(" · 100%")


def test_a_log_is_searched_and_coloured(program: ServiceProgram, page: Page) -> None:
    """ANSI colours become dyes, and what does not fit is left out."""
    words = "\x1b[31mred tide\x1b[0m\n" + "\n".join(f"line {number}" for number in range(20))
    run = program.client().start("speaks", words=words)
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}?step=speak")
    log = page.get_by_role("log")
    expect(log.locator("[data-dye=failed]").first).to_have_text("red tide")
    page.get_by_label("Search the log").fill("LINE 7")
    expect(page.get_by_text(re.compile(r"of \d+ lines"))).to_be_visible()

    # Printed on three ways, and logged once as one line.
    expect(log.locator("> div")).to_have_count(4)


def test_a_step_shows_its_code(program: ServiceProgram, page: Page) -> None:
    """As the attempt ran it, with its version."""
    run = program.client().start("speaks", words="flow")
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}?step=speak")
    page.get_by_role("button", name="Code").click()
    code = page.get_by_label("code of marks/speak")
    expect(code).to_contain_text("def speak(words: str) -> str:")

    expect(page.get_by_role("dialog")).to_contain_text("as it is published now")


def test_items_are_searched(program: ServiceProgram, page: Page) -> None:
    """By name, together with a state."""
    names = [f"harbour {number}" for number in range(60)]
    run = program.client().start("coast", harbours=[*names, "fogwick"])
    run.wait(90)
    page.goto(f"{program.url}/runs/{run.number}?each=harbours")
    items = page.get_by_test_id("items")
    expect(items.get_by_role("row")).to_have_count(50)
    items.get_by_role("button", name="More items").click()
    expect(items.get_by_role("row")).to_have_count(61)
    items.get_by_label("Search items").fill("HARBOUR 5")
    expect(items.get_by_role("row")).to_have_count(11)
    items.get_by_label("Search items").fill("wick")
    expect(items.get_by_role("row")).to_have_count(1)
    items.get_by_text("done", exact=True).first.click()

    expect(items.get_by_text("No items here")).to_be_visible()


def test_two_thousand_steps_are_a_picture_from_afar(tmp_path: Path, page: Page) -> None:
    """A click comes near to where it was; there steps are what they are, and few are drawn."""
    with service(tmp_path) as program:
        run_command("publish", "bench.looms:loom", url=program.url)
        run = program.client().start("broad", number=1)
        page.goto(f"{program.url}/runs/{run.number}")
        expect(page.locator(".react-flow__node-step").first).to_be_visible()
        page.get_by_label("each all/strand-0 and alike").click(position={"x": 20, "y": 10})
        page.get_by_role("button", name="fit the graph into the frame").click()
        picture = page.get_by_label("graph of 2000 steps")
        expect(picture).to_be_visible()
        expect(page.locator(".react-flow__node-step")).to_have_count(0)
        canvas = picture.locator("canvas")
        pixels = "one.getContext('2d').getImageData(0, 0, one.width, one.height).data"
        assert canvas.evaluate(f"one => {pixels}.some(Boolean)")
        canvas.click(position={"x": 200, "y": 100})
        near = page.locator(".react-flow__node-step")
        expect(near.first).to_be_visible()
        assert near.count() < 60
        page.get_by_role("button", name="fit the graph into the frame").click()
        picture.focus()
        page.keyboard.press("Enter")
        expect(near.first).to_be_visible()
