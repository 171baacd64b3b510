"""The pages that whoever is called out at night opens on a telephone: 390 by 844, a thumb, nothing sideways."""

from __future__ import annotations

import email
import email.policy
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect

from axe import axe
from demo_service import Demo
from running import until
from signing import sign_in

WIDE, HIGH = 390, 844
SMALLEST = 44
PAGES = {
    "now": "/",
    "incidents": "/incidents",
    "an incident": "/incidents/1",
    "alerts": "/alerts",
    "an alert": "/alerts/1",
    "a host": "/fleet/book-db-n1",
    "events": "/events",
    "patterns": "/events/patterns",
    "sign-ins": "/events/sign-ins?from=-30h",
    "sources": "/events/sources",
}
OTHERS = ("/fleet", "/applications", "/applications/Booking", "/rules", "/rules/load-high", "/services", "/probes",
          "/enrol", "/settings", "/settings/channels", "/settings/callouts", "/settings/duty", "/settings/maintenance")  # fmt: skip
TOO_SMALL = """least => [...document.querySelectorAll('a, button, input, select, textarea, summary')]
    .filter(e => e.checkVisibility({visibilityProperty: true, opacityProperty: true}) && getComputedStyle(e).display !== 'inline' && !e.matches('.sr-only'))
    .map(e => [e.textContent.trim().slice(0, 40) || e.getAttribute('aria-label') || e.outerHTML.slice(0, 80),
               e.getBoundingClientRect()])
    .filter(([, box]) => box.height < least - 0.5)
    .map(([name, box]) => `${name}: ${box.height}`)"""
"""What is touched and not as high as a thumb; links within a sentence may be."""


@pytest.fixture(scope="module", params=["light", "dark"])
def telephone(demo: Demo, browser: Browser, request: pytest.FixtureRequest) -> Iterator[BrowserContext]:
    context = browser.new_context(
        viewport={"width": WIDE, "height": HIGH}, color_scheme=request.param, has_touch=True, reduced_motion="reduce"
    )
    page = context.new_page()
    page.goto(demo.url)
    page.get_by_role("heading", level=1).wait_for()
    assert sideways(page) == 0 and page.evaluate(TOO_SMALL, SMALLEST) == [] and axe(page) == []
    sign_in(page, demo.url, "skipper", demo.password)
    page.close()
    yield context
    context.close()


@pytest.fixture
def page(telephone: BrowserContext) -> Iterator[Page]:
    made = telephone.new_page()
    yield made
    made.close()


def sideways(page: Page) -> int:
    """By how many pixels the page, or its main part, is wider than the telephone."""
    return int(
        page.evaluate(
            "Math.max(...[document.documentElement, ...document.querySelectorAll('main')]"
            ".map(e => e.scrollWidth - e.clientWidth))"
        )
    )


@pytest.mark.parametrize("path", PAGES.values(), ids=PAGES.keys())
def test_a_page_fits_and_is_for_thumbs(demo: Demo, page: Page, path: str) -> None:
    page.goto(demo.url + path)
    page.get_by_role("heading", level=1).wait_for()
    expect(page.locator("[aria-busy=true]")).to_have_count(0)
    page.wait_for_timeout(300)
    assert sideways(page) == 0
    assert page.evaluate(TOO_SMALL, SMALLEST) == []
    assert axe(page) == []


@pytest.mark.parametrize("path", OTHERS)
def test_other_pages_at_least_do_not_break(demo: Demo, page: Page, path: str) -> None:
    page.goto(demo.url + path)
    page.get_by_role("button", name="Menu").wait_for()
    expect(page.locator("[aria-busy=true]")).to_have_count(0)
    page.wait_for_timeout(300)
    wider = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
    assert wider == 0
    assert axe(page) == []


def test_whoever_is_woken_takes_it_by_the_link_of_the_message(demo: Demo, browser: Browser) -> None:
    """The mail that the demo sent, its link opened by a telephone that nobody has signed in with."""
    first = until(lambda: next(iter(sorted((demo.data / "told").glob("mail-*.eml"))), None), 30)
    lines = _text(first).splitlines()
    link = next(line for line in lines if "/act/" in line)
    title = lines[0].partition(": ")[2].rpartition(" (incident")[0]
    with browser.new_context(viewport={"width": WIDE, "height": HIGH}, has_touch=True) as nobody:
        page = nobody.new_page()
        page.goto(link)
        expect(page.get_by_role("heading", level=1)).to_contain_text(title)
        assert sideways(page) == 0 and page.evaluate(TOO_SMALL, SMALLEST) == [] and axe(page) == []
        page.get_by_role("button", name=re.compile("^I, .* have it")).tap()
        expect(page.get_by_role("status")).to_contain_text("has it: nobody else is called")


def _text(mail: Path) -> str:
    message = email.message_from_bytes(mail.read_bytes(), policy=email.policy.default)
    body = message.get_body(("plain",))
    return str(body.get_content()) if body is not None else ""


def test_a_row_of_the_board_says_where_what_and_why(demo: Demo, page: Page) -> None:
    page.goto(demo.url)
    row = page.get_by_role("link").filter(has_text="book-db-n1").first
    row.wait_for()
    texts = row.locator("span:visible").evaluate_all(
        "all => all.filter(e => !e.children.length && e.textContent.trim()).map(e => e.getBoundingClientRect())"
        ".map(r => [r.left, r.top, r.right, r.bottom])"
    )
    assert texts and all(left >= 0 and right <= WIDE for left, _, right, _ in texts)
    expect(row).to_contain_text("limit")
    expect(row).to_contain_text("has it")


def test_the_menu_unfolds_and_folds_on_the_way(demo: Demo, page: Page) -> None:
    page.goto(demo.url)
    menu = page.get_by_role("navigation", name="Pages")
    expect(menu).to_be_hidden()
    page.get_by_role("button", name="Menu").tap()
    menu.get_by_role("link", name="Incidents").tap()
    expect(page.get_by_role("heading", level=1)).to_have_text("Incidents")
    expect(menu).to_be_hidden()


def test_the_span_is_chosen_with_a_thumb(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/events")
    page.get_by_role("button", name="–").tap()
    page.get_by_role("dialog").get_by_role("button", name="24 h").tap()
    expect(page).to_have_url(demo.url + "/events?from=-24h")


def test_lanes_keep_their_axis(demo: Demo, page: Page) -> None:
    page.goto(demo.url + PAGES["a host"])
    lanes = page.get_by_role("slider")
    lanes.wait_for()
    box = lanes.bounding_box()
    assert box is not None and box["width"] > WIDE * 0.85
    drawing = page.get_by_role("img", name="CPU:").bounding_box()
    assert drawing is not None and abs(drawing["x"] - box["x"]) < 2 and abs(drawing["width"] - box["width"]) < 2
