"""The standard scale through the server: as it is found, as the observer says it, in reports."""

from __future__ import annotations

import numpy as np
import pytest

from running import Client, Running


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


def standard_of(client: Client, campaign: int) -> tuple[np.ndarray, np.ndarray]:
    """Magnitudes of the target on the standard scale, and as they were."""
    curve = client.get(f"campaigns/{campaign}/curve")["filters"][0]
    own = next(s for s in curve["series"] if s["role"] == "target")["magnitude"]
    standard = curve["standard"]["magnitude"] if curve["standard"] else [None] * len(own)
    return np.array(standard, float), np.array(own, float)


def test_a_filters_coefficient_is_found_told_and_given(client: Client, campaign: int) -> None:
    scale = client.get(f"campaigns/{campaign}/scale?filter=V")
    assert scale["index"] == "B-V"
    assert scale["applied"]
    assert scale["colour_source"] == "catalogue"
    found = scale["transform"]
    # The made-up camera sees the standard V.
    assert abs(found["value"]) < 3 * found["uncertainty"] + 1e-3
    assert found["fitted"] == sum(star["used"] for star in scale["stars"]) > 5
    before, own = standard_of(client, campaign)
    apart = scale["target_colour"] - scale["comparison_colour"]
    assert np.nanmedian(before - own) == pytest.approx(found["value"] * apart, abs=2e-3)
    given = {"V": {"coefficient": 0.2, "uncertainty": 0.01, "index": "B-V"}}
    answer = client.post(f"campaigns/{campaign}/transform", {"given": given, "colour": 1.6})
    assert answer["filters"][0]["standard"]
    after, _ = standard_of(client, campaign)
    wide = 1.6 - scale["comparison_colour"]
    assert np.nanmedian(after - own) == pytest.approx(0.2 * wide, abs=3e-3)
    said = client.get(f"campaigns/{campaign}")["transform"]
    assert (said["given"], said["colour"]) == (given, 1.6)
    told = client.get(f"campaigns/{campaign}/scale?filter=V")
    assert (told["given"], told["colour_source"]) == (True, "typed")
    assert told["common_mag"] == pytest.approx(0.01 * wide, rel=0.05)
    client.post(f"campaigns/{campaign}/undo")
    again, _ = standard_of(client, campaign)
    assert np.allclose(again, before, atol=1e-5, equal_nan=True)


def test_magnitudes_can_be_left_as_they_are(client: Client, campaign: int) -> None:
    client.post(f"campaigns/{campaign}/transform", {"apply": False})
    assert not np.isfinite(standard_of(client, campaign)[0]).any()
    assert not client.get(f"campaigns/{campaign}/scale?filter=V")["applied"]
    client.post(f"campaigns/{campaign}/undo")
    assert np.isfinite(standard_of(client, campaign)[0]).any()


def test_the_layout_says_which_magnitude_goes_out(client: Client, campaign: int) -> None:
    client.post(
        f"campaigns/{campaign}/transform",
        {"given": {"V": {"coefficient": 0.3}}, "colour": 1.5},
    )
    standard, own = standard_of(client, campaign)
    first = int(np.flatnonzero(np.isfinite(standard))[0])
    checks = client.get(f"campaigns/{campaign}/report")["checks"]
    assert any("instrument's own colour scale, up to" in check["words"] for check in checks)
    client.ask("PATCH", f"campaigns/{campaign}", {"layout": "standard"})
    report = client.get(f"campaigns/{campaign}/report")
    assert f"{standard[first]:.4f}" in report["preview"]
    assert f"{own[first]:.4f}" not in report["preview"]
    assert any("on the standard scale in V" in check["words"] for check in report["checks"])
    for _ in range(2):
        client.post(f"campaigns/{campaign}/undo")


def test_every_star_and_every_measure_of_one_can_be_read(client: Client, campaign: int) -> None:
    field = client.get(f"campaigns/{campaign}/field?filter=V")
    stars = {star["row"]: star for star in field["stars"]}
    cast = client.get(f"campaigns/{campaign}")["cast"]
    target = stars[cast["target"]]
    assert target["score"] == 0
    assert target["times"] > 5  # it eclipses
    serving = [stars[row] for row in cast["comparison"]]
    assert all(star["score"] > 20 and star["times"] < 2 for star in serving)
    assert all(0 < star["peak_share"] < 1 and star["edge_px"] > 0 for star in serving)
    assert np.median([abs(star["off_mag"]) for star in serving]) < 0.01
    light = client.get(f"campaigns/{campaign}/light?row={cast['target']}")
    curve = client.get(f"campaigns/{campaign}/curve")["filters"][0]
    own = next(s for s in curve["series"] if s["role"] == "target")
    by_file = {one["file"]: one for one in light["measures"]}
    assert len(light["measures"]) >= len(curve["file_ids"])
    for file, magnitude in zip(curve["file_ids"], own["instrumental"], strict=True):
        assert by_file[file]["instrumental"] == pytest.approx(magnitude, abs=2e-5)


def test_a_coefficient_is_kept_with_the_kit_for_other_campaigns(
    client: Client, campaign: int, running: Running
) -> None:
    path = f"campaigns/{campaign}/scale?filter=V"
    found = client.get(path)
    assert (found["kept"], found["kept_mean"]) == ([], None)
    for _ in range(2):  # the same campaign's again takes the place of the first
        client.post(f"campaigns/{campaign}/scale/keep", {"filter": "V"})
    (kept,) = client.get(path)["kept"]
    assert kept["coefficient"] == pytest.approx(found["transform"]["value"])
    assert kept["stars"] == found["transform"]["fitted"]
    assert kept["nights"].startswith("2026-09-20")
    client.post(f"campaigns/{campaign}/transform", {"given": {"V": {"coefficient": 0.1}}})
    refused = client.ask("POST", f"campaigns/{campaign}/scale/keep", {"filter": "V"})
    assert refused.status_code == 409
    client.post(f"campaigns/{campaign}/undo")
    assert client.ask("DELETE", f"kept/{kept['id']}").status_code == 200
    assert client.get(path)["kept"] == []


def test_what_cannot_be_is_refused(client: Client, campaign: int) -> None:
    for body in ({"colour": 90}, {"given": {"V": {"coefficient": "x"}}}, {"extinction": {"V": 9}}):
        answer = client.ask("POST", f"campaigns/{campaign}/transform", body)
        assert answer.status_code == 422


def test_a_finder_chart_comes_from_the_catalogue_or_over_an_exposure(
    client: Client, campaign: int
) -> None:
    exposures = client.get(f"campaigns/{campaign}/exposures")["exposures"]
    placed = next(e["id"] for e in exposures if e["placed"])
    for kind, start in (("svg", b"<?xml"), ("pdf", b"%PDF"), ("png", b"\x89PNG")):
        plain = client.ask("GET", f"campaigns/{campaign}/finder.{kind}?width=8")
        assert plain.content.startswith(start)
    over = client.ask("GET", f"campaigns/{campaign}/finder.png?width=8&file={placed}")
    assert len(over.content) > 2 * len(plain.content)
    assert client.ask("GET", f"campaigns/{campaign}/finder.gif").status_code == 404
    assert client.ask("GET", f"campaigns/{campaign}/finder.svg?width=9e9").status_code == 422
