"""The trail on an incident's page: its cause in a sentence, the staircase, the suspects, and what people say of them."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from axe import axe
from balise.client import Balise
from demo_service import Demo


@pytest.fixture(scope="module")
def client(demo: Demo) -> Iterator[Balise]:
    with Balise(demo.url) as made:
        made.sign_in("skipper", demo.password)
        yield made


@pytest.fixture(scope="module")
def number(client: Balise) -> int:
    """Of the incident of the sessions that wait for a price import."""
    return next(one.id for one in client.incidents.list(state="open") if "wait for locks" in one.title)


def test_an_incident_names_its_cause_and_joins_the_lanes_as_they_departed(
    demo: Demo, page: Page, client: Balise, number: int
) -> None:
    page.goto(f"{demo.url}/incidents/{number}")
    trail = page.get_by_role("region", name="Trail")
    expect(trail).to_contain_text("session tariff-import on book-db-n1")
    expect(trail).to_contain_text(re.compile(r"(likely|almost certain), \d+ %"))
    expect(trail).to_contain_text("See who owns the session")
    suspects = page.get_by_role("region", name="Suspects").get_by_role("listitem")
    expect(suspects.first).to_contain_text("session tariff-import on book-db-n1")
    expect(trail.locator("[data-step]").nth(2)).to_be_attached()
    moments = [one.get_attribute("data-step") or "" for one in trail.locator("[data-step]").all()]
    assert len(moments) >= 3 and moments == sorted(moments)
    trail.locator("[data-step]").filter(has_text="session tariff-import").get_by_role("link").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("book-db-n1")


def test_what_was_right_is_said_and_taken_back(demo: Demo, page: Page, client: Balise, number: int) -> None:
    page.goto(f"{demo.url}/incidents/{number}")
    page.get_by_role("button", name=re.compile("It was this: session tariff-import")).click()
    said = page.get_by_text("the cause was session tariff-import on book-db-n1")
    expect(page.get_by_role("region", name="Suspects").get_by_text("skipper said")).to_be_visible()
    assert client.trails.record().first == 1
    expect(said.first).to_be_visible()
    page.get_by_role("button", name="take it back").click()
    expect(page.get_by_role("region", name="Suspects").get_by_text("skipper said")).to_have_count(0)
    page.get_by_role("button", name="It was something else …").click()
    page.get_by_label("What the cause was").fill("a stuck valve")
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_role("region", name="Suspects")).to_contain_text("a stuck valve")
    assert client.trails.take_back(number)


def test_the_likely_cause_stands_in_the_list_and_on_now(demo: Demo, page: Page, client: Balise, number: int) -> None:
    client.trails.of_incident(number)
    page.goto(f"{demo.url}/incidents")
    expect(page.get_by_text("likely session tariff-import on book-db-n1").locator("visible=true").first).to_be_visible()
    page.goto(f"{demo.url}/")
    expect(page.get_by_text("session tariff-import on book-db-n1").locator("visible=true").first).to_be_visible()


def test_the_trail_passes_axe_and_fits(demo: Demo, sized: Page, number: int) -> None:
    sized.goto(f"{demo.url}/incidents/{number}")
    expect(sized.get_by_role("region", name="Suspects")).to_be_visible()
    expect(sized.locator("[aria-busy=true]")).to_have_count(0)
    sized.wait_for_timeout(200)
    assert axe(sized) == []
    assert sized.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
