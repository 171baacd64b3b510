"""Dashboards as somebody makes them: pinned where it stands, arranged, narrowed by what is chosen at the top."""

from __future__ import annotations

import json
import re
from pathlib import Path
from urllib.parse import quote

from playwright.sync_api import Page, Route, expect

from axe import axe
from demo_service import Demo
from running import until

CPU = 'avg of balise.cpu.busy by host where group eq "Booking"'
WAITING = "max of postgresql.sessions.blocked by host"


def keep(page: Page, demo: Demo, name: str, body: dict[str, object]) -> None:
    answer = page.context.request.put(f"{demo.url}/api/v1/dashboards/{quote(name)}", data=body)
    assert answer.ok, answer.text()


def kept(page: Page, demo: Demo, name: str) -> list[dict[str, object]]:
    found = page.context.request.get(f"{demo.url}/api/v1/dashboards/{quote(name)}").json()
    return list(found["panels"])


def panel(kind: str, title: str, at: list[int], **query: object) -> dict[str, object]:
    return {"kind": kind, "title": title, "at": at, "query": query}


SHEET: dict[str, object] = {
    "about": "what I look at first",
    "variables": [{"name": "host", "of": "host"}],
    "panels": [
        panel("value", "Busy", [0, 0, 4, 4], metric="balise.cpu.busy", by=[], where='host eq "$host"'),
        panel("states", "Sites", [4, 0, 8, 4], by="site"),
        panel("chart", "CPU", [0, 4, 6, 4], metric="balise.cpu.busy", where='host eq "$host"'),
        panel("table", "Hosts", [6, 4, 6, 4], columns=[{"metric": "balise.cpu.busy"}, {"fact": "cores"}]),
        panel("incidents", "Incidents", [0, 8, 6, 4]),
        panel("patterns", "Said", [6, 8, 6, 4]),
        panel("text", "Note", [0, 12, 12, 2], text="Ask the quay first."),
        panel("chart", "Missing", [0, 14, 6, 4], metric="no.such.metric"),
        panel("chart", "Volumes", [6, 14, 6, 4], metric="system.filesystem.utilization",
              by=["host", "system.filesystem.mountpoint"]),
    ],
}  # fmt: skip
"""Of the volumes there are more than share a lane."""


def test_a_sheet_passes_axe_and_fits(demo: Demo, sized: Page) -> None:
    keep(sized, demo, "Sheet", SHEET)
    sized.goto(f"{demo.url}/dashboards/Sheet")
    expect(sized.get_by_role("region", name="Note")).to_contain_text("Ask the quay first.")
    expect(sized.get_by_role("region", name="Busy", exact=True)).to_contain_text("%")
    expect(sized.get_by_role("region", name="Missing", exact=True)).to_contain_text("No metric 'no.such.metric'")
    expect(sized.locator("[aria-busy=true]")).to_have_count(0)
    sized.wait_for_timeout(300)
    assert axe(sized) == []
    assert sized.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


def test_what_is_shown_is_pinned_where_it_stands(demo: Demo, page: Page) -> None:
    for question, first in ((CPU, True), (WAITING, False)):
        page.goto(f"{demo.url}/charts?q={quote(question)}&beside=-1d")
        page.get_by_role("button", name="pin to a dashboard").click()
        if first:
            page.get_by_label("A new dashboard").fill("Pinned")
            page.get_by_role("button", name="Pin", exact=True).click()
        else:
            page.get_by_role("button", name="Pinned", exact=True).click()
        expect(page.get_by_role("status").filter(has_text="pinned to")).to_be_visible()
    page.get_by_role("link", name="Pinned").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Pinned")
    expect(page.get_by_role("region", name="balise.cpu.busy", exact=True)).to_be_visible()
    expect(page.get_by_role("region", name="book-db-n1, highest of postgresql.sessions.blocked")).to_be_visible()
    assert [one["at"] for one in kept(page, demo, "Pinned")] == [[0, 0, 6, 4], [6, 0, 6, 4]]
    page.context.request.delete(f"{demo.url}/api/v1/dashboards/Pinned")


def test_a_change_that_takes_long_does_not_undo_the_one_after_it(demo: Demo, page: Page) -> None:
    keep(page, demo, "Slow", {"panels": [panel("text", "one", [0, 0, 6, 4], text="one")]})
    page.goto(f"{demo.url}/dashboards/Slow")
    page.get_by_role("button", name="Arrange").click()
    said: list[int] = []

    def late(route: Route) -> None:
        if route.request.method == "PUT":
            said.append(route.request.post_data_json["panels"][0]["at"][2])
            if len(said) == 1:
                page.wait_for_timeout(1500)
        route.continue_()

    page.route("**/api/v1/dashboards/Slow", late)
    for _ in range(2):
        page.get_by_role("button", name="one wider").click()
    until(lambda: len(said) == 2 or page.wait_for_timeout(100))
    until(lambda: kept(page, demo, "Slow")[0]["at"] == [0, 0, said[1], 4] or page.wait_for_timeout(100))
    assert said[0] < said[1]
    page.wait_for_timeout(2000)
    assert kept(page, demo, "Slow")[0]["at"] == [0, 0, said[1], 4]


def test_panels_are_arranged_by_dragging_and_by_their_buttons(demo: Demo, page: Page) -> None:
    texts = [panel("text", name, [0, 4 * i, 6, 4], text=name) for i, name in enumerate(("one", "two", "three"))]
    keep(page, demo, "Order", {"panels": texts})
    page.goto(f"{demo.url}/dashboards/Order")
    page.get_by_role("button", name="Arrange").click()
    page.get_by_role("listitem").filter(has_text="three").drag_to(page.get_by_role("listitem").filter(has_text="one"))
    expect(page.locator("ol li").first).to_contain_text("three")
    page.get_by_role("button", name="three later").click()
    expect(page.locator("ol li").first).to_contain_text("one")
    page.get_by_role("button", name="one wider").click()
    page.get_by_role("button", name="two take away").click()
    expect(page.locator("ol li")).to_have_count(2)
    assert axe(page) == []
    page.get_by_role("button", name="Done").click()
    expect(page.get_by_role("region", name="one")).to_be_visible()
    wanted = [("one", [0, 0, 8, 4]), ("three", [0, 4, 6, 4])]
    until(lambda: [(one["title"], one["at"]) for one in kept(page, demo, "Order")] == wanted)
    page.context.request.delete(f"{demo.url}/api/v1/dashboards/Order")


def test_what_is_chosen_at_the_top_is_in_the_address(demo: Demo, page: Page) -> None:
    keep(page, demo, "Sheet", SHEET)
    page.goto(f"{demo.url}/dashboards/Sheet")
    cpu = page.get_by_role("region", name="CPU", exact=True)
    expect(cpu.get_by_text("book-app-n1").first).to_be_visible()
    page.get_by_label("host", exact=True).select_option("book-db-n1")
    expect(cpu.get_by_role("region", name=re.compile("book-db-n1|balise.cpu.busy"))).to_have_count(1)
    expect(cpu.get_by_text("book-app-n1")).to_have_count(0)
    assert "var.host=book-db-n1" in page.url
    page.reload()
    expect(page.get_by_label("host", exact=True)).to_have_value("book-db-n1")


def test_a_dashboard_goes_out_as_a_file_and_comes_back(demo: Demo, page: Page, tmp_path: Path) -> None:
    keep(page, demo, "Sheet", SHEET)
    page.goto(f"{demo.url}/dashboards/Sheet")
    with page.expect_download() as file:
        page.get_by_role("button", name="As a file").click()
    document = json.loads(Path(file.value.path()).read_text())
    document["dashboard"] = "Copy"
    copy = tmp_path / "copy.json"
    copy.write_text(json.dumps(document))
    page.goto(f"{demo.url}/dashboards")
    page.get_by_label("from a file").set_input_files(str(copy))
    expect(page.get_by_role("heading", level=1)).to_contain_text("Copy")
    assert kept(page, demo, "Copy") == kept(page, demo, "Sheet")
    page.context.request.delete(f"{demo.url}/api/v1/dashboards/Copy")
    wrong = tmp_path / "wrong.json"
    wrong.write_text('{"dashboard": "x",\n "panels": [{"kind": "pie"}]}')
    page.goto(f"{demo.url}/dashboards")
    page.get_by_label("from a file").set_input_files(str(wrong))
    expect(page.get_by_role("alert")).to_contain_text("line 2")


def test_kits_bring_dashboards_that_are_narrowed_to_one_service(demo: Demo, page: Page) -> None:
    page.goto(f"{demo.url}/dashboards")
    page.get_by_role("link", name="kit postgresql").click()
    expect(page.get_by_role("region", name="Blocked sessions")).to_be_visible()
    page.get_by_label("host", exact=True).select_option("book-db-n1")
    expect(page.get_by_label("service", exact=True)).to_contain_text("booking")
    assert page.get_by_role("button", name="Arrange").count() == 0
