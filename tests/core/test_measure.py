"""Apertures, sky, noise and flags: how bright, and how sure."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import quad

from builders import scattered, star_image
from narrow_beacon.bench.crowd import measure_pairs
from narrow_beacon.bench.pulls import CONDITIONS, measure_pulls
from narrow_beacon.core.correct.apply import DEFECT, SATURATED, SPIKE
from narrow_beacon.core.measure.aperture import mask_stars, measure_apertures
from narrow_beacon.core.measure.blends import centre_of, share_of
from narrow_beacon.core.measure.census import Apertures, ExposureCensus, Image, Places, take_census
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.flags import StarFlag, flag_words
from narrow_beacon.core.measure.growth import choose_radius
from narrow_beacon.core.measure.neighbours import Neighbours
from narrow_beacon.core.measure.neighbours_light import overlaps
from narrow_beacon.core.measure.noise import (
    CameraConstants,
    Exposed,
    Light,
    aperture_uncertainty,
    scintillation,
)
from narrow_beacon.core.measure.overlap import pixel_overlap
from narrow_beacon.core.measure.spread import spread_of
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import Detections, detect
from narrow_beacon.core.stars.profile import StarProfile, measure_profile, total_light
from narrow_beacon.core.stars.trails import Trail
from narrow_beacon.simulate.render import add_stars

SHAPE = (256, 320)
RADII = np.array([1.2, 2.0, 3.0, 4.5, 6.0, 9.0])
CAMERA = CameraConstants(1.0, 0.0)


def sums_of(
    image: np.ndarray, x: np.ndarray, y: np.ndarray, radii: np.ndarray = RADII, *, mask: float = 9.0
):  # type: ignore[no-untyped-def]
    flags = np.zeros(image.shape, np.uint8)
    mask_stars(flags, x, y, np.full(x.size, mask))
    sky, noise = measure_background(image).at(x, y)
    return measure_apertures(image, flags, x, y, radii, (10.5, 16.5), sky, noise)


@given(st.floats(-0.5, 0.5), st.floats(-0.5, 0.5), st.floats(0.1, 12.0))
def test_overlaps_add_up_to_the_circle(x: float, y: float, radius: float) -> None:
    span = range(-int(radius) - 2, int(radius) + 3)
    total = sum(pixel_overlap(i - x, j - y, radius) for i in span for j in span)
    assert abs(total - np.pi * radius**2) < 1e-6


@given(st.floats(-6, 6), st.floats(-6, 6), st.floats(0.2, 8.0))
def test_each_overlap_is_its_integral(x: float, y: float, radius: float) -> None:
    def height(u: float) -> float:
        half = np.sqrt(max(radius**2 - u * u, 0.0))
        return max(0.0, min(y + 0.5, half) - max(y - 0.5, -half))

    # The integrand has corners where the circle crosses the pixel's edges.
    corners = [
        s * np.sqrt(max(radius**2 - e * e, 0.0)) for e in (y - 0.5, y + 0.5, 0) for s in (-1, 1)
    ]
    edges = sorted({x - 0.5, x + 0.5, *(c for c in corners if x - 0.5 < c < x + 0.5)})
    area = sum(quad(height, a, b, epsabs=1e-9)[0] for a, b in pairwise(edges))
    assert abs(pixel_overlap(x, y, radius) - area) < 1e-6


def test_apertures_on_a_plateau_measure_their_area() -> None:
    yy, xx = np.mgrid[0:80, 0:80]
    plateau = (np.hypot(xx - 40, yy - 40) < 14).astype(np.float32)
    rng = np.random.default_rng(1)
    x, y = rng.uniform(38, 42, 50), rng.uniform(38, 42, 50)
    radii = np.array([0.4, 1.0, 1.49, 1.5, 2.3, 5.0, 9.6])
    flags = np.zeros(plateau.shape, np.uint8)
    sums = measure_apertures(
        plateau, flags, x, y, radii, (22.0, 26.0), np.zeros(50), np.full(50, 0.1)
    )
    # Each share of a pixel is a 32-bit float, good to seven digits.
    assert np.abs(sums.counts_adu / (np.pi * radii**2) - 1.0).max() < 2e-7


@pytest.mark.parametrize("radii", [(0.5, 1.3, 1.5, 2.9, 6.4), (0.4,), (0.3, 0.9), (1.1, 1.4)])
def test_each_pixel_counts_by_its_overlap_wherever_the_star_is(radii: tuple[float, ...]) -> None:
    rng = np.random.default_rng(3)
    image = rng.normal(0.0, 100.0, (40, 44)).astype(np.float32)
    x, y = rng.uniform(-0.4, 43.4, 60), rng.uniform(-0.4, 39.4, 60)  # beyond the edge as well
    flags = np.zeros(image.shape, np.uint8)
    sums = measure_apertures(
        image, flags, x, y, np.array(radii), (9.0, 14.0), np.zeros(60), np.full(60, 100.0)
    )
    for n in range(60):
        for k, radius in enumerate(radii):
            share = np.array(
                [[pixel_overlap(i - x[n], j - y[n], radius) for i in range(44)] for j in range(40)]
            )
            light = np.sum(share * (image - sums.sky_adu_per_px[n]))
            # A 32-bit share is wrong by less than 1e-6 of a pixel of some 100 ADU.
            assert abs(sums.counts_adu[n, k] - light) < 1e-4 * radius * 6.3
        away = np.hypot(np.arange(44) - x[n], np.arange(40)[:, None] - y[n])
        middle = (away <= radii[-1]) | (away == away.min())
        assert abs(sums.peak_adu[n] - image[middle].max()) < 1e-3


def test_a_star_of_known_light_is_measured_whole() -> None:
    x, y = scattered(30, SHAPE, gap=40)
    flux = np.geomspace(5e3, 2e5, 30)
    image = star_image(SHAPE, x, y, flux)
    sums = sums_of(image, x, y)
    # Moffat with β = 2.5: the share within r is 1 − (1 + r²/α²)^−1.5.
    alpha = 3.0 / (2 * np.sqrt(2**0.4 - 1))
    share = 1 - (1 + 81 / alpha**2) ** -1.5
    ring = (
        ((1 + 10.5**2 / alpha**2) ** -1.5 - (1 + 16.5**2 / alpha**2) ** -1.5)
        * 81
        / (16.5**2 - 10.5**2)
    )
    ratio = sums.counts_adu[:, -1] / (flux * (share - ring))
    sigma = np.sqrt(flux + np.pi * 81 * 64 * 1.5) / flux
    assert np.abs(ratio - 1).max() < 4.5 * sigma.max()
    assert abs(np.median((ratio - 1) / sigma)) < 1.0


def test_a_neighbour_in_the_ring_does_not_raise_the_sky() -> None:
    x, y = np.array([100.0, 113.0]), np.array([100.0, 100.0])
    lonely = sums_of(star_image(SHAPE, x[:1], y[:1], np.array([1e4])), x[:1], y[:1])
    crowded = star_image(SHAPE, x, y, np.array([1e4, 3e5]))
    masked = sums_of(crowded, x, y)
    # What is left is the neighbour's outer wing, below the noise of the sky in the ring's pixels.
    assert abs(masked.sky_adu_per_px[0] - lonely.sky_adu_per_px[0]) < 8.0


STEP_ADU = 16.0


@pytest.mark.parametrize("level", [0.0, 0.25, 0.4, 0.5])
@pytest.mark.parametrize("scatter", [0.4, 0.7])
def test_a_sky_in_coarse_steps_is_taken_off_whole(level: float, scatter: float) -> None:
    """Twelve bits in words of sixteen: most pixels of a dark sky have one value."""
    rng = np.random.default_rng(8)
    shape = (400, 400)
    raw = np.rint(rng.normal(20.0 + level, scatter, shape))
    # A master's own pattern is fine beside a step.
    image = (STEP_ADU * raw - rng.normal(0, 1.0, shape)).astype(np.float32)
    background = measure_background(image, step_adu=STEP_ADU)
    # Rounding adds its own scatter, 1/√12 of a step.
    whole = STEP_ADU * np.hypot(scatter, 12**-0.5)
    assert 0.75 < background.median_noise_adu / whole < 1.35
    assert len(detect(image, background, 3.0).stars) <= 5
    x, y = rng.uniform(30, 370, (2, 200))
    flags = np.zeros(shape, np.uint8)
    sums = measure_apertures(
        image, flags, x, y, np.array([5.0]), (10.0, 18.0), *background.at(x, y), STEP_ADU
    )
    # 79 pixels each: their noise, over the root of 200; rounding lets a sky be off by a
    # hundredth of a step, where it scatters by less than half of one.
    noise = whole * np.sqrt(79.0 / 200.0) * 1.05
    assert abs(np.mean(sums.counts_adu)) < 4.0 * noise
    true = STEP_ADU * raw.mean()
    assert np.mean(sums.sky_adu_per_px) == pytest.approx(true, abs=0.05 * STEP_ADU)


def test_the_noise_of_an_aperture_is_the_equation() -> None:
    camera = CameraConstants(1.5, 8.0, 0.1, 0.25, 500.0)
    light = Light(
        np.array([[1e5]]), np.array([200.0]), np.array([400.0]), np.array([5.0]), 3.0, np.ones(1)
    )
    sigma = aperture_uncertainty(light, Exposed(60.0, 1.5), camera)[0, 0]
    n = np.pi * 25
    scint = np.sqrt(1e-5 * 2.25 * 0.25 ** (-4 / 3) / 60 * 1.5**3 * np.exp(-1000 / 8000))
    electrons = 1e5 * 1.5
    expected = electrons + n * (1 + n / 400) * (300 + 6 + 64 + 2.25 / 12) + (scint * electrons) ** 2
    assert sigma == pytest.approx(np.sqrt(expected) / 1.5, rel=1e-12)
    assert scintillation(0.25, 60.0, 1.5, 500.0) == pytest.approx(scint)


@pytest.mark.parametrize("name", ["exact masters", "scaled dark, k = 5", "3 flats, dim"])
def test_uncertainties_are_what_errors_scatter_by(name: str) -> None:
    condition = next(c for c in CONDITIONS if c.name == name)
    # 16 frames of 36 stars: 576 values, whose scatter is known to 3%.
    assert measure_pulls(condition, 16, grid=6).whole == pytest.approx(1.0, abs=0.1)


def census_of(
    image: np.ndarray, x: np.ndarray, y: np.ndarray, flags: np.ndarray | None = None, *,
    trails: tuple[Trail, ...] = (), magnitude: np.ndarray | None = None,
) -> ExposureCensus:  # fmt: skip
    background = measure_background(image)
    flags = np.zeros(image.shape, np.uint8) if flags is None else flags
    found = detect(image, background, 3.0)
    sky, _ = background.at(found.stars.x_px, found.stars.y_px)
    return take_census(
        Image(
            image, flags, background, found.stars,
            measure_profile(image, flags, found.stars, sky, 3.0), trails,
        ),
        Places(
            np.arange(x.size), x, y, np.full(x.size, 12.0) if magnitude is None else magnitude
        ),
        Apertures(3.0, RADII, (10.5, 16.5)), Exposed(60.0, 1.2), CAMERA,
    )  # fmt: skip


def test_every_flag_is_raised_from_the_radius_where_it_matters() -> None:
    x = np.array([60.0, 120.0, 180.0, 5.0, 240.0, 240.0, 60.0])
    y = np.array([60.0, 60.0, 60.0, 200.0, 120.0, 128.0, 200.0])
    image = star_image(SHAPE, x, y, np.full(7, 5e4))
    flags = np.zeros(SHAPE, np.uint8)
    flags[60, 63] = SATURATED
    flags[64, 120] = DEFECT
    flags[60, 182] = SPIKE
    trail = Trail(0.0, 206.0, 319.0, 206.0, 50.0)
    census = census_of(image, x, y, flags, trails=(trail,))
    words = [flag_words(int(f)) for f in census.flags_at(6.0)]
    assert words[:3] == [["saturated"], ["bad pixel"], ["cosmic ray"]]
    assert "edge" in words[3]
    assert words[4] == words[5] == ["neighbour"]
    assert words[6] == ["trail"]
    assert not census.flags_at(1.2)[:3].any()  # 2 to 4 pixels away from the centre


def test_a_star_that_is_not_where_it_should_be_is_flagged() -> None:
    x, y = scattered(20, SHAPE, gap=40)
    image = star_image(SHAPE, x, y, np.full(20, 5e4))
    shifted = x.copy()
    shifted[4] += 1.8
    census = census_of(image, shifted, y)
    off = (census.flags_at(4.5) & int(StarFlag.OFF_CENTRE)) > 0
    assert list(np.flatnonzero(off)) == [4]
    assert np.abs(np.delete(census.x_px - x, 4)).max() < 0.1  # the others at their own centroid


def test_a_collection_keeps_stars_in_their_columns() -> None:
    x, y = scattered(20, SHAPE, gap=30)
    image = star_image(SHAPE, x, y, np.full(20, 5e4))
    first = census_of(image, x, y)
    second = census_of(image, x[5:], y[5:])
    moved = ExposureCensus(**{**second.__dict__, "rows": second.rows + 5})
    both = FilterCensus.of([first, moved], [60.0, 30.0])
    assert both.column(7) == 7
    assert both.column(99) is None
    assert np.isnan(both.counts_adu[1, :5]).all()
    magnitude, _ = both.magnitudes(3)
    # Each is laid on its own stars' centres, which agree to some hundredths of a pixel.
    assert np.allclose(magnitude[1, 5:] - magnitude[0, 5:], -2.5 * np.log10(2), atol=1e-3)
    assert not both.usable(3)[1, :5].any()


def test_growth_and_radius() -> None:
    x, y = scattered(20, SHAPE, gap=40)
    sums = sums_of(star_image(SHAPE, x, y, np.full(20, 2e5)), x, y)
    growth = np.median(sums.counts_adu / sums.counts_adu[:, -1:], axis=0)
    assert np.all(np.diff(growth) > 0)
    snr = np.array([50, 80, 90, 95, 80, 60.0])
    scatter = np.array([20, 12, 8.1, 8.0, 9, 13.0]) / 1000
    assert choose_radius(RADII, snr, scatter).step == 3
    assert choose_radius(RADII, snr, np.full(6, np.nan)).step == 3


def test_a_sky_noisier_than_the_model_widens_the_uncertainty() -> None:
    x, y = scattered(20, SHAPE, gap=40)
    image = star_image(SHAPE, x, y, np.full(20, 3e3), sky=200.0, sigma=25.0)
    # The model knows of the sky's 14 electrons of noise, the image has 25.
    census = census_of(image, x, y)
    assert census.noise[1] == pytest.approx(25.0 / np.sqrt(200.0), rel=0.05)
    ring = np.pi * (16.5**2 - 10.5**2)
    n = np.pi * RADII[4] ** 2
    expected = np.sqrt(3e3 + n * (1 + n / ring) * 25.0**2)
    assert np.median(census.uncertainty_adu[:, 4]) == pytest.approx(expected, rel=0.05)


def test_neighbours_light_is_known_wings_and_all() -> None:
    x = np.array([100.0, 112.0, 220.0, 60.0, 250.0, 160.0, 40.0])
    y = np.array([100.0, 100.0, 60.0, 200.0, 200.0, 220.0, 60.0])
    flux = np.array([2e4, 4e5, 1e5, 1e5, 1e5, 1e5, 1e5])
    both = star_image(SHAPE, x, y, flux)
    xs, ys = np.delete(x, 1), np.delete(y, 1)
    alone = census_of(star_image(SHAPE, xs, ys, np.delete(flux, 1)), xs, ys)
    # A neighbour that the catalogue lacks is left in, and said.
    unlisted = census_of(both, xs, ys)
    truth = unlisted.counts_adu[0] - alone.counts_adu[0]
    # At 6 px: 12% of the star's own light, known to a fifth of it.
    assert truth[4] / alone.counts_adu[0, 4] > 0.08
    assert unlisted.neighbour_adu[0, 4] == pytest.approx(truth[4], rel=0.3)
    assert "neighbour" in flag_words(int(unlisted.flags_at(6.0)[0]))
    assert abs(unlisted.neighbour_adu[1:, 4]).max() < 0.002 * 1e5
    # One that it knows is taken off: four fifths of what it adds, though it is 20 times brighter.
    listed = census_of(both, x, y)
    assert abs(listed.counts_adu[0, 4] - alone.counts_adu[0, 4]) < 0.25 * truth[4]
    assert listed.neighbour_adu[0, 4] < 0.1 * truth[4]


@pytest.mark.parametrize("brighter_mag", [0.0, 4.0, 8.0])
def test_a_star_that_only_the_catalogue_has_shines_on_nothing(brighter_mag: float) -> None:
    x = np.array([100.0, 220.0, 60.0, 250.0, 160.0, 40.0])
    y = np.array([100.0, 60.0, 200.0, 200.0, 220.0, 60.0])
    image = star_image(SHAPE, x, y, np.full(6, 1e5))
    alone = census_of(image, x, y)
    magnitude = np.append(np.full(6, 12.0), 12.0 - brighter_mag)
    ghost = census_of(image, np.append(x, 112.0), np.append(y, 100.0), magnitude=magnitude)
    # It may have what its own aperture could hide: 5 σ of 2.7 pixels' radius at 2σ over 40%, some
    # 250 ADU, of which a fiftieth falls into the other's apertures.
    assert ghost.counts_adu[0] == pytest.approx(alone.counts_adu[0], abs=100.0)
    assert ghost.counts_adu[0, 4] == pytest.approx(alone.counts_adu[0, 4], abs=30.0)
    assert not int(ghost.flags_at(6.0)[0]) & (1 << StarFlag.NEIGHBOUR)


@pytest.mark.parametrize("second_mag", [11.5, 12.0, 13.0])
@pytest.mark.parametrize("gap_px", [1.4, 2.0, 2.7])
@pytest.mark.parametrize("there", [True, False])
def test_two_stars_found_as_one_have_each_its_part_or_one_has_all(
    there: bool, gap_px: float, second_mag: float
) -> None:
    x = np.array([100.4, 220.0, 60.0, 250.0, 160.0, 40.0])
    y = np.array([100.3, 60.0, 200.0, 200.0, 220.0, 60.0])
    light = 1e5 * 10 ** (-0.4 * (second_mag - 12.0))
    xs, ys = np.append(x, x[0] + 0.8 * gap_px), np.append(y, y[0] - 0.6 * gap_px)
    image = star_image(SHAPE, xs, ys, np.append(np.full(6, 1e5), light if there else 0.0))
    magnitude = np.append(np.full(6, 12.0), second_mag)
    census = census_of(image, xs, ys, magnitude=magnitude)
    alone = census_of(star_image(SHAPE, x, y, np.full(6, 1e5)), x, y)
    away = census.counts_adu[0, 4] / alone.counts_adu[0, 4] - 1.0
    # The centre says the second's share to a few hundredths of both, its profile to as much.
    assert abs(away) < (0.05 * (1e5 + light) / 1e5 if there else 0.005)
    if there:
        assert census.counts_adu[6, 4] == pytest.approx(light, rel=0.1 + 0.03 * 1e5 / light)


def test_the_centre_of_two_stars_says_how_their_light_is_shared() -> None:
    share, gap = (v.ravel() for v in np.meshgrid([0.02, 0.2, 0.5, 0.7], [0.3, 0.6, 1.0]))
    assert share_of(centre_of(share, gap), gap) == pytest.approx(share, abs=0.01)
    for f, g in ((0.2, 0.5), (0.35, 0.8), (0.5, 0.8)):
        x = np.array([100.3, 100.3 + 3.0 * g])
        image = star_image(SHAPE, x, np.full(2, 90.2), np.array([1e5 * (1 - f), 1e5 * f]))
        found = detect(image, measure_background(image), 3.0).stars
        place = (found.x_px[0] - x[0]) / (3.0 * g)
        assert share_of(np.array([place]), np.array([g]))[0] == pytest.approx(f, abs=0.03)


@pytest.mark.parametrize(("gap_fwhm", "fainter", "aim"), [(3.5, 0.0, 0.005), (2.5, 0.0, 0.015)])
def test_close_pairs_are_told_apart(gap_fwhm: float, fainter: float, aim: float) -> None:
    pairs = measure_pairs(gap_fwhm, fainter, 4)
    assert abs(pairs.bias_mag) < aim
    assert np.mean(pairs.raw_mag) < -0.005 * (3.5 / gap_fwhm) ** 4  # what is left in otherwise
    assert np.std(pairs.pull) < 1.5


@pytest.mark.parametrize("gap_fwhm", [1.2, 1.8, 2.5, 3.5])
def test_what_a_star_adds_to_the_aperture_beside_it_is_known_to_a_hundredth(
    gap_fwhm: float,
) -> None:
    # The profile as it was drawn; places all over a pixel, without noise or sky.
    fwhm, radii, many = 3.0, np.array([2.0, 4.8, 7.0]), 64
    x, y = (v.ravel() + 0.37 for v in np.meshgrid(*[40.0 + 60.125 * np.arange(8)] * 2))
    image = np.zeros((540, 540), np.float32)
    add_stars(image, x, y, np.full(many, 1e5), fwhm)
    no = np.zeros(image.shape, np.uint8)
    ring = (30.0, 34.0)
    beside = measure_apertures(
        image, no, x + gap_fwhm * fwhm, y, radii, ring, np.zeros(many), np.ones(many)
    )
    truth = (beside.counts_adu + np.pi * radii**2 * beside.sky_adu_per_px[:, None]).mean(axis=0)
    nothing = Detections(*(np.empty(0) for _ in range(7)), 1.4)
    spread = spread_of(StarProfile(fwhm, 2.5, 1.0, 1), image, no, nothing, np.empty(0))
    one = Neighbours(
        *(np.array([v]) for v in (gap_fwhm * fwhm, 0.0, 1e5, np.nan, 0.0)),
        np.array([-1]),
        np.zeros(1),
    )
    here, far = np.zeros(1), (1e3, 1.1e3)  # a ring without any of its light
    over = overlaps(here, here, np.ones(1), np.full(1, 1e9), one, spread, radii, far, fwhm)
    assert over.share[0] == pytest.approx(truth / 1e5, rel=0.01, abs=2e-4)


@pytest.mark.parametrize("guess_px", [2.6, 3.0, 4.5])
def test_the_wings_are_a_stars_own_whatever_width_it_was_sought_by(guess_px: float) -> None:
    x, y = scattered(12, SHAPE, gap=60)
    image = star_image(SHAPE, x, y, np.full(x.size, 2e5))
    background = measure_background(image)
    stars = detect(image, background, guess_px).stars
    sky, _ = background.at(stars.x_px, stars.y_px)
    flags = np.zeros(SHAPE, np.uint8)
    profile = measure_profile(image, flags, stars, sky, guess_px)
    assert profile is not None
    if guess_px >= 3.0:  # a narrower one falls between pixels
        assert np.median(total_light(stars, profile)) == pytest.approx(2e5, rel=0.04)
    # Beyond the fit the measured wings go on where it ends: no step, which was 40% once.
    spread = spread_of(profile, image, flags, stars, sky)
    r = np.array([4.5, 6.0, 8.0])
    alpha2 = (3.0 / 2.0) ** 2 / (2.0**0.4 - 1.0)
    moffat = 1.5 / (np.pi * alpha2) * (1.0 + r**2 / alpha2) ** -2.5
    seen = np.interp(r, np.arange(spread.brightness.size) * spread.step_px, spread.brightness)
    assert seen == pytest.approx(moffat, rel=0.12)


def test_a_star_with_a_bad_pixel_still_tells_its_light_from_its_neighbours() -> None:
    # Two of 3·10⁴, 1.3 widths apart; by the catalogue one is three times as bright as it is.
    x, y = scattered(20, SHAPE, gap=40)
    x, y = np.append(x, x[0] + 3.9), np.append(y, y[0])
    image = star_image(SHAPE, x, y, np.full(x.size, 3e4))
    flags = np.zeros(SHAPE, np.uint8)
    flags[round(y[-1]) + 1, round(x[-1]) + 1] = DEFECT
    magnitude = np.full(x.size, 12.0)
    magnitude[-1] -= 1.2
    pair = census_of(image, x, y, flags, magnitude=magnitude)
    alone = np.median(pair.counts_adu[1:20, 3])
    assert -2.5 * np.log10(pair.counts_adu[0, 3] / alone) == pytest.approx(0.0, abs=0.04)


def test_what_a_repaired_pixel_may_cost_follows_its_place() -> None:
    x, y = scattered(12, SHAPE, gap=40)
    x, y = np.rint(x), np.rint(y)
    image = star_image(SHAPE, x, y, np.full(12, 1e5))
    flags = np.zeros(SHAPE, np.uint8)
    for n, away in ((0, 0), (1, 5)):  # at the peak, and in the outskirts
        flags[int(y[n]), int(x[n]) + away] = DEFECT
    census = census_of(image, x, y, flags)
    peak, outskirts = census.doubt_adu[:2, 4] / census.counts_adu[:2, 4]
    assert 0.0005 < peak < 0.02
    assert outskirts < 0.0005
    assert not census.doubt_adu[2:, 4].any()


def test_light_that_does_not_grow_as_others_do_is_odd() -> None:
    x, y = scattered(16, SHAPE, gap=36)
    image = star_image(SHAPE, x, y, np.full(16, 1e5))
    image[int(y[3]) + 2, int(x[3]) + 3] += 6000.0  # too broad for a spike in nobody's list
    image[int(y[3]) + 3, int(x[3]) + 3] += 5000.0
    census = census_of(image, x, y)
    odd = (census.flags_at(6.0) & int(StarFlag.ODD_LIGHT)) > 0
    assert np.flatnonzero(odd).tolist() == [3]
    assert census.doubt_adu[3, 4] == pytest.approx(11000.0, rel=0.3)


def test_a_star_is_measured_by_one_rule_bright_or_faint() -> None:
    """A star whose catalogue is 0.3 px off stays there when it fades: its own centre, which only a
    bright one has, would make its magnitude step.
    """
    x, y = scattered(24, SHAPE, gap=36)
    predicted = x.copy()
    predicted[5] += 0.3
    places = []
    for light in (1e5, 1.5e3):
        flux = np.full(24, 1e5)
        flux[5] = light
        census = census_of(star_image(SHAPE, x, y, flux), predicted, y)
        places.append(census.x_px[5] - np.median(np.delete(census.x_px - x, 5)) - x[5])
    assert places == pytest.approx([0.3, 0.3], abs=0.05)
    assert abs(places[0] - places[1]) < 0.02
