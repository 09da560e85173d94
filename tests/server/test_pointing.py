"""Single exposures: opened without folder, plan or catalogue, their stars pointed at."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from builders import star_image
from narrow_beacon.core.measure.pointing import point_at
from running import Client, Running, small_night


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def folder(running: Running) -> Path:
    folder = running.nights / "alone"
    small_night(folder, exposures=8, seed=51)
    (folder / "plan.toml").unlink()
    return folder


@pytest.mark.parametrize("fwhm", [2.2, 3.0, 5.0])
def test_a_star_is_measured_where_it_is_pointed_at(fwhm: float) -> None:
    """Three pixels beside it, with nothing known but the pixels."""
    flux, gain = 3e4, 1.3
    image = star_image(
        (300, 300), np.array([140.4]), np.array([88.7]), np.array([flux]), fwhm=fwhm, sky=400.0,
        sigma=12.0,
    )  # fmt: skip
    star = point_at(image, 143.0, 87.0, gain)
    assert star is not None
    assert (star.x_px, star.y_px) == pytest.approx((140.4, 88.7), abs=0.08)
    assert star.sky_adu_per_px == pytest.approx(400.0, abs=2.0)
    assert star.fwhm_px == pytest.approx(fwhm, rel=0.05)
    # Of a Moffat profile with β = 2.5 so much is within 1.5 widths; the ring takes a little off.
    alpha = fwhm / (2 * np.sqrt(2**0.4 - 1))
    inside = 1 - (1 + (star.radius_px / alpha) ** 2) ** -1.5
    assert star.counts_adu == pytest.approx(inside * flux, rel=0.03)
    area = np.pi * star.radius_px**2
    noise = np.sqrt(area * 144.0 + star.counts_adu / gain)
    assert star.uncertainty_adu == pytest.approx(noise, rel=0.15)
    assert point_at(image, 300.5, 10.0, gain) is None


def test_a_single_exposure_is_opened_by_itself(client: Client, folder: Path) -> None:
    path = next((folder / "raw").glob("foxglove-001.fits"))
    campaign = int(client.post("campaigns", {"name": path.name, "folders": [str(path)]})["id"])
    client.wait(campaign)
    exposures = client.get(f"campaigns/{campaign}/exposures")["exposures"]
    assert [Path(e["name"]).name for e in exposures] == ["foxglove-001.fits"]
    number = exposures[0]["id"]
    width, height = exposures[0]["width"], exposures[0]["height"]
    at = {"x": width / 2, "y": height / 2}
    found = client.post(f"files/{number}/pointings", at)
    assert found["snr"] > 0
    assert found["magnitude"] is None
    # With the stars of the field it is placed, and has magnitudes by its own zero point.
    field = {"catalogue_file": str(folder / "field.vot")}
    client.ask("PATCH", f"campaigns/{campaign}", field).raise_for_status()
    client.post(f"campaigns/{campaign}/jobs", {"kind": "place"})
    job = client.wait(campaign)
    assert job["state"] == "done", job["words"]
    stars = client.get(f"campaigns/{campaign}/stars")
    placed = client.get(f"files/{number}/placement")
    assert placed["matched"] > 10
    rows = np.argsort([m if m is not None else 99 for m in stars["magnitudes"]["V"]])
    errors = []
    for row in rows[4:30]:
        x, y = pixel_of(placed["wcs"], stars["ra_deg"][row], stars["dec_deg"][row])
        if not (20 < x < width - 20 and 20 < y < height - 20):
            continue
        one = client.post(f"files/{number}/pointings", {"x": x, "y": y})
        if one["name"] != stars["name"][row] or one["magnitude"] is None:
            continue
        error = one["magnitude"] - stars["magnitudes"]["V"][row]
        errors.append(error / np.hypot(one["magnitude_uncertainty"], 0.03))
    assert len(errors) > 5
    assert np.median(np.abs(errors)) < 1.5
    kept = client.get(f"campaigns/{campaign}/pointings")["pointings"]
    assert len(kept) > len(errors)
    client.ask("DELETE", f"campaigns/{campaign}/pointings/{kept[0]['id']}").raise_for_status()
    assert len(client.get(f"campaigns/{campaign}/pointings")["pointings"]) == len(kept) - 1
    # More folders make a campaign of it.
    folders = {"folders": [str(path), str(folder / "raw")]}
    client.ask("PATCH", f"campaigns/{campaign}", folders).raise_for_status()
    client.wait(campaign)
    assert len(client.get(f"campaigns/{campaign}/exposures")["exposures"]) > 5


def pixel_of(wcs: dict[str, Any], ra: float, dec: float) -> tuple[float, float]:
    from astropy.io import fits
    from astropy.wcs import WCS

    x, y = WCS(fits.Header(wcs.items())).all_world2pix([ra], [dec], 0)
    return float(x[0]), float(y[0])
