"""Signing in to the console in a browser."""

from __future__ import annotations

from playwright.sync_api import Page


def sign_in(page: Page, url: str, name: str, password: str) -> None:
    """Fills in the page of `url` that asks who it is, and waits until it lets in."""
    page.goto(url)
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(password)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_text(f"{name} ▾").first.wait_for()
