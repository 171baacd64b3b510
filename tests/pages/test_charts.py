"""Charting as somebody does it: asking, comparing, brushing a stretch, taking what is shown along."""

from __future__ import annotations

import re
import time
from pathlib import Path
from urllib.parse import parse_qs, quote, urlsplit

from playwright.sync_api import Page, expect

from axe import axe
from balise.api.spans import rfc3339
from demo_service import Demo

BOOKING = 'avg of balise.cpu.busy by host where group eq "Booking"'
WAITING = 'max of postgresql.sessions.blocked by host where host eq "book-db-n1"'


def chart(page: Page, demo: Demo, *questions: str, **options: str) -> None:
    asked = "&".join([f"q={quote(q)}" for q in questions] + [f"{k}={quote(v)}" for k, v in options.items()])
    page.goto(f"{demo.url}/charts?{asked}")
    page.locator("section[aria-label] svg path[stroke-width='1.4']").first.wait_for()
    expect(page.locator("[aria-busy=true]")).to_have_count(0)


def asked(page: Page) -> list[str]:
    return parse_qs(urlsplit(page.url).query).get("q", [])


def test_charts_pass_axe_and_fit(demo: Demo, sized: Page) -> None:
    chart(sized, demo, BOOKING, WAITING, beside="-1d", usual="1")
    expect(sized.get_by_text("Moved most in the stretch")).to_be_visible()
    sized.wait_for_timeout(300)
    assert axe(sized) == []
    assert sized.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


def test_a_question_is_a_sentence_whose_words_are_changed(demo: Demo, page: Page) -> None:
    chart(page, demo, BOOKING)
    expect(page.get_by_role("region", name="book-app-n1")).to_be_visible()
    page.get_by_label("Take").select_option("max")
    page.get_by_label("Split by").fill("")
    page.get_by_label("Split by").press("Enter")
    expect(page.get_by_role("region", name="all together, highest of balise.cpu.busy")).to_be_visible()
    assert asked(page) == ['max of balise.cpu.busy where group eq "Booking"']
    page.get_by_role("button", name="another question").click()
    expect(page.get_by_label("Metric")).to_have_count(2)
    page.get_by_label("Metric").nth(1).fill("no.such.metric")
    page.get_by_label("Metric").nth(1).press("Enter")
    expect(page.get_by_text("No metric 'no.such.metric' has arrived yet.")).to_be_visible()
    page.get_by_role("button", name="as text").click()
    page.get_by_label("The questions as text").fill(f"{BOOKING}\nhow are we?")
    expect(page.get_by_role("alert")).to_contain_text("line 2")
    page.get_by_label("The questions as text").fill(WAITING)
    page.get_by_role("button", name="Ask it").click()
    expect(page.get_by_role("region", name="book-db-n1")).to_be_visible()
    assert asked(page) == [WAITING]


def test_a_chart_answers_what_the_service_says(demo: Demo, page: Page) -> None:
    """The value at the right is that of the newest step; held to a question of its own, of as many steps, from another
    client."""
    now = int(time.time())
    span = {"from": str(now - 7200), "to": str(now - 3600)}
    chart(page, demo, WAITING, **span)
    body = {
        "metric": "postgresql.sessions.blocked", "take": "max", "where": 'host eq "book-db-n1"', "points": 300,
        "from": rfc3339(now - 7200), "to": rfc3339(now - 3600),
    }  # fmt: skip
    answer = page.context.request.post(f"{demo.url}/api/v1/metrics/query", data=body).json()
    newest = [v for v in answer["series"][0]["values"] if v is not None][-1]
    shown = page.get_by_role("region", name="book-db-n1")
    expect(shown).to_contain_text(f"{round(newest)} session" if newest >= 0.5 or newest == 0 else "under 1 session")


def test_a_brushed_stretch_says_what_moved_in_it_and_takes_it_along(demo: Demo, page: Page) -> None:
    chart(page, demo, BOOKING)
    lanes = page.get_by_role("slider")
    box = lanes.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] * 0.9, box["y"] + 30)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.999, box["y"] + 30, steps=4)
    page.mouse.up()
    expect(page.get_by_role("button", name="Zoom to it")).to_be_visible()
    assert "drawn=" in page.url
    # However many lanes there are, what moved most is said where one looks, and leads to the rest.
    page.set_viewport_size({"width": 1280, "height": 480})
    most = page.get_by_role("button", name=re.compile("^moved most: "))
    expect(most).to_be_in_viewport()
    most.click()
    expect(page.get_by_role("heading", name="Moved most in the stretch")).to_be_in_viewport()
    moved = page.get_by_role("region", name="In the stretch").get_by_role("button", name="http.server.request.duration")
    expect(moved.first).to_be_visible()
    moved.first.click()
    expect(page.get_by_label("Metric")).to_have_count(2)
    assert len(asked(page)) == 2 and asked(page)[1].startswith(
        "avg of http.server.request.duration by host where host eq"
    )
    page.get_by_role("button", name="Zoom to it").click()
    expect(page.get_by_role("button", name="Zoom to it")).to_have_count(0)
    assert "from=" in page.url and "drawn" not in page.url


def test_a_chart_is_made_with_the_keyboard_alone(demo: Demo, page: Page) -> None:
    chart(page, demo, BOOKING)
    page.get_by_label("Metric").focus()
    page.keyboard.press("Control+A")
    page.keyboard.type("system.memory.utilization")
    page.keyboard.press("Enter")
    expect(page.get_by_role("region", name="book-app-n1")).to_contain_text("system.memory.utilization")
    page.get_by_role("slider").focus()
    for _ in range(3):
        page.keyboard.press("Shift+ArrowLeft")
    expect(page.get_by_role("slider")).to_have_attribute("aria-valuetext", re.compile("drawn"))
    assert "drawn=" in page.url
    expect(page.get_by_role("img", name="book-app-n1").first).to_have_attribute("aria-label", re.compile("%"))


def test_it_is_taken_along_as_a_table_a_file_and_a_picture(demo: Demo, page: Page, tmp_path: Path) -> None:
    chart(page, demo, BOOKING)
    with page.expect_download() as file:
        page.get_by_role("button", name="CSV").click()
    rows = Path(file.value.path()).read_text().splitlines()
    assert rows[0].startswith("time,") and "book-app-n1" in rows[0] and len(rows) > 100
    link = page.get_by_role("link", name="PNG").get_attribute("href") or ""
    picture = page.context.request.get(demo.url + link)
    assert picture.ok and picture.body().startswith(b"\x89PNG")
    page.get_by_role("button", name="as a table").click()
    expect(page.get_by_role("columnheader", name="book-app-n1")).to_be_visible()
    assert page.get_by_role("row").count() > 50 and axe(page) == []
