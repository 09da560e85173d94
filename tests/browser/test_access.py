"""The page for everybody: an automatic audit of every screen, and the light that the looks give."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from running import Running, small_night

OpenPage = Callable[..., Page]
WEB = Path(os.environ.get("BEACON_WEB", Path(__file__).resolve().parents[2] / "web"))
AXE = (WEB / "node_modules" / "axe-core" / "axe.min.js").read_text()
STAGES = ("Intake", "Correct", "Vet", "Place", "Cast", "Measure", "Curve", "Report")
LOOKS = ("night", "day", "red lamp")
TAGS = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]

_AUDIT = """async (tags) => {
    const found = await axe.run(document, { runOnly: { type: "tag", values: tags } });
    return found.violations.map((v) => [
        v.id, v.help, ...v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160) + n.failureSummary)
    ]);
}"""


def audit(page: Page) -> list[Any]:
    """What an audit by WCAG 2.2 AA finds on the page as it stands."""
    page.evaluate(AXE)
    found: list[Any] = page.evaluate(_AUDIT, TAGS)
    return found


def to_stage(page: Page, name: str) -> None:
    page.get_by_label("stages").get_by_role("button", name=name).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(name)
    expect(page.get_by_test_id("next")).to_be_visible()
    expect(page.get_by_test_id("bench").locator("section").nth(1)).to_be_visible()


@pytest.mark.parametrize("look", LOOKS)
def test_every_screen_passes_the_audit(open_page: OpenPage, campaign: int, look: str) -> None:
    page = open_page(campaign, "intake")
    page.get_by_label("look").select_option(label=look)
    for name in STAGES:
        to_stage(page, name)
        assert audit(page) == [], f"{name}, {look}"


def test_what_lies_over_the_page_passes_the_audit(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "curve")
    expect(page.get_by_test_id("curve-target").locator("canvas")).to_be_visible()
    for key in ("?", "l", "o"):
        page.keyboard.press(key)
        expect(page.get_by_role("dialog")).to_be_visible()
        assert audit(page) == [], key
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)
    page.get_by_role("button", name="▾").first.click()
    expect(page.get_by_label("name of this campaign")).to_be_visible()
    assert audit(page) == []
    page.keyboard.press("Escape")
    page.get_by_label("stages").get_by_role("button", name="Intake").click()
    page.get_by_label("choose the star catalogue").click()
    expect(page.get_by_role("dialog")).to_be_visible()
    assert audit(page) == []


_LIGHT = """() => [...document.querySelectorAll("canvas")].map((canvas) => {
    const { width, height } = canvas;
    if (!width || !height) return [0, 0, 0];
    const { data } = canvas.getContext("2d").getImageData(0, 0, width, height);
    let [lit, green, blue] = [0, 0, 0];
    for (let i = 0; i < data.length; i += 4) {
        const [r, g, b] = [data[i], data[i + 1], data[i + 2]];
        if (data[i + 3] < 128 || Math.max(r, g, b) < 40) continue;
        lit += 1;
        if (g > 0.65 * r + 6) green += 1;
        if (b > 0.58 * r + 6) blue += 1;
    }
    return [lit, green, blue];
})"""


@pytest.mark.parametrize("name", ["Cast", "Curve", "Measure"])
def test_the_red_lamp_is_red_at_once(open_page: OpenPage, campaign: int, name: str) -> None:
    page = open_page(campaign, "vet")
    to_stage(page, name)
    canvases = page.locator("canvas")
    expect(canvases.first).to_be_visible()
    if name == "Cast":
        expect(page.get_by_test_id("plate").locator("canvas[data-shown]").first).to_be_visible()
    page.get_by_label("look").select_option(label="day")
    page.get_by_label("look").select_option(label="red lamp")
    expect(page.locator("html")).to_have_attribute("data-look", "red")
    # Two frames: what is to be drawn anew has been drawn.
    page.evaluate("() => new Promise((f) => requestAnimationFrame(() => requestAnimationFrame(f)))")
    light = page.evaluate(_LIGHT)
    assert sum(lit for lit, _, _ in light) > 1000
    assert [(green, blue) for _, green, blue in light] == [(0, 0)] * len(light)


def test_remarks_are_shown_where_they_belong_and_counted(
    open_page: OpenPage, running: Running
) -> None:
    folder = running.nights / "remarks"
    small_night(folder, exposures=8, seed=17)
    plan = folder / "plan.toml"
    lines = [line for line in plan.read_text().splitlines() if "aperture_m" not in line]
    plan.write_text("\n".join(lines).replace("latitude_deg", "#").replace("longitude_deg", "#")
                    .replace("elevation_m", "#"))  # fmt: skip
    campaign = running.client().reduced(folder, "remarks")
    page = open_page(campaign, "intake")
    told = running.client().get(f"campaigns/{campaign}")["remarks"]
    assert len(told) >= 2
    shown = 0
    for name in STAGES:
        to_stage(page, name)
        shown += page.get_by_test_id("remarks").locator("li").count()
    assert shown == len(told)
    first = next(n for n in STAGES if n.lower() == told[0]["stage"])
    entry = page.get_by_label("stages").get_by_role("button", name=first)
    to_stage(page, first)
    before = int(re.sub(r"\D", "", entry.inner_text()) or 0)
    remark = page.get_by_test_id("remarks").locator("li").first
    details = remark.locator("details")
    details.evaluate("(d) => { d.open = true; }")
    remark.get_by_role("button", name="seen").click()
    expect(entry).to_have_text(re.compile(rf"{first}({before - 1})?$"))
    details.evaluate("(d) => { d.open = true; }")
    remark.get_by_role("button", name="look at it again").click()
    expect(entry).to_have_text(f"{first}{before}")
