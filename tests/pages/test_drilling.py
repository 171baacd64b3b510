"""From the whole fleet down to the one: what a host was busy with, the roll-up, availability, the fleet table, screens."""

from __future__ import annotations

import re
from urllib.parse import quote

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from axe import axe
from demo_service import Demo
from signing import sign_in


class Clicks:
    """Clicks that are counted, from Now on."""

    def __init__(self, page: Page, demo: Demo) -> None:
        self.page = page
        self.made = 0
        page.goto(demo.url + "/")
        expect(page.get_by_role("table", name="Who is worst")).to_be_visible()

    def on(self, what: Locator) -> Clicks:
        what.first.click()
        self.made += 1
        return self

    def link(self, name: str | re.Pattern[str]) -> Clicks:
        return self.on(self.page.get_by_role("link", name=name, exact=isinstance(name, str)))

    def button(self, name: str | re.Pattern[str]) -> Clicks:
        return self.on(self.page.get_by_role("button", name=name, exact=isinstance(name, str)))

    def shows(self, text: str) -> None:
        """What was looked for is on the page, after five clicks at the most."""
        expect(self.page.locator("main").get_by_text(text).first).to_be_visible()
        assert self.made <= 5


def at_host(page: Page, demo: Demo, site: str, host: str) -> Clicks:
    """On the page of a host by the roll-up of Now: its site unfolded, its group, the host."""
    clicks = Clicks(page, demo).button(f"What is below {site}").button("What is below Booking").link(host)
    expect(page.get_by_role("heading", level=1)).to_contain_text(host)
    return clicks


@pytest.mark.parametrize(
    ("kind", "text"),
    [
        ("processes", "postgres: tariff-import"),
        ("users", "balise"),
        ("sessions", "4711, fares from 203.0.113.17"),
        ("statements", "update fares set price"),
        ("signed-in people", "from 203.0.113.88"),
    ],
)
def test_from_now_to_the_one_is_five_clicks_at_most(demo: Demo, page: Page, kind: str, text: str) -> None:
    clicks = at_host(page, demo, "northquay", "book-db-n1").link("What it was busy with")
    if kind != "processes":
        clicks.button(kind)
    clicks.shows(text)


def test_from_now_to_a_web_request_and_to_a_log_line_is_five_clicks_at_most(demo: Demo, page: Page) -> None:
    at_host(page, demo, "northquay", "web-n1").link("What it was busy with").button("web requests").shows(
        "GET /sailings/{n}"
    )
    clicks = at_host(page, demo, "northquay", "book-db-n1").link("All events of it")
    clicks.on(page.get_by_role("list", name="Events, newest first").get_by_role("button")).shows("Link to this event")


def test_a_session_leads_to_its_process_and_that_to_its_lines_and_back(demo: Demo, page: Page) -> None:
    page.goto(f"{demo.url}/fleet/book-db-n1/processes?of=statement")
    row = page.get_by_role("row").filter(has_text="update fares set price")
    row.get_by_role("button", name="who ran it").click()
    row = page.get_by_role("row").filter(has_text="4711, fares")
    row.get_by_role("button", name="its process").click()
    row = page.get_by_role("row").filter(has_text="postgres: tariff-import")
    expect(row).to_have_attribute("aria-current", "true")
    expect(row.get_by_role("link", name="booking")).to_be_visible()
    row.get_by_role("link", name="log lines").click()
    lines = page.get_by_role("list", name="Events, newest first").get_by_role("button")
    expect(lines.first).to_be_visible()
    lines.first.click()
    page.get_by_role("link", name=re.compile("busy with then|process that wrote it")).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("was busy with")


def test_the_roll_up_says_which_layer_and_leads_on(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/")
    tree = page.get_by_role("table", name="Who is worst")
    south = tree.get_by_role("row").filter(has_text="southquay")
    expect(south.get_by_label("storage critical")).to_be_visible()
    expect(south).to_contain_text("gate-s3: A mounted filesystem is running out of space")
    page.get_by_label("Roll up by").select_option("application")
    expect(tree.get_by_role("link", name="Boarding gates")).to_be_visible()
    assert "by=application" in page.url
    page.get_by_label("Roll up by").select_option("label.role")
    tree.get_by_role("link", name="gate-controller", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("gate-controller")
    expect(page.get_by_role("list", name="Open incidents")).to_contain_text("gate-s3")
    page.get_by_role("link", name="As a table").click()
    expect(page.get_by_label("Filter", exact=True)).to_have_value('label.role eq "gate-controller"')
    page.goto(f"{demo.url}/applications/Booking")
    its = page.get_by_role("region", name="Its hosts")
    expect(its.get_by_role("link", name="book-db-n1")).to_be_visible()


def test_now_says_in_words_whether_anybody_is_hurt(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/")
    expect(page.get_by_text(re.compile("in trouble for those who use|hurt a little|Nobody who uses"))).to_be_visible()
    expect(page.get_by_role("region", name="Changed in the last 24 hours")).to_contain_text("log.level info → debug")
    expect(page.get_by_role("region", name="Runs out this week")).to_be_visible()
    expect(page.get_by_role("region", name="Where data stopped")).to_be_visible()


def test_any_metric_is_a_column_of_the_fleet_and_groups_have_sums(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/fleet?columns=groups,cpu")
    page.get_by_text("Columns", exact=True).click()
    page.get_by_label("What the column shows").fill("system.disk.io")
    page.get_by_label("Take", exact=True).select_option("max")
    page.get_by_label("Over", exact=True).select_option("1h")
    page.get_by_label("Only where").fill('disk.io.direction eq "read"')
    page.get_by_role("button", name="Add the column").click()
    page.get_by_label("What the column shows").fill("label:role")
    page.get_by_role("button", name="Add the column").click()
    page.get_by_text("Columns", exact=True).click()
    table = page.get_by_role("table", name="Fleet")
    expect(table.get_by_role("columnheader", name="role")).to_be_visible()
    table.get_by_role("button", name="CPU").click()
    rows = table.get_by_role("row")
    shown = page.evaluate(
        """fetch('/api/v1/hosts/table', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify(
           {columns: [{metric: 'balise.cpu.busy', take: 'avg', over: '5m'}], sort: [{column: 0, descending: true}]})})
           .then(r => r.json()).then(a => a.items.map(i => i.host))"""
    )
    expect(rows.nth(1)).to_contain_text(shown[0])
    page.get_by_label("lines", exact=True).check()
    expect(rows.nth(1).locator("svg path").nth(1)).to_be_visible()
    page.get_by_label("Grouped").select_option("site")
    groups = page.get_by_role("region", name="Groups by site")
    expect(groups.get_by_role("row").filter(has_text="northquay")).to_contain_text("mean")
    groups.get_by_role("button", name="southquay").click()
    expect(page.get_by_label("Filter", exact=True)).to_have_value('site eq "southquay"')
    expect(rows.filter(has_text="gate-s3")).to_have_count(1)
    page.reload()
    expect(table.get_by_role("columnheader", name="role")).to_be_visible()
    page.get_by_label("Choose gate-s3", exact=True).check()
    page.get_by_role("form", name="What to do with").get_by_role("link", name="Charts").click()
    expect(page.get_by_label("Filter", exact=True)).to_have_value('host eq "gate-s3"')


def test_availability_of_one_with_a_target(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/availability?of=host")
    page.get_by_role("button", name="book-db-n1").click()
    page.get_by_role("button", name="set one").click()
    page.get_by_label("percent up").fill("99.9")
    page.get_by_role("button", name="Keep").click()
    target = page.get_by_role("region", name="Target")
    expect(target).to_contain_text("99.9 % of each month")
    expect(target).to_contain_text(re.compile("may be down|Missed"))
    page.get_by_role("button", name="change it").click()
    page.get_by_label("percent up").fill("120")
    page.get_by_role("button", name="Keep").click()
    expect(target.get_by_role("alert")).to_be_visible()
    page.get_by_role("button", name="No target").click()
    expect(target).to_contain_text("No target is set")
    page.get_by_role("button", name="all hosts").click()
    page.get_by_label("Availability of").select_option("application")
    expect(page.get_by_role("button", name="Booking")).to_be_visible()


def test_a_screen_shows_its_dashboards_alone(demo: Demo, page: Page, browser: Browser) -> None:
    context, base = page.context, f"{demo.url}/api/v1"
    for name in ("wall one", "wall two"):
        panel = {"kind": "text", "title": name, "at": [0, 0, 12, 4], "query": {"text": f"here is {name}"}}
        context.request.put(f"{base}/dashboards/{quote(name)}", data={"panels": [panel], "shared": True})
    page.goto(f"{demo.url}/settings/tokens")
    page.get_by_label("Name", exact=True).fill("wall")
    page.get_by_label("Role").select_option("screen")
    page.get_by_label("Dashboards it may see").fill("wall one, wall two")
    page.get_by_role("button", name="Make").click()
    address = page.get_by_text(re.compile(r"/screen/.*#token=")).first.inner_text().strip()
    nobody = browser.new_context(viewport={"width": 1920, "height": 1080}, color_scheme="dark")
    wall = nobody.new_page()
    wall.goto(address.replace("#", "?every=5#"))
    expect(wall.get_by_text("here is wall one")).to_be_visible()
    assert wall.get_by_role("navigation").count() == 0
    expect(wall.get_by_text("here is wall two")).to_be_visible()
    assert axe(wall) == []
    wall.goto(demo.url + "/screen/Sheet" + address[address.index("#") :])
    wall.reload()
    expect(wall.get_by_role("alert")).to_be_visible()
    wall.goto(demo.url + "/")
    expect(wall.get_by_role("heading", name="Sign in to Balise")).to_be_visible()
    nobody.close()
    for name in ("wall one", "wall two"):
        context.request.delete(f"{base}/dashboards/{quote(name)}")


def test_the_console_begins_with_the_page_that_was_chosen(demo: Demo, browser: Browser) -> None:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    sign_in(page, demo.url, "skipper", demo.password)
    page.goto(demo.url + "/fleet?group=site")
    page.get_by_text("skipper ▾").click()
    page.get_by_role("button", name="begin with this page").click()
    expect(page.get_by_text("begins with /fleet?group=site")).to_be_visible()
    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Name").fill("skipper")
    page.get_by_label("Password").fill(demo.password)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("region", name="Groups by site")).to_be_visible()
    page.get_by_text("skipper ▾").click()
    page.get_by_role("button", name="with Now", exact=True).click()
    expect(page.get_by_text("begins with Now")).to_be_visible()
    context.close()


def test_a_dashboard_is_made_from_nothing(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/dashboards")
    page.get_by_label("Name of a new dashboard").fill("Mine")
    page.get_by_role("button", name="Begin an empty one").click()
    page.get_by_role("button", name="add panels here").click()
    page.get_by_role("button", name="Add $site").click()
    page.get_by_label("What it shows").fill("gibberish")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("alert")).to_contain_text("ask like")
    page.get_by_label("What it shows").fill('max of system.filesystem.utilization where site eq "$site"')
    page.get_by_label("Its title").fill("Fullest")
    page.get_by_role("button", name="Add it").click()
    page.get_by_label("Kind of panel").select_option("states")
    page.get_by_label("Its title").fill("Sites")
    page.get_by_role("button", name="Add it").click()
    expect(page.locator("ol li")).to_have_count(2)
    page.get_by_label("shared with everybody").check()
    page.get_by_role("button", name="Done").click()
    expect(page.get_by_role("region", name="Sites")).to_contain_text("northquay")
    page.get_by_label("site", exact=True).select_option("northquay")
    expect(page.get_by_role("region", name="Fullest")).to_contain_text("%")
    page.goto(demo.url + "/incidents")
    page.get_by_role("button", name="pin to a dashboard").click()
    page.get_by_role("button", name="Mine", exact=True).click()
    page.get_by_role("link", name="Mine", exact=True).click()
    expect(page.get_by_role("region", name="Open incidents")).to_contain_text("gate-s3")
    page.context.request.delete(f"{demo.url}/api/v1/dashboards/Mine")


NEW_PAGES = [
    "/fleet/book-db-n1/processes",
    "/fleet/book-db-n1/processes?of=statement",
    "/fleet/book-db-n1/processes?of=people",
    "/fleet/web-n1/processes?of=path",
    "/below/site=northquay",
    "/availability?of=host",
    "/availability?of=host&name=gate-s3",
    "/fleet?group=site&lines=1&columns=groups,cpu,disk,label:role,count:alerts",
]


def test_new_pages_pass_axe_and_fit(demo: Demo, sized: Page) -> None:
    for path in NEW_PAGES:
        sized.goto(demo.url + path)
        expect(sized.get_by_role("heading", level=1).first).to_be_attached()
        expect(sized.locator("[aria-busy=true]")).to_have_count(0)
        sized.wait_for_timeout(200)
        assert axe(sized) == [], path
        assert sized.evaluate("document.documentElement.scrollWidth <= window.innerWidth"), path


@pytest.mark.parametrize(
    ("address", "asked", "code", "row"),
    [
        ("/fleet", ("/api/v1/hosts", "/api/v1/hosts/table"), "/assets/Fleet-", "main a[href^='/fleet/']"),
        ("/fleet/book-db-n1", ("/api/v1/hosts/book-db-n1",), "/assets/Host-", "main h1"),
    ],
)
def test_what_a_page_shows_first_is_on_its_way_before_its_code_and_is_asked_once(
    demo: Demo, page: Page, address: str, asked: tuple[str, ...], code: str, row: str
) -> None:
    page.goto(demo.url + address)
    expect(page.locator(row).first).to_be_visible()
    found = page.evaluate("performance.getEntriesByType('resource').map(e => [new URL(e.name).pathname, e.startTime])")
    [code_at] = [at for name, at in found if name.startswith(code)]
    for one in asked:
        [at] = [at for name, at in found if name == one]
        assert at < code_at
