"""The page as an observer uses it: a raw night to a report, roles, undo, two tabs, trouble."""

from __future__ import annotations

import csv
import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import BrowserContext, Page, expect

from running import UNKIND, Running, small_night, true_magnitudes

OpenPage = Callable[..., Page]
LONG_MS = 90_000
BRIGHTEST = """
const canvas = document.querySelector("[data-testid=loupe] canvas");
const data = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data;
const [red, green, blue] = [0, 1, 2].map((at) => Math.max(...data.filter((_, n) => n % 4 === at)));
"""
"""Of the loupe's picture."""


def stage(page: Page, name: str) -> None:
    page.get_by_label("stages").get_by_role("button", name=name).click()


def test_a_raw_night_becomes_a_report(
    running: Running, open_page: OpenPage, downloads: Path
) -> None:
    folder = running.nights / "walk"
    truth = true_magnitudes(small_night(folder, seed=11))
    page = open_page()
    page.get_by_role("button", name=re.compile("▾|no campaign")).first.click()
    page.get_by_role("button", name="New campaign …").click()
    page.get_by_role("dialog").get_by_label("name").fill("walked")
    page.get_by_label("path of the folder").fill(str(folder / "raw"))
    page.get_by_label("path of the folder").press("Enter")
    page.get_by_role("button", name="Sort this folder").click()

    page.get_by_role("radio", name="needs an answer 1").click(timeout=LONG_MS)
    # Sorted and looked at, one job after the other: then nothing moves.
    running.client().wait(int(page.url.split("#/")[1].split("/")[0]))
    expect(page.get_by_test_id("progress")).to_be_hidden(timeout=LONG_MS)
    page.get_by_role("option", name=UNKIND).click()
    page.get_by_label("kind", exact=True).select_option("exposure")
    page.get_by_role("button", name="Keep for 1 file").click()
    expect(page.get_by_role("radio", name="needs an answer 0")).to_be_visible()

    # The exposures were looked at by themselves, which takes masters; one came in later.
    stage(page, "Vet")
    expect(page.get_by_text("Reference exposure")).to_be_visible(timeout=LONG_MS)
    page.get_by_role("button", name="Look at them").click()
    expect(page.get_by_text("Not looked at yet")).to_be_hidden(timeout=LONG_MS)
    stage(page, "Correct")
    expect(page.get_by_text("raw, as read")).to_be_visible(timeout=LONG_MS)
    page.get_by_role("button", name="Next: Place").click()
    page.get_by_role("button", name="Place the night").click(timeout=LONG_MS)
    page.get_by_role("button", name="Next: Measure").click(timeout=LONG_MS)
    page.get_by_role("button", name="Measure the night").click()
    expect(page.get_by_test_id("radius")).to_be_visible(timeout=LONG_MS)
    expect(page.get_by_test_id("budget")).to_be_visible()
    stage(page, "Cast")
    expect(page.get_by_text("Line-up")).to_be_visible()
    stage(page, "Curve")
    expect(page.get_by_test_id("curve-target").locator("canvas")).to_be_visible()
    expect(page.get_by_text("24 points")).to_be_visible()
    page.get_by_role("button", name="Next: Report").click()
    expect(page.get_by_test_id("preview")).to_contain_text("Light curve of Foxglove 7")
    page.get_by_role("button", name="Export the report").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="light_curve.csv").click()
    path = downloads / "light_curve.csv"
    download.value.save_as(path)
    with path.open() as file:
        rows = list(csv.DictReader(file))
    errors = np.array([float(r["magnitude"]) - truth[Path(r["exposure"]).name] for r in rows])
    assert len(rows) == 24
    # 4.5 mmag each at this brightness, and a common offset from the catalogue of some 2 mmag.
    assert abs(np.median(errors)) < 0.006
    assert np.std(errors) < 0.007


def test_a_night_without_a_plan_is_led_to_its_curve(running: Running, open_page: OpenPage) -> None:
    folder = running.nights / "no plan" / "of a newcomer"
    small_night(folder, exposures=10, seed=13)
    (folder / "plan.toml").unlink()
    (folder / "field.vot").rename(folder / "raw" / "field.vot")
    page = open_page()
    page.get_by_role("button", name=re.compile("▾|no campaign")).first.click()
    page.get_by_role("button", name="New campaign …").click()
    page.get_by_role("dialog").get_by_label("name").fill("newcomer")
    page.get_by_label("path of the folder").fill(str(folder / "raw"))
    page.get_by_label("path of the folder").press("Enter")
    page.get_by_role("button", name="Sort this folder").click()
    then = page.get_by_test_id("next")
    expect(then).to_contain_text("Give a star catalogue", timeout=LONG_MS)
    expect(then).not_to_contain_text("stand-in")
    then.get_by_role("button", name="Use field.vot, beside the night").click()
    then.get_by_role("button", name="Reduce all of it").click()
    # The headers name no star of the catalogue: the observer says which it is.
    then.get_by_role("button", name="Choose the target").click(timeout=LONG_MS)
    plate = page.get_by_test_id("plate")
    expect(plate.locator("canvas[data-shown]").first).to_be_visible()
    box = plate.bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    bench = page.get_by_test_id("bench")
    expect(bench.get_by_role("heading", name="Foxglove 7 no part")).to_be_visible()
    page.keyboard.press("t")
    expect(then).to_contain_text("1 file needs an answer", timeout=LONG_MS)
    stage(page, "Curve")
    expect(page.get_by_text("9 points")).to_be_visible()


def aside_count(page: Page) -> str:
    heading = page.get_by_role("heading", name=re.compile("^Set aside"))
    return heading.inner_text().split()[-1]


def test_one_key_sets_aside_and_undo_restores(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "vet")
    expect(page.get_by_text("No exposure is set aside.")).to_be_visible()
    expect(page.get_by_test_id("beam")).to_be_visible()  # keys have something to act on
    page.keyboard.press("x")
    bench = page.get_by_test_id("bench")
    expect(bench.get_by_text("set aside by the observer")).to_be_visible()
    # Why is asked in passing; the beam went on already.
    expect(page.get_by_text(re.compile(r"set aside\. Why\?"))).to_be_visible()
    page.keyboard.press("w")
    expect(bench.get_by_text("wind", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()
    page.keyboard.press("Control+z")
    expect(bench.get_by_text("set aside by the observer")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("No exposure is set aside.")).to_be_visible()
    expect(page.get_by_role("status").filter(has_text="Undone: set aside")).to_be_visible()


def test_a_stretch_of_the_rail_is_set_aside_at_once(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "vet")
    expect(page.get_by_test_id("beam")).to_be_visible()  # the night is there
    rail = page.get_by_test_id("rail").bounding_box()
    assert rail
    y = rail["y"] + 60
    page.mouse.move(rail["x"] + 100, y)
    page.mouse.down()
    page.mouse.move(rail["x"] + 300, y, steps=5)
    page.mouse.up()
    chosen = page.get_by_text(re.compile(r"\d+ exposures selected"))
    count = int(chosen.inner_text().split()[0])
    assert 3 <= count <= 12
    page.get_by_label("rail").get_by_role("button", name="Set aside").click()
    expect(page.get_by_role("button", name=f"Restore {count}")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("No exposure is set aside.")).to_be_visible()


def test_limits_say_what_they_would_drop(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "vet")
    page.get_by_label("star width above").fill("2")
    expect(page.get_by_role("button", name="Keep, and set aside 23 exposures")).to_be_enabled()
    page.get_by_label("star width above").fill("")
    expect(page.get_by_role("button", name="Keep", exact=True)).to_be_disabled()


def test_the_ledger_shows_the_exposures_and_moves_the_beam(
    open_page: OpenPage, campaign: int
) -> None:
    page = open_page(campaign, "vet")
    expect(page.get_by_test_id("beam")).to_be_visible()
    page.keyboard.press("g")
    rows = page.get_by_role("grid", name="exposures").get_by_role("row")
    expect(rows.filter(has_text="foxglove-003.fits")).to_be_visible()
    rows.filter(has_text="foxglove-003.fits").click()
    rail = page.get_by_label("rail")
    expect(rail.get_by_text("foxglove-003.fits")).to_be_visible()
    page.get_by_label("filter the ledger").fill("star width > 90")
    expect(page.get_by_text(re.compile("0 exposures of"))).to_be_visible()
    page.get_by_label("filter the ledger").fill("")
    page.get_by_role("columnheader", name="star width").click()
    page.keyboard.press("g")
    expect(page.locator("canvas[data-shown]")).to_be_visible()


def test_the_film_shows_the_target_and_a_click_moves_the_beam(
    open_page: OpenPage, campaign: int
) -> None:
    page = open_page(campaign, "curve")
    expect(page.get_by_test_id("beam")).to_be_visible()
    before = page.get_by_test_id("beam").bounding_box()
    with page.expect_response(re.compile(r"/cutout\?star=")) as answer:
        page.keyboard.press("j")
    assert answer.value.ok
    expect(page.get_by_label("film").get_by_text("Foxglove 7")).to_be_visible()
    film = page.get_by_test_id("film")
    strip = film.bounding_box()
    assert strip
    assert before
    # The last frame of the night, unless the beam is there already: then the first.
    late = before["x"] > strip["x"] + 0.8 * strip["width"]
    film.click(position={"x": 98 if late else strip["width"] - 54, "y": 36})
    page.wait_for_function(
        "x => document.querySelector('[data-testid=beam]').getBoundingClientRect().x !== x",
        arg=before["x"],
    )


def test_a_star_is_found_by_its_name(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "place")
    page.locator("canvas[data-shown]").wait_for()
    page.keyboard.press("/")
    page.get_by_label("find a star or a position").fill("foxglove 21")
    page.get_by_label("find a star or a position").press("Enter")
    bench = page.get_by_test_id("bench")
    expect(bench.get_by_role("heading", name="Foxglove 21")).to_be_visible()
    expect(bench.get_by_text("from the target")).to_be_visible()


def test_arrows_move_the_beam_and_the_address_keeps_it(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "vet")
    beam = page.get_by_test_id("beam")
    expect(beam).to_be_visible()
    page.keyboard.press("Home")
    expect(page.get_by_label("rail").get_by_text("foxglove-001.fits")).to_be_visible()
    before = beam.bounding_box()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_label("rail").get_by_text("foxglove-002.fits")).to_be_visible()
    after = beam.bounding_box()
    assert before
    assert after
    assert after["x"] > before["x"]
    page.reload()
    expect(page.get_by_label("rail").get_by_text("foxglove-002.fits")).to_be_visible()
    expect(page.get_by_text("Look through the night")).to_be_visible()


def test_a_role_given_in_one_tab_shows_in_the_other(open_page: OpenPage, campaign: int) -> None:
    one, other = open_page(campaign, "cast"), open_page(campaign, "cast")
    role = other.get_by_role("button", name=re.compile(r"Foxglove \d+: comparison$"))
    expect(role.first).to_be_visible()
    count = role.count()
    one.get_by_role("button", name=re.compile(r"Foxglove \d+: comparison$")).first.click()
    expect(role).to_have_count(count - 1)
    one.bring_to_front()
    one.keyboard.press("Control+z")
    expect(role).to_have_count(count)


def test_keys_give_and_take_roles(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "cast")
    page.get_by_role("button", name=re.compile(r"^Foxglove \d+$")).first.click()
    bench = page.get_by_test_id("bench")
    expect(bench.get_by_text("comparison", exact=True).first).to_be_visible()
    page.keyboard.press("k")
    expect(bench.get_by_text("check", exact=True).first).to_be_visible()
    page.keyboard.press("Control+z")
    expect(bench.get_by_text("comparison", exact=True).first).to_be_visible()


def test_the_radius_handle_moves_by_keys(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "measure")
    handle = page.get_by_role("slider", name="aperture radius")
    before = handle.get_attribute("aria-valuetext")
    handle.press("ArrowRight")
    expect(handle).not_to_have_attribute("aria-valuetext", before or "")
    page.keyboard.press("Control+z")
    expect(handle).to_have_attribute("aria-valuetext", before or "")


def test_the_plate_tells_what_is_under_the_pointer(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "cast")
    plate = page.get_by_test_id("plate")
    expect(plate.locator("canvas[data-shown]").first).to_be_visible()
    box = plate.bounding_box()
    assert box
    # The night's target is in the middle of the frame, within the pointing's drift.
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    expect(plate.get_by_text(re.compile("ADU · 22 4"))).to_be_visible()


def test_the_loupe_shows_the_star_that_is_named_in_the_colours_of_the_look(
    open_page: OpenPage, campaign: int
) -> None:
    page = open_page(campaign, "place")
    plate = page.get_by_test_id("plate")
    plate.locator("canvas[data-shown]").first.wait_for()
    page.keyboard.press("/")
    page.get_by_label("find a star or a position").fill("foxglove 21")
    page.get_by_label("find a star or a position").press("Enter")
    expect(page.get_by_test_id("bench").get_by_role("heading", name="Foxglove 21")).to_be_visible()
    box = plate.bounding_box()
    assert box
    # The star is in the middle now; the pointer stands beside it and rests there.
    page.mouse.move(box["x"] + box["width"] / 2 + 6, box["y"] + box["height"] / 2)
    expect(plate.get_by_text("Foxglove 21", exact=True)).to_be_visible()
    # A star some three pixels wide; the height is far above the noise.
    expect(page.get_by_test_id("loupe")).to_contain_text(re.compile(r"[2-4]\.\d px · peak \d{3,}"))
    page.get_by_label("look").select_option(label="red lamp")
    page.wait_for_function(f"() => {{ {BRIGHTEST} return red > 60 && !green && !blue; }}")
    page.get_by_label("look").select_option(label="night")
    page.wait_for_function(f"() => {{ {BRIGHTEST} return red > 60 && green > 60 && blue > 60; }}")


def test_points_that_are_drawn_around_are_set_aside_and_come_back(
    open_page: OpenPage, campaign: int
) -> None:
    page = open_page(campaign, "curve")
    chart = page.get_by_test_id("curve-target")
    expect(chart.locator("canvas")).to_be_visible()
    expect(page.get_by_text("23 points")).to_be_visible()
    box = chart.bounding_box()
    assert box
    left, right = box["x"] + 62, box["x"] + 0.4 * box["width"]
    top, bottom = box["y"] + 20, box["y"] + box["height"] - 6
    page.mouse.move(left, top)
    page.mouse.down()
    for x, y in ((right, top), (right, bottom), (left, bottom), (left, top)):
        page.mouse.move(x, y, steps=4)
    page.mouse.up()
    chosen = page.get_by_text(re.compile(r"\d+ exposures selected"))
    count = int(chosen.inner_text().split()[0])
    assert 4 <= count <= 12
    page.keyboard.press("x")
    expect(page.get_by_text(f"{23 - count} points")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("23 points")).to_be_visible()


def test_a_point_leads_to_its_exposure(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign, "curve")
    chart = page.get_by_test_id("curve-target")
    expect(chart.locator("canvas")).to_be_visible()
    expect(page.get_by_label("rail").get_by_text("foxglove-").first).to_be_visible()
    page.keyboard.press("Home")
    here = page.get_by_label("rail").get_by_text("foxglove-001.fits")
    expect(here).to_be_visible()
    beam, box = page.get_by_test_id("beam").bounding_box(), chart.bounding_box()
    assert beam
    assert box
    x = beam["x"] + beam["width"] / 2
    told = chart.get_by_text("foxglove-001.fits")
    for y in range(int(box["y"]) + 20, int(box["y"] + box["height"]), 6):
        page.mouse.move(x, y)
        if told.count():
            break
    expect(told).to_contain_text("±")
    page.keyboard.press("End")
    expect(here).to_have_count(0)
    page.mouse.down()
    page.mouse.up()
    expect(here).to_be_visible()


def test_a_curve_is_followed_to_elements_a_layout_and_corrections(
    open_page: OpenPage, campaign: int
) -> None:
    page = open_page(campaign, "curve")
    page.get_by_role("radio", name="phase").click()
    expect(page.get_by_role("list", name="likely periods")).to_be_visible(timeout=LONG_MS)
    expect(page.get_by_test_id("periodogram").locator("canvas")).to_be_visible()
    period = page.get_by_label("period in days", exact=True)
    period.fill("0.3137")
    page.get_by_role("button", name="Take as elements").click()
    expect(page.get_by_role("radio", name=re.compile("0.3137.*in force"))).to_be_visible()
    # The beam is a moment, not a phase: it stays on the rail.
    beam, frame = (
        page.get_by_test_id("beam").bounding_box(),
        page.get_by_test_id("rail").bounding_box(),
    )
    assert beam
    assert frame
    assert beam["y"] >= frame["y"] - 2
    page.get_by_role("button", name="half", exact=True).click()
    expect(period).to_have_value(re.compile("0.1568"))
    page.get_by_role("radio", name="minima").click()
    page.get_by_role("button", name="Type a time from elsewhere …").click()
    page.get_by_label("minimum, BJD (TDB)").fill("2461000.31")
    page.get_by_label("uncertainty, days").fill("0.0002")
    page.get_by_label("where it is from").fill("a friend")
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_text("from a friend")).to_be_visible()
    expect(page.get_by_test_id("o-minus-c").locator("canvas")).to_be_visible()
    page.get_by_role("radio", name="field").click()
    expect(page.get_by_text("stand out by 5 σ").or_(page.get_by_text("No star of the field"))
           ).to_be_visible(timeout=LONG_MS)  # fmt: skip

    stage(page, "Report")
    page.get_by_role("button", name="Write one of your own").click()
    text = page.get_by_label("the layout’s text")
    own = text.input_value()
    text.fill(own.replace('value = "magnitude"', 'value = "brightness"'))
    expect(page.get_by_role("alert")).to_contain_text("no value “brightness”")
    text.fill(own.replace("Light curve of", "Magnitudes of"))
    page.get_by_label("called").fill("ours")
    page.get_by_role("button", name="Keep and use it").click()
    expect(page.get_by_test_id("preview")).to_contain_text("Magnitudes of Foxglove 7")
    page.get_by_role("button", name="Export the report").click()
    page.get_by_role("button", name="Mark as sent …").first.click()
    page.get_by_label("sent to").fill("the society")
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_text("sent to the society")).to_be_visible()

    # Another radius: what went out is otherwise now, and goes out again as a correction.
    stage(page, "Measure")
    page.get_by_role("slider", name=re.compile("radius")).first.focus()
    for _ in range(3):
        page.keyboard.press("ArrowLeft")
    stage(page, "Report")
    page.get_by_role("radio", name=re.compile("^changes, [1-9]")).click(timeout=LONG_MS)
    expect(page.get_by_test_id("changes")).to_contain_text("another radius")
    page.get_by_role("radio", name="only changed").click()
    page.get_by_role("radio", name="the report").click()
    expect(page.get_by_text(re.compile("layout “plain”|layout “ours”"))).to_be_visible()
    page.get_by_role("radio", name="all", exact=True).click()
    page.get_by_role("button", name="Delete it").click()
    expect(page.get_by_test_id("preview")).to_contain_text("Light curve of Foxglove 7")


@pytest.mark.parametrize("look", ["day", "red lamp"])
def test_looks_are_kept(open_page: OpenPage, campaign: int, look: str) -> None:
    page = open_page(campaign, "vet")
    page.get_by_label("look").select_option(label=look)
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-look", look.split()[0])


def test_a_page_reloaded_in_the_middle_finds_the_job_again(
    running: Running, open_page: OpenPage
) -> None:
    folder = running.nights / "reloaded"
    small_night(folder, exposures=30, seed=3)
    page = open_page()
    client = running.client()
    made = client.post(
        "campaigns", {"name": "reloaded", "folders": [str(folder / "raw")], "reduce": True}
    )
    expect(page.get_by_test_id("progress")).to_be_visible()
    page.goto(f"{running.url}/#/{made['id']}/curve")
    page.reload()
    expect(page.get_by_test_id("progress")).to_be_visible()
    expect(page.get_by_test_id("curve-target")).to_be_visible(timeout=LONG_MS)
    assert client.wait(made["id"])["state"] == "done"


def test_a_page_sees_a_job_through_a_restart_of_the_server(
    running: Running, open_page: OpenPage
) -> None:
    page = open_page()
    number = running.client().begin(running, "interrupted")
    page.goto(f"{running.url}/#/{number}/curve")
    expect(page.get_by_test_id("progress")).to_be_visible()
    running.server.stop()
    expect(page.get_by_role("alert")).to_contain_text("Is ./beacon start still running?")
    running.restart_server()
    expect(page.get_by_test_id("curve-target")).to_be_visible(timeout=LONG_MS)
    expect(page.get_by_role("alert")).to_have_count(0)


def test_a_wrong_folder_is_answered_in_words(open_page: OpenPage, campaign: int) -> None:
    page = open_page(campaign)
    page.get_by_role("button", name="▾").first.click()
    page.get_by_role("button", name="New campaign …").click()
    page.get_by_label("path of the folder").fill("/etc")
    page.get_by_label("path of the folder").press("Enter")
    expect(page.get_by_text("outside of the folders that may be read")).to_be_visible()
    page.keyboard.press("Escape")


def test_the_page_says_when_the_records_are_away(
    running: Running, open_page: OpenPage, campaign: int
) -> None:
    page = open_page(campaign, "vet")
    expect(page.get_by_text("No exposure is set aside.")).to_be_visible()
    port = running.database.port
    running.database.stop()
    try:
        expect(page.get_by_role("alert")).to_contain_text("The records")
    finally:
        running.database.start(port)
    page.reload()
    expect(page.get_by_text("No exposure is set aside.")).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)


def test_a_stranger_sees_how_to_get_in(browser_page: Page, running: Running) -> None:
    browser_page.goto(running.url)
    expect(browser_page.get_by_text("This address needs its one-time key")).to_be_visible()


@pytest.fixture
def browser_page(browser, running):  # type: ignore[no-untyped-def]
    context: BrowserContext = browser.new_context()
    yield context.new_page()
    context.close()
