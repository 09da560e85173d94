"""A night without a catalogue: its exposures are matched to one another, judged and vetted."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from narrow_beacon.simulate.plain import write_plain_night
from running import Client, Running

EXPOSURES = 14
CLOUD, LONG, ELSEWHERE = 4, 9, 11


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def truth(running: Running) -> dict[str, Any]:
    streak = tuple((0.9 * step, 0.3 * step) for step in range(-5, 6))
    return write_plain_night(
        running.nights / "looks", 31, exposures=EXPOSURES, shape=(320, 400), calibration=6,
        density=9000.0, walk_px=2.0,
        troubles={
            CLOUD: {"transparency": 0.3}, LONG: {"streak": streak}, ELSEWHERE: {"off_px": 420.0},
        },
    )  # fmt: skip


@pytest.fixture(scope="module")
def campaign(client: Client, running: Running, truth: dict[str, Any]) -> int:
    folder = running.nights / "looks"
    (folder / "plan.toml").unlink()
    made = client.post("campaigns", {"name": "looks", "folders": [str(folder / "raw")]})
    client.wait(made["id"])
    return int(made["id"])


def exposures(client: Client, campaign: int) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get(f"campaigns/{campaign}/exposures")["exposures"]
    return found


def change(client: Client, campaign: int, **values: object) -> dict[str, Any]:
    answer = client.ask("PUT", f"campaigns/{campaign}/vetting", values)
    assert answer.ok, answer.text
    found: dict[str, Any] = answer.json()
    return found


def test_exposures_stand_still_on_one_another_before_they_are_placed(
    client: Client, campaign: int, truth: dict[str, Any]
) -> None:
    found = exposures(client, campaign)
    assert not any(e["placed"] for e in found)
    # The middle of each exposure, on the plane of the reference, moves as the telescope did.
    good = [i for i in range(EXPOSURES) if i not in (LONG, ELSEWHERE)]
    planes = np.array([found[i]["plane"] for i in good])
    there = planes[:, [2, 5]] + planes[:, [0, 3]] * 200 + planes[:, [1, 4]] * 160
    centre = np.array([truth["exposures"][i]["center_deg"] for i in good])
    east = (centre[:, 0] - centre[0, 0]) * np.cos(np.radians(centre[0, 1])) * 3600 / 1.16
    north = (centre[:, 1] - centre[0, 1]) * 3600 / 1.16
    moved = np.hypot(*(there - there[0]).T)
    # Both by the fit's some hundredths of a pixel, and by the distortion between the two.
    assert np.allclose(moved, np.hypot(east, north), atol=0.1)
    reference = client.get(f"campaigns/{campaign}/exposures")["reference"]
    assert reference in [found[i]["id"] for i in good]


def test_light_and_troubles_are_known_before_a_catalogue(client: Client, campaign: int) -> None:
    found = exposures(client, campaign)
    assert found[CLOUD]["transparency"] == pytest.approx(0.3, abs=0.03)
    clear = [e["transparency"] for i, e in enumerate(found) if i not in (CLOUD, LONG, ELSEWHERE)]
    assert np.allclose(clear, 1.0, atol=0.03)
    proposed = {i: e["proposal"] for i, e in enumerate(found) if e["proposal"]}
    assert proposed.keys() == {CLOUD, LONG, ELSEWHERE}
    assert proposed[CLOUD].startswith("cloud: ")
    assert proposed[LONG].startswith("tracking: stars are drawn out")
    assert proposed[ELSEWHERE].startswith("wrong field: its ")
    assert found[ELSEWHERE]["plane"] is None
    assert all(0.8 < e["noise"] < 1.2 for e in found)


def test_a_limit_is_kept_sets_aside_and_is_lifted(client: Client, campaign: int) -> None:
    found = exposures(client, campaign)
    width = sorted(e["fwhm_px"] for i, e in enumerate(found) if i != LONG)[-3]
    limit = {"quality": "star width", "above": width}
    answer = change(client, campaign, limits=[limit])
    assert answer["limits"][0]["drops"] == sum(e["fwhm_px"] > width for e in found)
    aside = [e for e in exposures(client, campaign) if e["aside_by"] == "limit"]
    assert len(aside) == answer["limits"][0]["drops"]
    assert aside[0]["aside"] == f"limit: star width above {width:g} px"
    # Restored by hand it stays, whatever the limit says.
    client.post(f"campaigns/{campaign}/aside", {"ids": [aside[0]["id"]], "aside": False})
    change(client, campaign, limits=[limit, {"quality": "stars", "below": 1}])
    now = [e["id"] for e in exposures(client, campaign) if e["aside_by"]]
    assert now == [e["id"] for e in aside[1:]]
    change(client, campaign, limits=[])
    assert not any(e["aside_by"] for e in exposures(client, campaign))
    client.post(f"campaigns/{campaign}/undo")
    assert [e["id"] for e in exposures(client, campaign) if e["aside_by"]] == now
    change(client, campaign, limits=[])


@pytest.mark.parametrize(
    ("limit", "words"),
    [
        ({"quality": "beauty", "above": 1}, "must be"),
        ({"quality": "stars"}, "must say above or below"),
        ({"quality": "stars", "below": 5, "night": "last"}, "date of its evening"),
    ],
)
def test_what_is_no_limit_is_refused(
    client: Client, campaign: int, limit: dict[str, object], words: str
) -> None:
    answer = client.ask("PUT", f"campaigns/{campaign}/vetting", {"limits": [limit]})
    assert answer.status_code == 422
    assert words in answer.json()["detail"]


def test_a_limit_holds_when_exposures_are_looked_at_again_and_when_rules_change(
    client: Client, campaign: int
) -> None:
    found = exposures(client, campaign)
    width = sorted(e["fwhm_px"] for i, e in enumerate(found) if i != LONG)[-3]
    change(client, campaign, limits=[{"quality": "star width", "above": width}])
    aside = {e["id"] for e in exposures(client, campaign) if e["aside_by"] == "limit"}
    assert aside
    client.post(f"campaigns/{campaign}/jobs", {"kind": "look"})
    client.wait(campaign)
    assert {e["id"] for e in exposures(client, campaign) if e["aside_by"]} == aside
    rules = client.get(f"campaigns/{campaign}/vetting")["usual"]
    change(client, campaign, rules={**rules, "light": 0.2})
    assert {e["id"] for e in exposures(client, campaign) if e["aside_by"]} == aside
    change(client, campaign, rules=rules, limits=[])
    assert not any(e["aside_by"] for e in exposures(client, campaign))


def test_rules_move_what_is_proposed_and_can_be_taken_back(client: Client, campaign: int) -> None:
    rules = client.get(f"campaigns/{campaign}/vetting")["usual"]
    change(client, campaign, rules={**rules, "light": 0.2})
    assert exposures(client, campaign)[CLOUD]["proposal"] == ""
    change(client, campaign, rules=rules)
    assert exposures(client, campaign)[CLOUD]["proposal"].startswith("cloud")


def test_the_observer_may_choose_the_reference(client: Client, campaign: int) -> None:
    wanted = exposures(client, campaign)[2]["id"]
    change(client, campaign, reference=wanted)
    client.wait(campaign)
    found = client.get(f"campaigns/{campaign}/exposures")
    assert (found["reference"], found["reference_words"]) == (wanted, "chosen by the observer")
    own = next(e for e in found["exposures"] if e["id"] == wanted)
    # It lies on itself.
    assert np.allclose(own["plane"], [-1, 0, 199.5, 0, 1, -159.5], atol=1e-3)
    change(client, campaign, reference=0)
    client.wait(campaign)
    assert client.get(f"campaigns/{campaign}/vetting")["reference_by"] == "program"


def test_a_cut_out_shows_the_corrected_pixels_about_a_place(client: Client, campaign: int) -> None:
    first = exposures(client, campaign)[0]
    answer = client.ask("GET", f"files/{first['id']}/cutout?x=4&y=200&half=8")
    words = np.frombuffer(answer.content, "<u2").reshape(17, 17)
    # Beyond the image there is nothing.
    assert np.all(words[:, :4] == 0)
    assert np.all(words[:, 4:] > 0)
    offset, scale = (float(answer.headers[name]) for name in ("X-Offset", "X-Scale"))
    value = offset + (words[8, 8] - 1.0) * scale
    tile = client.ask("GET", f"images/files/{first['id']}/0/0/0?off=")
    info = client.get(f"images/files/{first['id']}?off=")
    width = int(tile.headers["X-Tile-Width"])
    same = np.frombuffer(tile.content, "<u2").reshape(-1, width)[200, 4]
    assert value == pytest.approx(
        info["offset"] + (same - 1.0) * info["scale"], abs=scale + info["scale"]
    )
