"""The pages as somebody sees and uses them."""

from __future__ import annotations

import json
import re
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import pytest
from playwright.sync_api import Browser, Page, expect

from demo_service import Demo
from running import until

AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"


def axe(page: Page) -> list[str]:
    """What axe finds wrong: WCAG 2.2 A and AA, and its best practices."""
    page.evaluate("() => {" + AXE.read_text() + "}")
    found = page.evaluate(
        "axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']})"
    )
    return [
        f"{v['id']}: {v['nodes'][0]['html'][:160]} {v['nodes'][0]['failureSummary'][:200]}" for v in found["violations"]
    ]


@pytest.mark.parametrize(
    ("path", "heading"),
    [
        ("/", "wrong"),
        ("/fleet", "Fleet"),
        ("/fleet/book-db-n1", "book-db-n1"),
        ("/events", "Events"),
        ("/alerts", "Alerts"),
        ("/rules", "Rules"),
        ("/rules/filesystem-filling", "filesystem-filling"),
        ("/rules/new", "New rule"),
        ("/settings", "Settings"),
        ("/settings/channels", "Settings"),
        ("/settings/users", "Settings"),
        ("/settings/tokens", "Settings"),
        ("/settings/storage", "Settings"),
    ],
)
def test_every_page_shows_itself_and_passes_axe(demo: Demo, page: Page, path: str, heading: str) -> None:
    page.goto(demo.url + path)
    expect(page.get_by_role("heading", level=1)).to_contain_text(heading)
    expect(page.locator("[aria-busy=true]")).to_have_count(0)
    page.wait_for_timeout(300)
    assert axe(page) == []
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


def test_the_sign_in_page_refuses_a_wrong_password(demo: Demo, browser: Browser) -> None:
    page = browser.new_page()
    page.goto(demo.url + "/alerts")
    page.get_by_role("heading", level=1).wait_for()
    assert axe(page) == []
    page.get_by_label("Name").fill("skipper")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("Name or password is wrong")
    page.get_by_label("Password").fill(demo.password)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Alerts")
    page.get_by_text("skipper ▾").click()
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Sign in to Balise")
    page.close()


def test_from_the_board_to_the_cause(demo: Demo, page: Page) -> None:
    """The way a newcomer goes: the board, the alert, the session everybody waits for, the change before it."""
    page.goto(demo.url)
    row = page.get_by_role("link").filter(has_text="Database sessions wait")
    expect(row).to_contain_text("wait for tariff-import")
    row.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Database sessions wait")
    expect(page.get_by_text("Clue:")).to_be_visible()
    evidence = page.get_by_role("region", name="Evidence")
    expect(evidence).to_contain_text("scheduled job tariff-import started by fares")
    expect(evidence.get_by_role("row").filter(has_text="tariff-import").first).to_contain_text("update fares set price")
    page.get_by_role("link", name="Open the span on the host").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("book-db-n1")
    assert "drawn=" in page.url
    beneath = page.get_by_role("region", name="In the span")
    expect(beneath).to_contain_text("the span you drew")
    expect(beneath).to_contain_text("still waiting for ShareLock")


def test_a_span_is_drawn_on_the_lanes_and_kept_in_the_address(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/fleet/book-db-n1?from=-3h")
    lanes = page.get_by_role("slider")
    lanes.wait_for()
    box = lanes.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 40)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.8, box["y"] + 60, steps=4)
    page.mouse.up()
    expect(page.get_by_text("the span you drew")).to_be_visible()
    start, end = (int(t) for t in parse_qs(urlsplit(page.url).query)["drawn"][0].split("-"))
    assert end - start == pytest.approx(0.2 * 3 * 3600, abs=120)
    shared = page.url
    page.goto(demo.url)
    page.goto(shared)
    expect(page.get_by_text("the span you drew")).to_be_visible()
    page.get_by_role("button", name="Zoom to it").click()
    assert "drawn" not in page.url and f"from={start}" in page.url
    page.get_by_role("button", name="Earlier").click()
    assert f"from={start}" not in page.url


def test_lanes_work_with_the_keyboard(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/fleet/book-db-n1")
    lanes = page.get_by_role("slider")
    lanes.focus()
    page.keyboard.press("ArrowLeft")
    before = lanes.get_attribute("aria-valuetext")
    page.keyboard.press("ArrowLeft")
    assert lanes.get_attribute("aria-valuetext") != before
    page.keyboard.press("Shift+ArrowLeft")
    page.keyboard.press("Shift+ArrowLeft")
    expect(page.get_by_text("the span you drew")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_text("drag across the lanes to draw one")).to_be_visible()


def test_the_fleet_is_filtered_sorted_and_shared_by_its_address(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/fleet")
    rows = page.get_by_role("table", name="Fleet").get_by_role("row")
    page.get_by_role("button", name=re.compile("^Fullest volume")).click()
    expect(rows.nth(1)).to_contain_text("gate-s3")
    page.get_by_label("Filter").fill('group eq "Booking"')
    expect(rows).to_have_count(6)
    until(lambda: "where=" in page.url, 5)
    page.reload()
    expect(rows).to_have_count(6)
    page.get_by_role("link", name="book-db-n1").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("book-db-n1")


def test_events_are_found_and_opened(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/events")
    page.get_by_label("Text").fill("tariff-import")
    item = (
        page.get_by_role("list", name="Events, newest first")
        .get_by_role("button")
        .filter(has_text="tariff-import started")
    )
    expect(item.first).to_be_visible()
    item.first.click()
    expect(page.get_by_text("change.who")).to_be_visible()
    page.get_by_label("Text").fill("no such words anywhere")
    expect(page.get_by_text("No event matches in this span")).to_be_visible()


def test_a_rule_is_checked_while_it_is_typed(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/rules/new")
    page.get_by_label("Name").fill("waits-a-lot")
    page.get_by_label("About").fill("Too many wait")
    page.get_by_label("Metric").fill("postgresql.sessions.waiting")
    page.get_by_role("textbox", name="above").first.fill("2")
    expect(page.get_by_role("region", name="Rehearsal")).to_contain_text("It would have opened")
    page.get_by_label("Only where").fill("host eq")
    expect(page.get_by_role("alert").first).to_contain_text("the filter ends at character")
    page.get_by_label("Only where").fill("")
    page.get_by_role("textbox", name="clear").first.fill("9")
    expect(page.get_by_role("alert").first).to_contain_text("clear must not be higher than above")
    page.get_by_role("textbox", name="clear").first.fill("1")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("link", name=re.compile("waits-a-lot"))).to_be_visible()


def test_an_enrolment_key_is_made_with_its_command(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/settings")
    page.get_by_label("Label").fill("gates at southquay")
    page.get_by_role("button", name="Make a key").click()
    expect(page.get_by_role("status").filter(has_text="balise agent enrol")).to_contain_text(demo.url)
    page.get_by_role("button", name="I have it").click()
    expect(page.get_by_role("cell", name="gates at southquay").first).to_be_visible()


def test_a_state_change_appears_without_a_reload(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/alerts")
    page.wait_for_timeout(800)
    token = page.evaluate(
        "fetch('/api/v1/tokens', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({name: 'live', role: 'ingest'})}).then(r => r.json())"
    )["token"]
    name = f"live-{page.evaluate('Date.now()')}"
    rule = {
        "about": f"{name} is high",
        "measure": {"metric": name, "over": "60s"},
        "limits": {"critical": {"above": 1}},
    }
    page.evaluate(
        f"fetch('/api/v1/rules/{name}', {{method: 'PUT', headers: {{'Content-Type': 'application/json'}}, body: {json.dumps(json.dumps(rule))}}}).then(r => r.status)"
    )
    import time

    from sending import send_gauge

    send_gauge(demo.url, token, "buoy-1", name, 5.0, time.time())
    expect(page.get_by_role("link").filter(has_text=f"{name} is high")).to_be_visible(timeout=6000)


def test_the_theme_is_chosen_and_stays(demo: Demo, page: Page) -> None:
    page.goto(demo.url)
    page.get_by_text("skipper ▾").click()
    page.get_by_label("Theme").select_option("lantern")
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(13, 21, 26)"
    page.reload()
    assert page.evaluate("document.documentElement.dataset.theme") == "lantern"
    page.evaluate("localStorage.removeItem('balise.theme')")
