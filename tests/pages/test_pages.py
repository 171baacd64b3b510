"""The pages as somebody sees and uses them."""

from __future__ import annotations

import json
import re
import socket
import time
from urllib.parse import parse_qs, urlsplit

import pytest
from playwright.sync_api import Browser, Page, Route, expect

from axe import axe
from demo_service import Demo
from running import until
from signing import sign_in


@pytest.mark.parametrize(
    ("path", "heading"),
    [
        ("/", "wrong"),
        ("/fleet", "Fleet"),
        ("/fleet/book-db-n1", "book-db-n1"),
        ("/events", "Events"),
        ("/events/patterns?from=-6h", "Patterns"),
        ("/events/fields?from=-6h", "Fields"),
        ("/events/sign-ins?from=-30h", "Sign-ins"),
        ("/events/sources", "Sources"),
        ("/incidents", "Incidents"),
        ("/incidents/1", "A mounted filesystem"),
        ("/alerts", "Alerts"),
        ("/rules", "Rules"),
        ("/rules/filesystem-filling", "filesystem-filling"),
        ("/rules/new", "New rule"),
        ("/enrol?way=many", "Enrol hosts"),
        ("/enrol?way=list", "Enrol hosts"),
        ("/enrol?way=site", "Enrol hosts"),
        ("/fleet/web-n1/inventory?with=host:web-n2", "What is on web-n1"),
        ("/services", "services"),
        ("/services/1", "booking"),
        ("/probes", "probe"),
        ("/probes/console", "console"),
        ("/applications", "Applications"),
        ("/applications/Booking", "Booking"),
        ("/applications/Booking?edit=yes", "Booking"),
        ("/compare?hosts=book-db-n1,gate-s3,web-n1", "differ in"),
        ("/settings", "Settings"),
        ("/settings/credentials", "Settings"),
        ("/settings/groups", "Settings"),
        ("/settings/plans", "Settings"),
        ("/settings/relays", "Settings"),
        ("/settings/receivers", "Settings"),
        ("/settings/channels", "Settings"),
        ("/settings/callouts", "Settings"),
        ("/settings/duty", "Settings"),
        ("/settings/maintenance", "Settings"),
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


def test_a_page_does_not_wait_for_the_answer_who_it_is_for_unless_nobody_was_signed_in(
    demo: Demo, browser: Browser
) -> None:
    """Of whoever was signed in here last the name is remembered; the console's word counts as soon as it comes."""
    page = browser.new_page()
    sign_in(page, demo.url, "skipper", demo.password)
    waiting: list[Route] = []
    page.route("**/api/v1/session", lambda route: waiting.append(route))
    page.goto(demo.url + "/alerts")
    expect(page.get_by_role("heading", level=1)).to_have_text("Alerts")
    expect(page.get_by_role("link").filter(has_text="Database sessions wait").first).to_be_visible()
    assert waiting
    for route in waiting:
        route.fulfill(json={"name": None, "role": None, "first_page": ""})
    expect(page.get_by_role("heading", level=1)).to_have_text("Sign in to Balise")
    page.goto(demo.url + "/alerts")
    expect(page.get_by_text("the console")).to_be_visible()
    expect(page.get_by_text("skipper ▾")).to_have_count(0)
    page.close()


def test_from_the_board_to_the_cause(demo: Demo, page: Page) -> None:
    """The way a newcomer goes: the board, the incident, the alert, the session everybody waits for, the change before it."""
    page.goto(demo.url)
    row = page.get_by_role("link").filter(has_text="Database sessions wait")
    expect(row).to_contain_text("tariff-import")
    row.click()
    page.wait_for_url("**/incidents/**")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Database sessions wait")
    expect(page.get_by_role("region", name="Log")).to_contain_text("held under alert")
    alerts = page.get_by_role("region", name="Its alerts")
    alerts.get_by_role("link").filter(has_text="Database sessions wait").first.click()
    page.wait_for_url("**/alerts/**")
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


SLOW_TRAIL = """(() => {
  const plain = window.fetch;
  window.fetch = async (...asked) => {
    const url = asked[0] instanceof Request ? asked[0].url : String(asked[0]);
    if (url.endsWith("/trail")) await new Promise((go) => setTimeout(go, 700));
    return plain(...asked);
  };
  window.stoodAt = [];
  const look = () => {
    const section = document.querySelector('[aria-label="Its alerts"]');
    if (section) window.stoodAt.push(Math.round(section.getBoundingClientRect().top + window.scrollY));
    requestAnimationFrame(look);
  };
  look();
})()"""
"""Trails come 0.7 s later, and where the alerts of an incident stand is noted in each frame."""


def test_what_stands_under_a_trail_does_not_move_when_that_comes(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/incidents")
    page.get_by_role("link").filter(has_text="Database sessions wait").first.click()
    page.wait_for_url("**/incidents/*")
    page.add_init_script(SLOW_TRAIL)
    page.reload()
    expect(page.get_by_role("region", name="Trail")).to_be_visible()
    expect(page.get_by_role("region", name="Its alerts")).to_be_visible()
    page.wait_for_timeout(1_500)
    stood = page.evaluate("window.stoodAt")
    assert len(stood) > 10
    assert len(set(stood)) == 1


def test_an_alert_is_parted_from_its_incident_and_joined_again(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/incidents")
    page.get_by_role("link").filter(has_text="Database sessions wait").first.click()
    page.wait_for_url("**/incidents/**")
    whole = page.url
    alerts = page.get_by_role("region", name="Its alerts")
    alerts.get_by_role("checkbox", name="web-n1").check()
    alerts.get_by_role("button", name="Part 1 alert from it").click()
    expect(alerts.get_by_role("link").filter(has_text="web-n1")).to_have_count(0)
    expect(page.get_by_role("region", name="Log")).to_contain_text("parted")
    page.goto(demo.url + "/incidents")
    page.get_by_role("link").filter(has_text=re.compile("slowly.* on web-n1")).first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(re.compile("slowly.* on web-n1"))
    number = page.url.split("?")[0].rsplit("/", 1)[-1]
    page.goto(whole)
    page.get_by_role("button", name="Join …").click()
    page.get_by_label("The number of the incident").fill(number)
    page.get_by_role("button", name="Join it").click()
    expect(alerts.get_by_role("link").filter(has_text="web-n1")).to_have_count(1)


def test_a_callout_is_changed_as_text(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/settings/callouts")
    page.get_by_role("button", name="Change").first.click()
    expect(page.get_by_label("Step 1 tells")).to_have_value("rota:booking")
    page.get_by_role("button", name="As text (YAML)").click()
    text = page.get_by_label("The callout as text, in YAML")
    written = text.input_value()
    assert written.startswith("callout: booking\nwhen: severity ge")
    text.fill(written.replace("again: ", "agian: "))
    expect(page.get_by_text("column 1: agian: there is no such key here")).to_be_visible()
    expect(page.get_by_role("button", name="Keep the callout")).to_be_disabled()
    text.fill(written.replace("after: 10m", "after: 12m"))
    page.get_by_role("button", name="As a sentence").click()
    expect(page.get_by_label("Step 2 after")).to_have_value("12m")
    page.get_by_role("button", name="As text (YAML)").click()
    expect(text).to_have_value(written.replace("after: 10m", "after: 12m"))
    text.fill(written)
    page.get_by_role("button", name="Keep the callout").click()
    expect(page.get_by_text("after 10m")).to_be_visible()


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
    page.get_by_label("Filter", exact=True).fill('group eq "Booking"')
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
    page.get_by_role("button", name="Lines around it").click()
    expect(page.get_by_role("list", name="Lines around it, oldest first")).to_contain_text("tariff-import started")
    page.get_by_label("Text").fill("no such words anywhere")
    expect(page.get_by_text("No event matches in this span")).to_be_visible()


def test_a_filter_is_told_and_mended_while_it_is_typed(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/events")
    typed = page.get_by_label("Filter", exact=True)
    typed.fill('host sw "book-" and severity gee "warning"')
    expect(page.get_by_role("alert")).to_contain_text("'gee' at character 30 is no comparison")
    page.get_by_role("button", name="Put ge at character 30").click()
    told = re.compile(r"host begins with “book-” and severity is warning or worse · \d+ events")
    expect(page.get_by_text(told)).to_be_visible()
    page.locator("summary", has_text="Filters").click()
    page.get_by_label("Name of the filter").fill("booking in trouble")
    page.get_by_role("button", name="Keep").click()
    page.get_by_role("button", name=re.compile("^booking in trouble")).click()
    expect(page).to_have_url(re.compile("filter=booking"))
    item = page.get_by_role("list", name="Events, newest first").get_by_role("button").first
    item.click()
    page.get_by_role("button", name=re.compile("^Without source")).first.click()
    expect(typed).to_have_value(re.compile('and source ne "'))


def test_a_rule_is_checked_while_it_is_typed(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/rules/new")
    page.get_by_label("Name", exact=True).fill("waits-a-lot")
    page.get_by_label("About").fill("Too many wait")
    page.get_by_label("Metric").fill("postgresql.sessions.blocked")
    page.get_by_label("warning", exact=True).fill("2")
    expect(page.get_by_role("region", name="Rehearsal")).to_contain_text("It would have opened")
    page.get_by_label("Only where").fill("host eq")
    expect(page.get_by_role("alert").first).to_contain_text("the filter ends at character")
    page.get_by_label("Only where").fill("")
    page.get_by_label("warning clears at").fill("9")
    expect(page.get_by_role("alert").first).to_contain_text("clear must not be higher than above")
    page.get_by_label("warning clears at").fill("1")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("link", name=re.compile("waits-a-lot"))).to_be_visible()


def test_a_rule_about_running_out_says_what_is_next(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/rules/filesystem-runs-out")
    expect(page.get_by_role("region", name="What runs out next")).to_contain_text(re.compile("within 30d|in "))
    assert axe(page) == []


def test_a_rule_is_changed_as_a_sentence_and_as_text(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/rules/load-high")
    expect(page.get_by_label("Kind of limit")).to_have_value("above")
    page.get_by_role("button", name="As text").click()
    text = page.get_by_label("The rule as text")
    expect(text).to_have_value(re.compile("^rule: load-high\n"))
    said = text.input_value()
    text.fill(said.replace("above:", "over:", 1))
    expect(page.locator("#slips")).to_contain_text(
        re.compile(r"line \d+, column 5: limits.warning.over: there is no such")
    )
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    assert axe(page) == []
    # Typed and taken back at once, it can be saved as before.
    text.fill(said + "x")
    text.fill(said)
    expect(page.get_by_role("button", name="Save")).to_be_enabled()
    text.fill(re.sub(r"^about: .*$", "about: Too much to do", said, flags=re.M))
    page.get_by_role("button", name="As a sentence").click()
    expect(page.get_by_label("About")).to_have_value("Too much to do")
    page.get_by_label("Why").fill("clearer")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("heading", name="Rules")).to_be_visible()
    page.goto(demo.url + "/rules/load-high")
    expect(page.get_by_text("clearer").first).to_be_visible()


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
    expect(page.get_by_role("link").filter(has_text=f"{name} is high")).to_be_visible(timeout=12_000)


def test_the_theme_is_chosen_and_stays(demo: Demo, page: Page) -> None:
    page.goto(demo.url)
    page.get_by_text("skipper ▾").click()
    page.get_by_label("Theme").select_option("lantern")
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(13, 21, 26)"
    page.reload()
    assert page.evaluate("document.documentElement.dataset.theme") == "lantern"
    page.evaluate("localStorage.removeItem('balise.theme')")


def test_a_list_is_enrolled_with_its_mistakes_put_right_and_survives_a_reload(demo: Demo, page: Page) -> None:
    """Three mistakes: a line that cannot be read, a wrong port, a wrong credential. Once only: hosts stay enrolled."""
    lines = [line for line in demo.quays() if line.split()[0] not in _names(page, demo)][:4]
    ports = [line.split()[1].split(":")[1] for line in lines]
    wrong = [lines[0], lines[1].replace(ports[1], "9"), lines[2], lines[3] + " fifth word"]
    page.goto(demo.url + "/fleet")
    page.get_by_role("link", name="Enrol hosts").click()
    page.get_by_role("radio", name="A list of addresses").click()
    text = page.get_by_label("One host a line")
    text.fill("\n".join(wrong))
    page.get_by_label("Credential").select_option(label="quays, balise")
    page.get_by_role("button", name="Read the list").click()
    expect(page.get_by_text("line 4", exact=True)).to_be_visible()
    page.get_by_role("button", name="Test 3 hosts").click()
    expect(text).to_have_value(wrong[3])
    expect(page.get_by_role("status").filter(has_text="3 hosts are being tested")).to_be_visible()
    text.fill(lines[3])
    page.get_by_role("button", name="Read the list").click()
    page.get_by_role("button", name="Test 1 host").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("here", timeout=45_000)
    page.goto(demo.url + "/enrol")
    page.get_by_role("link", name="Put right").first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 host to put right, 2 added", timeout=45_000)
    page.reload()
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 host to put right, 2 added")
    row = page.get_by_role("row").filter(has_text=lines[1].split()[0])
    expect(row).to_contain_text("nothing listens on 127.0.0.1 port 9")
    assert axe(page) == []
    page.get_by_label(f"Port of {lines[1].split()[0]}").fill(ports[1])
    page.get_by_role("button", name="Try 1 host again").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("All 3 are here", timeout=45_000)
    page.get_by_role("link", name=lines[0].split()[0]).click()
    page.get_by_text("Facts, collection and plan").click()
    expect(page.get_by_role("region", name="Collection")).to_contain_text("read over the network, without an agent")
    expect(page.get_by_role("region", name="Facts")).to_contain_text("6.1.0-18-amd64")


def _names(page: Page, demo: Demo) -> set[str]:
    page.goto(demo.url + "/fleet")
    page.get_by_role("table", name="Fleet").wait_for()
    found = page.evaluate("fetch('/api/v1/hosts').then(r => r.json()).then(a => a.items.map(h => h.name))")
    return set(found)


def test_hosts_are_chosen_labelled_and_compared(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/fleet")
    for name in ("book-db-n1", "gate-s3"):
        page.get_by_label(f"Choose {name}", exact=True).check()
    page.get_by_label("Label to set").fill("watch=night")
    page.get_by_role("button", name="Apply to all").click()
    expect(page.get_by_text("2 hosts changed")).to_be_visible()
    page.get_by_text("Columns", exact=True).click()
    page.get_by_label("Labels", exact=True).click()
    assert parse_qs(urlsplit(page.url).query)["columns"][0].endswith("labels")
    expect(page.get_by_role("row").filter(has_text="gate-s3")).to_contain_text("watch=night")
    page.get_by_text("Columns", exact=True).click()
    page.get_by_text("Views", exact=True).click()
    page.get_by_label("Name of the view").fill("by night")
    page.get_by_role("button", name="Keep").click()
    page.goto(demo.url + "/fleet")
    page.get_by_text("Views", exact=True).click()
    page.get_by_role("button", name="by night", exact=True).click()
    expect(page.get_by_role("columnheader", name="Labels")).to_be_visible()
    page.get_by_role("button", name="Delete the view by night").click()
    page.get_by_text("Views", exact=True).click()
    for name in ("book-db-n1", "gate-s3"):
        page.get_by_label(f"Choose {name}", exact=True).check()
    page.get_by_role("link", name="Compare").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("2 hosts differ in")
    page.get_by_label("Only what differs").click()
    expect(page.get_by_role("row").filter(has_text="Architecture")).to_have_count(0)
    expect(page.get_by_role("row").filter(has_text="Cores")).to_contain_text("8")


def test_a_plan_is_checked_while_it_is_typed(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/settings/plans")
    page.get_by_role("button", name="New plan").click()
    text = page.get_by_label("The plan, in YAML")
    text.fill("plan: slow\nfor: {host: web-n1}\ncollect:\n  evry: 30s\n")
    expect(page.get_by_text("line 4, column 3")).to_be_visible()
    expect(page.get_by_role("button", name="Keep the plan")).to_be_disabled()
    text.fill("plan: slow\nfor: {host: web-n1}\ncollect:\n  every: 30s\n")
    expect(page.get_by_text("For 1 host now; keeping it changes 1")).to_be_visible()
    page.get_by_role("button", name="Keep the plan").click()
    expect(page.get_by_role("row").filter(has_text="the host web-n1")).to_be_visible()
    page.get_by_role("row").filter(has_text="the host web-n1").get_by_role("button", name="Change").click()
    page.once("dialog", lambda d: d.accept())
    page.get_by_role("button", name="Delete").click()
    expect(page.get_by_role("row").filter(has_text="the host web-n1")).to_have_count(0)


def test_a_groups_filter_shows_what_it_would_choose(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/settings/groups")
    page.get_by_label("Chosen by the filter").fill('label.role eq "database"')
    expect(page.get_by_text("It chooses 1 host")).to_be_visible()
    page.get_by_label("Chosen by the filter").fill('state eq "ok"')
    expect(page.get_by_text("cannot be chosen by state")).to_be_visible()


def test_a_services_page_names_the_root_of_the_chain_first(demo: Demo, page: Page) -> None:
    page.goto(f"{demo.url}/services")
    page.get_by_role("row", name="book-db-n1").get_by_role("link", name="booking").click()
    sessions = page.get_by_role("region", name="Who blocks whom")
    expect(sessions.get_by_role("heading")).to_contain_text("wait for tariff-import (session 4711)")
    first = sessions.get_by_role("row").nth(1)
    expect(first).to_contain_text("tariff-import")
    expect(first).to_contain_text("holds")
    # It stands above the lanes: what is worst comes first.
    assert sessions.bounding_box()["y"] < page.get_by_role("slider").bounding_box()["y"]  # type: ignore[index]
    expect(page.get_by_text("depends on it: book-app-n1")).to_be_visible()


def test_an_application_says_whom_a_parts_trouble_hurts(demo: Demo, page: Page) -> None:
    page.goto(f"{demo.url}/applications")
    page.get_by_role("link", name="Booking").first.click()
    diagram = page.get_by_role("region", name="Line diagram")
    expect(diagram.get_by_role("button", name="web-n1")).to_contain_text("held up by")
    diagram.get_by_role("button", name="book-db-n1").click()
    about = page.get_by_role("region", name="book-db-n1")
    expect(about).to_contain_text("What depends on it")
    expect(about.get_by_role("listitem").filter(has_text="web-n1")).to_be_visible()
    about.get_by_role("link", name="book-db-n1").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("booking")


def test_a_probe_is_tried_kept_and_taken_away(demo: Demo, page: Page) -> None:
    page.goto(f"{demo.url}/probes")
    page.get_by_role("button", name="New probe").click()
    page.get_by_label("URL").fill(f"{demo.url}/")
    page.get_by_label("Name of the probe").fill("front page")
    page.get_by_label("The answer has in it").fill("no such words")
    page.get_by_role("button", name="Try it once").click()
    expect(page.get_by_role("status").filter(has_text="no such words")).to_be_visible()
    page.get_by_label("The answer has in it").fill("Balise")
    page.get_by_role("button", name="Keep it").click()
    row = page.get_by_role("row", name="front page")
    expect(row).to_contain_text("200 OK", timeout=45_000)
    row.get_by_role("link", name="front page").click()
    expect(page.get_by_role("region", name="From every place")).to_contain_text("wait for the answer")
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Delete").click()
    expect(page.get_by_role("row", name="front page")).to_have_count(0)


def test_two_hosts_inventory_is_compared_and_a_change_is_seen(demo: Demo, page: Page) -> None:
    page.goto(f"{demo.url}/fleet/web-n1")
    page.get_by_role("link", name="Inventory and changes").click()
    page.get_by_role("navigation", name="Kinds").get_by_role("button", name="packages").click()
    expect(page.get_by_role("row", name="nginx")).to_contain_text("1.24.0-2")
    page.get_by_label("Compare with").select_option("host:web-n2")
    comparison = page.get_by_role("region", name="Comparison")
    expect(comparison.get_by_role("row", name="nginx")).to_contain_text("1.24.0-1")
    page.goto(f"{demo.url}/fleet/web-n1/inventory?from=-24h")
    expect(page.get_by_text("package nginx: version 1.24.0-1 → 1.24.0-2")).to_be_visible()


def test_a_pattern_leads_to_its_lines_and_a_line_to_its_own_address(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/events/patterns?from=-6h&order=count")
    row = page.get_by_role("link", name=re.compile("barrier … cycle … finished in … ms"))
    row.first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Events")
    lines = page.get_by_role("list", name="Events, newest first")
    expect(lines.get_by_role("button").first).to_contain_text("finished in")
    assert 'pattern eq "' in parse_qs(urlsplit(page.url).query)["where"][0]
    lines.get_by_role("button").first.click()
    page.get_by_role("button", name=re.compile("^Count host ")).click()
    expect(page.get_by_label(re.compile("^host .* over the span"))).to_be_visible()
    page.get_by_role("link", name="Link to this event").click()
    page.wait_for_url("**/events/one/**")
    expect(lines).to_have_count(0)
    expect(page.get_by_text("barrier")).to_be_visible()
    page.get_by_role("button", name="Lines around it").click()
    expect(page.get_by_role("list", name="Lines around it, oldest first").locator("[aria-current]")).to_have_count(1)


def test_events_are_followed_and_held_while_paused(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/events")
    page.get_by_role("button", name="Follow").click()
    section = page.get_by_role("region", name="Events as they come")
    expect(section.get_by_role("status")).to_contain_text(re.compile(r"[1-9]\d* events? since"), timeout=30_000)
    section.get_by_role("button", name="Pause").click()
    there = section.get_by_role("listitem").count()
    expect(section.get_by_role("status")).to_contain_text(re.compile(r"Paused: [1-9]"), timeout=30_000)
    assert section.get_by_role("listitem").count() == there
    section.get_by_role("button", name="Go on").click()
    expect(section.get_by_role("status")).to_contain_text("As they come")
    until(lambda: section.get_by_role("listitem").count() > there)


def test_who_tried_to_get_in_is_seen_first(demo: Demo, page: Page) -> None:
    [receiver] = page.request.get(f"{demo.url}/api/v1/receivers").json()["items"]
    said = [
        f"Failed password for invalid user {name} from 203.0.113.66 port 4"
        for name in ["root", "admin", "test", "ftp", "git"]
    ]
    said += ["Failed password for fares from 198.51.100.23 port 5"] * 6
    said += ["Accepted password for fares from 198.51.100.23 port 5"]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        for line in said:
            place = ("127.0.0.1", int(receiver["listen"].rpartition(":")[2]))
            moment = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(time.time() - 60))
            sender.sendto(f"<86>1 {moment} bastion-h1 sshd - - - {line} ssh2".encode(), place)
    page.goto(demo.url + "/events/sign-ins?from=-30h")
    rows = page.get_by_role("row")
    expect(rows.nth(1)).to_contain_text("got in after many failures")
    expect(rows.nth(1)).to_contain_text("198.51.100.23")
    expect(page.get_by_role("row", name=re.compile("203.0.113.66"))).to_contain_text("tries many accounts")
    page.get_by_label("sweeps from").fill("30")
    expect(page.get_by_role("row", name=re.compile("203.0.113.66"))).to_contain_text("fails")
    page.get_by_role("button", name="by account", exact=True).click()
    expect(page.get_by_role("row", name=re.compile("fares"))).to_contain_text("got in after many failures")


def test_a_value_is_asked_for_from_the_fields(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/events/fields?from=-6h")
    page.get_by_role("button", name="Only severity warning").click()
    expect(page.get_by_label("Filter", exact=True)).to_have_value('severity eq "warning"')
    section = page.get_by_role("region", name="severity")
    expect(section.get_by_role("listitem")).to_have_count(1)


def test_what_is_shown_is_exported(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/events?from=-6h&where=" + "severity%20eq%20%22warning%22")
    page.locator("summary", has_text="Export").click()
    with page.expect_download() as download:
        page.get_by_role("button", name="JSON Lines").click()
    lines = download.value.path().read_text().splitlines()
    assert len(lines) > 10
    assert {json.loads(line)["severity"] for line in lines} == {"warning"}


def test_a_sender_is_let_in_by_one_click_and_a_receiver_is_seen(demo: Demo, page: Page) -> None:
    page.goto(demo.url + "/settings/receivers")
    expect(page.get_by_role("row", name=re.compile("devices"))).to_contain_text("listening")
    page.goto(demo.url + "/enrol")
    row = page.get_by_role("row", name=re.compile("sends syslog.*devices")).first
    name = (row.get_by_role("cell").first.text_content() or "").strip()
    row = page.get_by_role("row", name=re.compile(name))
    row.get_by_role("button", name="Let in").click()
    expect(row).to_have_count(0)
    page.goto(demo.url + f"/events/sources?host={name}")
    expect(page.get_by_role("row", name=re.compile("devices"))).to_contain_text("following")
