"""Single exposures placed on the sky from the command line, without a plan."""

from __future__ import annotations

import gzip
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits
from astropy.wcs import WCS
from click.testing import CliRunner

from narrow_beacon.cli import main
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.reduce.solving import position_of_words
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.cone_service import ConeService
from narrow_beacon.simulate.plain import write_plain_night
from narrow_beacon.simulate.sky import add_red

SHAPE = (480, 480)
KEYS = {
    "file", "placed", "reason", "ra_deg", "dec_deg", "scale_arcsec_per_px", "rotation_deg",
    "mirrored", "matched_stars", "residual_arcsec", "false_log10",
}  # fmt: skip


def night(folder: Path, **camera: Any) -> list[dict[str, Any]]:
    truth = write_plain_night(
        folder, 7, exposures=2, shape=SHAPE, density=6000.0, calibration=0,
        camera=Camera(41, SHAPE, **camera), change=add_red,
    )  # fmt: skip
    exposures: list[dict[str, Any]] = truth["exposures"]
    return exposures


def solve(*arguments: object, status: int = 0) -> list[dict[str, Any]]:
    answer = CliRunner().invoke(main, ["solve", *(str(a) for a in arguments), "--json"])
    assert answer.exit_code == status, answer.output
    told: list[dict[str, Any]] = json.loads(answer.stdout)
    return told


@pytest.mark.parametrize(
    ("camera", "wrapping"),
    [
        ({}, "plain"), ({}, "tiled"), ({}, "gzip"),
        ({"overscan_px": 24, "drift_adu": 20.0}, "plain"), ({"pattern": "RGGB"}, "plain"),
    ],
)  # fmt: skip
def test_files_are_placed_and_written_with_a_wcs_that_others_read(
    tmp_path: Path, camera: dict[str, Any], wrapping: str
) -> None:
    truth = night(tmp_path, **camera)
    files = [tmp_path / "raw" / item["file"] for item in truth]
    if wrapping == "gzip":
        files = [gzipped(path) for path in files]
    elif wrapping == "tiled":
        files = [tiled(path) for path in files]
    told = solve(*files, "--catalogue", tmp_path / "field.vot", "--write", tmp_path / "placed",
                 "--workers", "1")  # fmt: skip
    stars = read_catalogue(tmp_path / "field.vot")
    for one, path, true in zip(told, files, truth, strict=True):
        assert set(one) == KEYS
        assert one["placed"], one["reason"]
        assert one["file"] == str(path)
        assert abs(one["dec_deg"] - true["center_deg"][1]) * 3600 < 0.4
        assert one["scale_arcsec_per_px"] == pytest.approx(1.16, rel=3e-3)
        assert one["false_log10"] < -9
        with fits.open(tmp_path / "placed" / path.name) as hdus, fits.open(path) as raw:
            unit = next(i for i, hdu in enumerate(hdus) if hdu.header.get("NAXIS") == 2)
            assert np.array_equal(hdus[unit].data, raw[unit].data)
            wcs = WCS(hdus[unit].header)
        height, width = SHAPE
        # By others' reading the middle of what sees light is where it was said to be.
        left = camera.get("overscan_px", 0) * (0 if _after(path) else 1)
        ra, dec = wcs.all_pix2world([[left + (width + 1) / 2, (height + 1) / 2]], 1)[0]
        away = np.hypot((ra - one["ra_deg"]) * np.cos(np.radians(dec)), dec - one["dec_deg"])
        assert away * 3600 < 0.01 * 1.16
        # And bright stars are within half a pixel of where the catalogue has them.
        bright = np.argsort(stars.bands["V"].magnitude)[:40]
        x, y = wcs.all_world2pix(stars.ra_deg[bright], stars.dec_deg[bright], 0)
        with fits.open(path) as raw:
            pixels = raw[unit].data.astype(float)
        inside = (x > left + 8) & (x < pixels.shape[1] - 8) & (y > 8) & (y < pixels.shape[0] - 8)
        assert inside.sum() > 3
        for a, b in zip(x[inside], y[inside], strict=True):
            assert brightest(pixels, a, b) > np.median(pixels) + 200


def brightest(pixels: np.ndarray, x: float, y: float) -> float:
    return float(pixels[int(y) - 1 : int(y) + 3, int(x) - 1 : int(x) + 3].max())


def _after(path: Path) -> bool:
    """Whether the overscan comes after what sees light."""
    section = fits.getheader(path).get("DATASEC", "[1:")
    return str(section).startswith("[1:")


def gzipped(path: Path) -> Path:
    packed = path.with_name(f"{path.name}.gz")
    packed.write_bytes(gzip.compress(path.read_bytes()))
    return packed


def tiled(path: Path) -> Path:
    packed = path.with_name(f"{path.name}.fz")
    with fits.open(path) as hdus:
        unit = fits.CompImageHDU(hdus[0].data, hdus[0].header, compression_type="RICE_1")
        fits.HDUList([fits.PrimaryHDU(), unit]).writeto(packed)
    return packed


def test_what_cannot_be_placed_says_why_and_the_rest_goes_on(tmp_path: Path) -> None:
    truth = night(tmp_path)
    good = tmp_path / "raw" / truth[0]["file"]
    rng = np.random.default_rng(1)
    fits.PrimaryHDU(rng.normal(500, 9, SHAPE).astype(np.uint16)).writeto(tmp_path / "sky.fits")
    (tmp_path / "notes.txt").write_text("cloudy")
    missing = tmp_path / "gone.fits"
    told = solve(good, tmp_path / "sky.fits", tmp_path / "notes.txt", missing, "--catalogue",
                 tmp_path / "field.vot", "--workers", "1")  # fmt: skip
    assert [one["placed"] for one in told] == [True, False, False, False]
    assert "too few to place it" in told[1]["reason"]
    assert "not a FITS file, but text" in told[2]["reason"]
    assert "cannot be opened" in told[3]["reason"]
    solve(tmp_path / "sky.fits", "--catalogue", tmp_path / "field.vot", status=3)
    # A copy is never written over the file itself.
    called = ["solve", str(good), "--catalogue", str(tmp_path / "field.vot"), "--write"]
    answer = CliRunner().invoke(main, [*called, str(tmp_path / "raw")])
    assert answer.exit_code == 2
    assert "where the raw files lie: name another folder" in answer.output


def test_a_service_is_asked_about_the_hint_and_a_far_hint_is_of_no_use(tmp_path: Path) -> None:
    truth = night(tmp_path)
    file = tmp_path / "raw" / truth[0]["file"]
    with fits.open(file, mode="update") as hdus:
        for key in ("OBJCTRA", "OBJCTDEC", "RA", "DEC"):
            hdus[0].header.remove(key, ignore_missing=True)
    ra, dec = truth[0]["center_deg"]
    with ConeService(tmp_path / "field.vot") as service:
        url = service.url
        silent = solve(file, "--cone", url, "--workers", "1", status=3)
        assert "the header gives none: give it with --near" in silent[0]["reason"]
        told = solve(file, "--cone", url, "--near", f"{ra + 0.2} {dec:+}", "--scale", 1.0, 1.3,
                     "--workers", "1")  # fmt: skip
        assert told[0]["placed"]
        wrong = solve(file, "--cone", url, "--near", "10 -40", "--workers", "1", status=3)
        assert "has no stars within" in wrong[0]["reason"]
    # With all of the field at hand a poor hint only takes longer.
    told = solve(file, "--catalogue", tmp_path / "field.vot", "--near", f"{ra + 9} {dec:+}")
    assert told[0]["placed"]


@pytest.mark.parametrize(
    ("text", "ra_deg", "dec_deg"),
    [
        ("19 41 02.6 +38 12 44", 295.260833, 38.212222),
        ("19:41:02.6 -38:12:44", 295.260833, -38.212222),
        ("295.26 −38.2", 295.26, -38.2),
        ("295.26, 38.2", 295.26, 38.2),
        ("19h41m02.6s +38d12m44s", 295.260833, 38.212222),
    ],
)
def test_positions_are_read_as_they_are_written(text: str, ra_deg: float, dec_deg: float) -> None:
    assert position_of_words(text) == pytest.approx((ra_deg, dec_deg), abs=1e-5)


def test_a_question_that_cannot_be_answered_has_status_2(tmp_path: Path) -> None:
    (tmp_path / "a.fits").write_bytes(b"")
    table = tmp_path / "field.vot"
    table.write_text("no table")
    for arguments, words in (
        ((), "give either --catalogue FILE or --cone URL"),
        (("--catalogue", table), "field.vot"),
        (("--cone", "http://127.0.0.1:1", "--near", "somewhere"), "is no position"),
        (("--cone", "http://127.0.0.1:1", "--scale", 2, 1), "2 is more than 1"),
    ):
        called = ["solve", str(tmp_path / "a.fits"), *(str(a) for a in arguments)]
        answer = CliRunner().invoke(main, called)
        assert answer.exit_code == 2, answer.output
        assert words in answer.output
