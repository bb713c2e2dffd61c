"""A run at a glance in the console: the line, its boxes, its failures, and any shape of graph."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.helpers import ServiceProgram, service
from yarnloom.client import Run
from yarnloom.errors import RunFailed

pytestmark = pytest.mark.browser

LOOM = "tests.glance_loom:loom"
SMALLEST = 10.0
"""Pixels; no letter of a graph is smaller."""

SIZES = """nodes => nodes.flatMap(node => {
  const zoom = new DOMMatrix(getComputedStyle(document.querySelector('.react-flow__viewport'))
    .transform).a;
  const texts = [...node.querySelectorAll('*')].filter(one =>
    one.offsetParent && [...one.childNodes].some(it => it.nodeType === 3 && it.data.trim()));
  return texts.map(one => zoom * parseFloat(getComputedStyle(one).fontSize));
})"""


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two processes."""
    with service(tmp_path_factory.mktemp("glance"), "--load", LOOM, "--processes", "2") as found:
        yield found


def failed(program: ServiceProgram, workflow: str, **params: int) -> Run:
    """A run that has failed."""
    run = program.client().start(workflow, **params)
    with pytest.raises(RunFailed):
        run.wait(60)
    return run


def test_boxes_show_what_flows_and_what_holds_it_up(program: ServiceProgram, page: Page) -> None:
    """Counts in each box of an each, and the pool that is full: in its box, and on the line."""
    run = program.client().start("stock", slow=30.0)
    try:
        page.goto(f"{program.url}/runs/{run.number}")
        expect(page.get_by_label("step sacks/weigh", exact=True)).to_contain_text("40 of 40")
        held = page.get_by_label("step sacks/label", exact=True)
        expect(held).to_contain_text("0 of 40")
        expect(held).to_contain_text("39 wait: scale 1/1")
        line = page.get_by_role("group", name="at a glance")
        expect(line).to_contain_text("1 running in label")
        expect(page).to_have_title(re.compile(rf"^(running|\d+%) · Run {run.number}"))
        line.get_by_role("button", name="running in label").click()
        expect(page.get_by_test_id("items")).to_be_visible()
        line.get_by_role("link", name="held by pool scale, 1 of 1 in use").click()
        expect(page).to_have_url(re.compile("/pools.pool=scale"))
    finally:
        run.cancel()


def test_failures_by_kind_are_gone_through_and_mended(program: ServiceProgram, page: Page) -> None:
    """The page opens on the first; keys lead on; one kind is mended, and the other stays."""
    run = failed(program, "stock", torn=10, heavy=7)
    page.goto(f"{program.url}/runs/{run.number}")
    drawer = page.get_by_role("dialog")
    expect(drawer).to_contain_text("torn sack 0")
    expect(drawer).to_contain_text("failed step 1 of 17")
    page.keyboard.press("n")
    expect(drawer).to_contain_text("torn sack 1")
    page.keyboard.press("p")
    expect(drawer).to_contain_text("torn sack 0")
    kinds = page.get_by_role("group", name="what failed")
    expect(kinds).to_contain_text("10 items at sacks/weigh: ValueError: torn sack … (first at")
    page.keyboard.press("Escape")
    kinds.get_by_role("button", name="Mend these 7").click()
    expect(page.get_by_text("round 2")).to_be_visible()
    with pytest.raises(RunFailed):
        run.wait(60)
    tried = [len(run.step(f"sacks[{one}]/weigh").data["attempts"]) for one in (0, 12)]
    assert tried[0] < tried[1]


NOTICES = """window.notices = [];
window.Notification = class {
  constructor(title, { body }) { window.notices.push(`${title}: ${body}`); }
  static requestPermission() { return Promise.resolve("granted"); }
}"""


def test_who_asks_is_told_when_it_ends(program: ServiceProgram, page: Page) -> None:
    """By a notice of the browser, and by the tab's icon."""
    page.add_init_script(NOTICES)
    run = program.client().start("stock", slow=30.0)
    page.goto(f"{program.url}/runs/{run.number}")
    page.get_by_role("button", name="Tell me when it ends").click()
    expect(page.get_by_role("button", name="You will be told when it ends")).to_be_visible()
    icon = page.locator("link[rel=icon]")
    expect(icon).to_have_attribute("href", re.compile("^data:image/png"))
    assert page.evaluate("notices") == []
    run.cancel()
    expect(page.get_by_role("button", name="Rerun")).to_be_visible()
    page.wait_for_function("notices.length > 0")
    assert page.evaluate("notices") == [f"Run {run.number} is cancelled: granary/stock"]
    page.get_by_role("link", name="Pools").click()
    expect(icon).to_have_attribute("href", "/icon.svg")


def test_time_is_told_by_part(program: ServiceProgram, page: Page) -> None:
    """Of many attempts a row for each part, over all items; a click lists the items."""
    run = program.client().start("stock")
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}?view=time")
    rows = page.get_by_role("region", name="time by part").get_by_role("listitem")
    expect(rows).to_have_count(3)
    expect(rows.nth(1)).to_contain_text("weigh")
    expect(rows.nth(1)).to_contain_text("each, longest")
    rows.nth(1).get_by_role("button", name="weigh", exact=True).click()
    long = page.get_by_test_id("items").get_by_role("group", name="how long steps took")
    expect(long).to_contain_text("weigh median")
    expect(long.locator("i").first).to_have_attribute("title", re.compile(r" took .* to "))
    page.get_by_role("button", name="the slowest of sacks/weigh, and what failed").click()
    slowest = page.get_by_role("list", name="stands out in sacks/weigh").get_by_role("listitem")
    expect(slowest).to_have_count(5)
    slowest.first.get_by_role("button").click()
    expect(page.get_by_role("dialog", name=re.compile(r"sacks\[\d+\].weigh"))).to_be_visible()
    page.get_by_text("by step").click()
    expect(page.get_by_role("region", name="attempts")).to_be_visible()


def test_branches_that_are_alike_are_one_pile(program: ServiceProgram, page: Page) -> None:
    """With how many are how; a click opens it, and it can be folded again."""
    run = failed(program, "shelves")
    page.goto(f"{program.url}/runs/{run.number}")
    page.keyboard.press("Escape")
    pile = page.locator("[data-pile]")
    expect(pile).to_contain_text("shelf-… ×14")
    expect(pile).to_contain_text("13 of 14")
    expect(pile).to_contain_text("1 of 14 failed")
    pile.click()
    expect(page.locator(".react-flow__node-step")).to_have_count(14)
    page.get_by_role("button", name="Fold like branches").click()
    expect(page.locator(".react-flow__node-step")).to_have_count(1)


def test_no_letter_is_too_small(program: ServiceProgram, page: Page) -> None:
    """At every zoom: what would be smaller is left out. Forty steps are all seen at first."""
    run = program.client().start("row")
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    steps = page.locator(".react-flow__node-step")
    expect(steps).to_have_count(40)
    expect(steps.last).to_contain_text("part-39")
    for button in ("nearer", "nearer", *["farther"] * 12):
        sizes = page.locator(".react-flow__node").evaluate_all(SIZES)
        assert all(size >= SMALLEST for size in sizes), min(sizes)
        page.get_by_role("button", name=button).click()
    expect(page.locator("[data-level=tile]")).to_be_visible()


def test_a_narrow_window_has_the_outline(program: ServiceProgram, browser: Browser) -> None:
    """The same facts as lines that lead to their steps and items; the weave is still there."""
    run = failed(program, "stock", torn=10)
    context = browser.new_context(viewport={"width": 420, "height": 800})
    page = context.new_page()
    page.goto(f"{program.url}/runs/{run.number}?view=outline")
    tree = page.get_by_role("tree")
    expect(tree.get_by_role("treeitem")).to_have_count(3)
    expect(tree).to_contain_text("sacksfor each")
    expect(tree).to_contain_text("30 of 40 done, 10 failed")
    expect(tree).to_contain_text("30 of 40 done, 10 skipped")
    tree.get_by_role("button").first.click()
    expect(page.get_by_test_id("items")).to_be_visible()
    context.close()
