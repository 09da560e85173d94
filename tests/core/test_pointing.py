"""What is said of a single image without anything known of it: a star that is pointed at, what the
image looks like, what a star without a name is called.
"""

from __future__ import annotations

import numpy as np
import pytest

from builders import scattered, star_image
from narrow_beacon.core.catalogue.designation import designation
from narrow_beacon.core.correct.appearance import look_at
from narrow_beacon.core.measure.pointing import aperture_at, point_at
from narrow_beacon.simulate.render import add_stars

SHAPE = (400, 500)
SKY, SIGMA, FWHM = 200.0, 8.0, 3.4


@pytest.fixture(scope="module")
def field() -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """An image, the same without noise, places and light of its stars."""
    x, y = scattered(60, SHAPE, gap=34.0)
    flux = np.geomspace(3000.0, 300_000.0, x.size)
    image = star_image(SHAPE, x, y, flux, fwhm=FWHM, sky=SKY, sigma=SIGMA)
    still = np.full(SHAPE, np.float32(SKY))
    add_stars(still, x, y, flux, FWHM)
    return image, still, x, y, flux


def test_a_star_that_is_pointed_at_is_measured_as_surely_as_it_says(field) -> None:  # type: ignore[no-untyped-def]
    image, still, x, y, _ = field
    rng = np.random.default_rng(3)
    pulls, away, widths = [], [], []
    for one in range(x.size):
        # Nobody points at the middle.
        star = point_at(image, x[one] + rng.uniform(-4, 4), y[one] + rng.uniform(-4, 4), 1.0)
        assert star is not None
        true, *_ = aperture_at(still, star.x_px, star.y_px, star.radius_px, star.radius_px / 1.5)
        pulls.append((star.counts_adu - true) / star.uncertainty_adu)
        # A centre is as sure as its star: some σ of the profile over the signal to noise.
        away.append(np.hypot(star.x_px - x[one], star.y_px - y[one]) * star.snr / FWHM)
        widths.append(star.fwhm_px)
    # The means and scatters of 60 normal values, to three times their own.
    assert abs(np.mean(pulls)) < 3.0 / np.sqrt(60)
    assert np.std(pulls) == pytest.approx(1.0, abs=3.0 / np.sqrt(2 * 60))
    assert np.median(away) < 1.0
    assert np.max(away) < 4.0
    bright = np.array(widths[30:], float)
    assert np.median(bright) == pytest.approx(FWHM, rel=0.03)


def test_neither_a_hot_pixel_nor_the_edge_nor_a_hole_misleads(field) -> None:  # type: ignore[no-untyped-def]
    image, _, x, y, _ = field
    spoiled = image.copy()
    spoiled[round(y[50]) + 5, round(x[50]) + 4] += 60_000
    spoiled[round(y[50]) - 30, :] = np.nan
    star = point_at(spoiled, x[50], y[50], None)
    assert star is not None
    assert np.hypot(star.x_px - x[50], star.y_px - y[50]) < 0.1
    corner = point_at(image, 0.0, 0.0, None)
    assert corner is not None
    assert np.isfinite([corner.counts_adu, corner.uncertainty_adu, corner.sky_adu_per_px]).all()
    for beyond in ((-1.0, 5.0), (5.0, SHAPE[0] + 0.0), (SHAPE[1] + 0.0, 5.0)):
        assert point_at(image, *beyond, None) is None


def test_the_looks_of_an_image_are_those_that_it_was_given(field) -> None:  # type: ignore[no-untyped-def]
    assert look_at(field[0]).hot == 0  # bright stars are none, nor is their noise
    x, y = scattered(60, SHAPE, seed=2, gap=34.0)
    flux = np.geomspace(1000.0, 10_000.0, x.size)
    image = star_image(SHAPE, x, y, flux, fwhm=FWHM, sky=SKY, sigma=SIGMA, seed=2)
    rng = np.random.default_rng(5)
    plain = look_at(image)
    assert plain.noise_adu == pytest.approx(SIGMA, rel=0.03)
    assert plain.hot == 0  # stars are none
    assert abs(plain.slope) < 0.2
    assert abs(plain.corners) < 0.2
    assert plain.banding_adu < 0.3
    # Twenty-five hot pixels away from stars, 4% from side to side, rows that jitter by 2 ADU.
    worse = image.copy()
    row, column = np.mgrid[10:390:20, 10:490:20]
    row, column = row.ravel(), column.ravel()
    gap = np.hypot(column[:, None] - x, row[:, None] - y).min(axis=1)
    clear = np.flatnonzero(gap > 12)[:25]
    worse[row[clear], column[clear]] += 300.0
    worse += np.float32(0.04 * SKY) * (np.arange(SHAPE[1]) / SHAPE[1] - 0.5).astype(np.float32)
    worse += rng.normal(0.0, 2.0, (SHAPE[0], 1)).astype(np.float32)
    told = look_at(worse)
    assert told.hot == clear.size == 25
    assert told.slope == pytest.approx(4.0, abs=0.4)
    assert told.banding_adu == pytest.approx(2.0, rel=0.15)  # of 400 rows: 3.5% and the median's
    assert told.noise_adu == pytest.approx(SIGMA, rel=0.06)
    # Corners a tenth darker than the middle.
    v, u = np.mgrid[-1 : 1 : SHAPE[0] * 1j, -1 : 1 : SHAPE[1] * 1j]
    dark = (image * (1.0 - 0.05 * (u**2 + v**2))).astype(np.float32)
    assert look_at(dark).corners == pytest.approx(-10.0, abs=1.0)


@pytest.mark.parametrize(
    ("ra_deg", "dec_deg", "name"),
    [
        (0.0, 0.0, "NB J000000.0+000000"),
        (359.99999, 89.99999, "NB J235959.9+895959"),
        (360.0, -0.0002, "NB J000000.0-000000"),
        (15.0 * (1 + 2 / 60 + 3.49 / 3600), -(4 + 5 / 60 + 6.99 / 3600), "NB J010203.4-040506"),
    ],
)  # fmt: skip
def test_a_star_without_a_name_is_called_by_its_place_cut_off(
    ra_deg: float, dec_deg: float, name: str
) -> None:
    assert designation(ra_deg, dec_deg) == name
