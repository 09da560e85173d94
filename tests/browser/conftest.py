"""Debian's Chromium through Playwright, with a fresh profile for every test."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from running import Running, small_night

CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip
if not os.access("/dev/shm", os.W_OK):  # shared memory of an administrator's alone
    FLAGS.append("--disable-dev-shm-usage")
expect.set_options(timeout=60_000)


@pytest.fixture(scope="session")
def campaign(running: Running) -> int:
    """A campaign that only tests of the page see and change."""
    folder = running.nights / "page"
    small_night(folder)
    return running.client().reduced(folder, "page")


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield chromium
        chromium.close()


@pytest.fixture
def context(browser: Browser, running: Running) -> Iterator[BrowserContext]:
    """A browser of its own, signed in; every error on its pages fails the test."""
    made = browser.new_context(viewport={"width": 1280, "height": 800})
    made.set_default_timeout(60_000)
    errors: list[str] = []
    made.on("weberror", lambda error: errors.append(str(error.error)))
    first = made.new_page()
    first.goto(running.address())
    first.close()
    yield made
    made.close()
    assert not errors


@pytest.fixture
def open_page(context: BrowserContext, running: Running):  # type: ignore[no-untyped-def]
    """Opens a stage of a campaign in a new tab."""

    def open_stage(campaign: int | None = None, stage: str = "intake") -> Page:
        page = context.new_page()
        page.goto(running.url + ("/" if campaign is None else f"/#/{campaign}/{stage}"))
        expect(page.get_by_test_id("rail")).to_be_visible()
        return page

    return open_stage


@pytest.fixture
def downloads(tmp_path: Path) -> Path:
    return tmp_path
