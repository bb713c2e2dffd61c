"""Every page of the console: what it says at a glance, how it is reached, and for whom it works."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.helpers import LOOM, ROOT, ServiceProgram, eventually, service
from yarnloom import Client, Start
from yarnloom.errors import RunFailed
from yarnloom.service.http.console_files import console_folder

pytestmark = pytest.mark.browser

CONSOLE = ROOT / "console"
AXE = CONSOLE / "node_modules/axe-core/axe.min.js"
FIRST_LOAD = 350_000
PAGES = ("/", "/runs", "/workflows", "/schedules", "/files", "/pools", "/workers")


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker that has places for all that goes on at once here."""
    folder = tmp_path_factory.mktemp("pages")
    with service(folder, "--load", LOOM, "--processes", "4") as found:
        yield found


def fail(client: Client, how: str = "raise") -> None:
    """Let a run fail."""
    with pytest.raises(RunFailed):
        client.start("misbehaves", how=how).wait(60)


@pytest.fixture(scope="module")
def told(program: ServiceProgram, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """A service in which something runs, has failed, is paused and has been done."""
    client = program.client()
    folder = tmp_path_factory.mktemp("told")
    fail(client)
    client.start("coast", harbours=["brackwater", "fogwick"]).wait(60)
    paused = client.start("heeds", folder=str(folder))
    eventually((folder / "heed").exists)
    running = client.start("narrows", folder=str(folder))
    yield {"client": client, "folder": folder, "paused": paused, "running": running}
    (folder / "go").touch()
    paused.cancel()


def test_the_overview_answers_at_a_glance(
    program: ServiceProgram, told: dict[str, Any], page: Page
) -> None:
    """What runs, what failed since yesterday, what is stuck and why: all live."""
    page.goto(program.url)
    running = page.get_by_label("Running", exact=True)
    expect(running.get_by_role("link", name=re.compile("narrows"))).to_be_visible()
    failed = page.get_by_label("Failed since yesterday")
    expect(failed).to_contain_text("misbehaves")
    expect(failed).to_contain_text("it went wrong")
    expect(
        page.get_by_role("img", name=re.compile("attempts ended within the last hour"))
    ).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("waits: on average"))).to_be_visible()
    expect(page.get_by_label("Stuck")).to_contain_text("Nothing is stuck")
    told["paused"].pause("fog")
    expect(page.get_by_label("Stuck")).to_contain_text("fog")
    expect(page.get_by_role("link", name=re.compile("1 paused"))).to_be_visible()
    fail(told["client"], "give up")
    expect(failed).to_contain_text("it never will")
    told["paused"].resume()

    expect(page.get_by_label("Stuck")).not_to_contain_text("fog")


def test_runs_are_found_in_every_way(program: ServiceProgram, page: Page) -> None:
    """By text, time, who, key, tag and state; each filter stands in the address."""
    client = program.client()
    wanted = client.start_many(
        [Start("sums", {"number": 47114711}, key="spring-tide", tags=("syzygy",))]
    )
    number = wanted[0]
    client.run(number).wait(60)
    page.goto(f"{program.url}/runs")
    rows = page.get_by_role("region", name="runs").get_by_role("row")
    found = rows.filter(has=page.get_by_role("link", name=str(number), exact=True))
    for label, text, name in (
        ("Text", "47114711", "text"),
        ("Key", "spring-tide", "key"),
        ("Who", client.run(number).data["started_by"], "who"),
    ):
        page.get_by_label(label, exact=True).fill(text)
        expect(page).to_have_url(re.compile(f"{name}="))
        expect(found).to_be_visible()
        if name != "who":
            expect(rows).to_have_count(2)  # with the head
        page.get_by_role("button", name="Clear").click()
        expect(page).not_to_have_url(re.compile(f"{name}="))
    page.goto(f"{program.url}/runs?tag=syzygy")
    expect(rows).to_have_count(2)
    page.get_by_role("combobox", name="Started").click()
    page.get_by_role("option", name="last hour").click()
    expect(page).to_have_url(re.compile("within=1h"))
    expect(found).to_be_visible()
    page.goto(f"{program.url}/runs?until=2020-01-01T00:00:00Z")
    expect(page.get_by_text("No run fits the filter")).to_be_visible()
    page.goto(f"{program.url}/runs?text=no+such+run")
    expect(page.get_by_text("No run fits the filter")).to_be_visible()
    page.goto(f"{program.url}/runs?text=47114711&state=done")
    expect(found).to_contain_text("2")
    page.get_by_role("button", name="Act on all of these").click()
    page.get_by_role("button", name="How many are they?").click()

    expect(page.get_by_role("button", name="Yes, cancel 1 run")).to_be_visible()


def test_counts_by_state_are_live(program: ServiceProgram, page: Page) -> None:
    """They rise while one looks."""
    client = program.client()
    page.goto(f"{program.url}/runs")
    failed = page.get_by_role("radiogroup", name="State").get_by_text(re.compile(r"failed\s*\d"))
    expect(failed).to_be_visible()
    before = int(re.findall(r"\d+", failed.inner_text())[0])
    fail(client)

    expect(failed).to_have_text(re.compile(rf"failed\s*{before + 1}$"))


def test_a_workflow_has_a_page(program: ServiceProgram, told: dict[str, Any], page: Page) -> None:
    """Its plan as a picture, its newest runs as bars, and the way to its form."""
    page.goto(f"{program.url}/workflows")
    page.get_by_role("link", name="marks/coast").click()
    expect(page.get_by_role("heading", name="coast", exact=True)).to_be_visible()
    expect(page.get_by_label("step harbours/figures/sum")).to_be_visible()
    bars = page.get_by_label("how long the newest runs took").get_by_role("link")
    expect(bars.first).to_have_attribute("data-dye", re.compile("done|failed"))
    count = bars.count()
    told["client"].start("coast", harbours=["old weir"]).wait(60)
    expect(bars).to_have_count(count + 1)
    page.get_by_role("button", name="Start…").click()

    expect(page.get_by_role("form", name="start marks/coast")).to_be_visible()


def test_a_pool_tells_of_its_last_hour(
    program: ServiceProgram, told: dict[str, Any], page: Page
) -> None:
    """How full it was, who has it, and who waits."""
    page.goto(f"{program.url}/pools")
    page.get_by_role("button", name="narrow").click()
    drawer = page.get_by_test_id("pool")
    expect(
        drawer.get_by_role("img", name=re.compile("at most 1 in use and [23] waiting"))
    ).to_be_visible()
    run = drawer.get_by_role("row", name=re.compile(f"run {told['running'].number}"))
    expect(run.first).to_contain_text("1 place")

    expect(run.nth(1)).to_contain_text("2 steps")


def test_a_worker_tells_what_it_runs(
    program: ServiceProgram, told: dict[str, Any], page: Page
) -> None:
    """With a link into the run, and the version of its code."""
    page.goto(f"{program.url}/workers")
    row = page.get_by_label("worker w1")
    expect(row).to_contain_text(re.compile(r"\d of 4 processes"))
    expect(row).to_contain_text(re.compile(r"[0-9a-f]{12}"))
    row.get_by_role("link", name=f"{told['running'].number}/all[1]").click()

    expect(page.get_by_role("dialog")).to_contain_text(f"{told['running'].number}/all[1]/pass")


def test_a_schedule_tells_how_its_runs_went(program: ServiceProgram, page: Page) -> None:
    """An icon for each of the newest, which leads there."""
    client = program.client()
    client.make_schedule("sums", name="soundings", cron="0 3 1 1 *", params={"number": 1})
    run = client.start_schedule("soundings")
    run.wait(60)
    page.goto(f"{program.url}/schedules")
    row = page.get_by_label("schedule soundings")
    row.get_by_role("link", name=f"run {run.number}: done").click()
    expect(page).to_have_url(f"{program.url}/runs/{run.number}")
    client.change_schedule("soundings", paused=True)


def test_the_palette_goes_anywhere(program: ServiceProgram, page: Page) -> None:
    """By keys alone: a page, a run by number, a workflow's form, runs with a text."""
    run = program.client().start("sums", number=1)
    page.goto(program.url)
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()
    for typed, url in (
        ("pools", "/pools"),
        (str(run.number), f"/runs/{run.number}"),
        ("start sums", "/workflows/marks/sums?start"),
        ("ebb", "/runs?text=ebb"),
    ):
        page.keyboard.press("Control+k")
        box = page.get_by_label("Go to", exact=True)
        expect(box).to_be_visible()
        box.fill(typed)
        expect(
            page.get_by_role("button", name=re.compile(typed.split()[-1], re.I)).first
        ).to_be_visible()
        page.keyboard.press("Enter")
        expect(page).to_have_url(program.url + url)
        expect(box).to_be_hidden()


def test_the_api_is_tried_without_the_network(program: ServiceProgram, page: Page) -> None:
    """Everything comes from the service, and an operation answers."""
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    page.goto(f"{program.url}/api#get-/api/v1/service")
    # The viewer reads the whole description first: 14 s on two quiet cores.
    page.get_by_role("button", name="TRY").first.click(timeout=120_000)
    expect(page.get_by_text(re.compile("Response Status: OK:200|200")).first).to_be_visible()

    assert any(url.endswith("/api/v1/service") for url in asked)
    assert all(url.startswith((program.url, "data:", "blob:")) for url in asked)


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_axe_finds_nothing_serious(
    program: ServiceProgram, told: dict[str, Any], browser: Browser, scheme: Any
) -> None:
    """On every page, and with each kind of drawer open."""
    number = told["running"].number
    ended = next(told["client"].runs(workflow="coast", states=("done",))).number
    places = [
        *PAGES,
        "/runs?state=failed",
        "/workflows/marks/sums?start",
        f"/runs/{number}?each=all",
        f"/runs/{number}?view=time",
        f"/runs/{ended}?step=check",
        "/pools?pool=narrow",
    ]
    size: Any = {"width": 1280, "height": 800}
    # What is fading in has no contrast yet.
    context = browser.new_context(viewport=size, color_scheme=scheme, reduced_motion="reduce")
    page = context.new_page()
    source = AXE.read_text(encoding="utf-8")
    found = {}
    for place in places:
        page.goto(program.url + place)
        expect(page.locator("main h1, main h2").first).to_be_visible()
        expect(page.locator("footer")).to_contain_text("data in")
        page.evaluate(source)
        report = page.evaluate("axe.run({resultTypes: ['violations']})")
        serious = [
            (violation["id"], [node["html"][:160] for node in violation["nodes"]][:4])
            for violation in report["violations"]
            if violation["impact"] in ("serious", "critical")
        ]
        if serious:
            found[place] = serious
    context.close()

    assert found == {}, json.dumps(found, indent=1)


@pytest.mark.parametrize("width", [640, 390])
def test_pages_work_when_narrow_or_enlarged(
    program: ServiceProgram, told: dict[str, Any], browser: Browser, width: int
) -> None:
    """At 200% of 1280 by 800, and on a phone: nothing is pushed out of the page sideways."""
    context = browser.new_context(viewport={"width": width, "height": 400})
    page = context.new_page()
    for place in (*PAGES, "/workflows/marks/sums?start", f"/runs/{told['running'].number}"):
        page.goto(program.url + place)
        expect(page.locator("main h1, main h2").first).to_be_visible()
        wide = page.evaluate("document.documentElement.scrollWidth")
        assert wide <= width, place
    page.get_by_role("banner").get_by_role("button", name="Runs").click()
    page.get_by_role("menuitem", name="Workers").click()
    expect(page.get_by_role("heading", name="Workers")).to_be_visible()
    context.close()


def test_the_first_load_is_small(
    program: ServiceProgram, told: dict[str, Any], browser: Browser
) -> None:
    """Compressed, with fonts, styles and everything that the first page asks for."""
    for place in ("/", "/runs"):
        context = browser.new_context()
        page = context.new_page()
        wire = context.new_cdp_session(page)
        wire.send("Network.enable")
        sizes: list[int] = []
        wire.on("Network.loadingFinished", lambda event: sizes.append(event["encodedDataLength"]))  # noqa: B023
        page.goto(program.url + place)
        shown = page.locator("main canvas, main td")
        expect(shown.nth(1)).to_be_visible()
        expect(page.locator("footer")).to_contain_text("data in")
        context.close()

        assert 100_000 < sum(sizes) < FIRST_LOAD, place


def test_every_component_has_its_styles() -> None:
    """Those of components that are not used are left out; none is missing."""
    assets = console_folder() / "assets"
    name = re.compile(r"\bm_[0-9a-f]{5,10}\b")

    def names(paths: Iterable[Path]) -> set[str]:
        return {found for path in paths for found in name.findall(path.read_text())}

    all_there_are = names([CONSOLE / "node_modules/@mantine/core/styles.css"])
    wanted = names(assets.glob("*.js")) & all_there_are
    assert len(wanted) > 100
    assert wanted - names(assets.glob("*.css")) == set()


def test_tabs_share_one_event_stream(
    program: ServiceProgram, browser: Browser, marks: Path
) -> None:
    """Eight tabs hold one connection among them, and each sees what concerns it."""
    run = program.client().start("held", folder=str(marks))
    context = browser.new_context()
    tabs = [context.new_page() for _ in range(8)]
    own: list[str] = []
    for index, tab in enumerate(tabs):
        tab.on(
            "request",
            lambda asked: own.append(asked.url) if asked.resource_type == "eventsource" else None,
        )
        tab.goto(f"{program.url}/runs/{run.number}" if index % 2 else f"{program.url}/runs")
    for tab in tabs[1::2]:
        expect(tab.get_by_label("step hold, running")).to_be_visible()
    (marks / "go").touch()
    row = re.compile(rf"^{run.number} ")
    for tab in tabs[1::2]:
        expect(tab.get_by_label("step finish, done")).to_be_visible()
    for tab in tabs[::2]:
        expect(tab.get_by_role("row", name=row).locator("[data-state=done]")).to_be_visible()
    targets = browser.new_browser_cdp_session().send("Target.getTargets")["targetInfos"]
    shared = [one for one in targets if one["type"] == "shared_worker"]
    context.close()

    assert own == []
    assert len([one for one in shared if program.url in one["url"]]) == 1


def test_a_large_bundle_is_calm(tmp_path: Path, browser: Browser) -> None:
    """Counts, a list that opens with one page of it, a search through all of it, live."""
    with service(tmp_path / "data", "--load", "tests.files_loom:loom") as program:
        run = program.client().start("numbers", count=20_000)
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.goto(f"{program.url}/runs/{run.number}")
        bundle = page.get_by_label("each all", exact=True)
        expect(bundle).to_contain_text("of 20,000 done")
        bundle.click(position={"x": 60, "y": 12})
        items = page.get_by_test_id("items")
        expect(items.get_by_role("row")).to_have_count(50)
        run.wait(300)
        items.get_by_label("Search items").fill("19998")
        expect(items.get_by_role("row")).to_have_count(1)
        expect(items).to_contain_text("19998")
        nodes = page.evaluate("document.querySelectorAll('*').length")
        context.close()

        assert nodes < 1_500
