"""The console in headless Chromium, on the demo with a few hosts."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from demo_service import CHROMIUM, Demo
from running import PATIENCE
from signing import sign_in

LOADS_WITHIN = 30_000.0 * PATIENCE
"""Milliseconds."""
expect.set_options(timeout=30_000)


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    made = Demo(tmp_path_factory.mktemp("demo"))
    yield made
    made.stop()
    assert "Traceback" not in made.log.read_text()


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """A browser for the module alone: while Playwright runs, no other test can run an event loop of its own."""
    with sync_playwright() as playwright:
        made = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox", "--disable-dev-shm-usage"])
        yield made
        made.close()


@pytest.fixture(scope="module", params=["light", "dark"])
def signed_in(demo: Demo, browser: Browser, request: pytest.FixtureRequest) -> Iterator[BrowserContext]:
    """A browser in the day or the dark theme, signed in."""
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, color_scheme=request.param, reduced_motion="reduce"
    )
    context.set_default_navigation_timeout(LOADS_WITHIN)
    page = context.new_page()
    sign_in(page, demo.url, "skipper", demo.password)
    page.close()
    yield context
    context.close()


@pytest.fixture(params=product(["light", "dark"], [(1280, 800), (1920, 1080), (390, 844)]), ids=str)
def sized(demo: Demo, browser: Browser, request: pytest.FixtureRequest) -> Iterator[Page]:
    """A page of each size and theme, signed in."""
    scheme, (width, height) = request.param
    context = browser.new_context(
        viewport={"width": width, "height": height},
        color_scheme=scheme,
        reduced_motion="reduce",
    )
    context.set_default_navigation_timeout(LOADS_WITHIN)
    made = context.new_page()
    sign_in(made, demo.url, "skipper", demo.password)
    yield made
    context.close()


@pytest.fixture
def page(signed_in: BrowserContext) -> Iterator[Page]:
    """A page that fails the test when the browser has something to complain of."""
    made = signed_in.new_page()
    complaints: list[str] = []
    # A form that is checked while it is typed gets its refusals as 422: the browser notes each as an error.
    made.on(
        "console",
        lambda m: complaints.append(m.text) if m.type in ("error", "warning") and "422" not in m.text else None,
    )
    made.on("pageerror", lambda e: complaints.append(str(e)))
    yield made
    made.close()
    assert complaints == []
