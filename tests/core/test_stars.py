"""What is on an exposure: sky, stars, their width, and what is no star."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders import noise, scattered, star_image
from narrow_beacon.core.stars.background import Background, measure_background
from narrow_beacon.core.stars.detect import RING_WIDTHS, detect, likely_width
from narrow_beacon.core.stars.nearest import nearest, owners_of, pairs_within
from narrow_beacon.core.stars.profile import measure_profile
from narrow_beacon.core.stars.strikes import mark_strikes
from narrow_beacon.core.stars.trails import find_trails
from narrow_beacon.reduce.seeing import see
from narrow_beacon.simulate.render import add_rings, add_trail

SHAPE = (512, 640)


def test_background_follows_a_gradient_under_stars() -> None:
    x, y = scattered(150, SHAPE)
    ramp = np.linspace(0, 60, SHAPE[1], dtype=np.float32)[None, :]
    image = star_image(SHAPE, x, y, np.full(150, 2e4), sky=300, sigma=7) + ramp
    background = measure_background(image)
    centres = (np.arange(background.sky_adu.shape[1]) + 0.5) * 64
    expected = 300 + 60 * centres / SHAPE[1]
    # 64 samples a cell and a median of nine: 7 · 1.25 / 8 / ~2 ADU, and a little starlight.
    assert np.abs(np.median(background.sky_adu, axis=0) - expected).max() < 2.0
    assert background.median_noise_adu == pytest.approx(7.0, rel=0.1)


@pytest.mark.parametrize("fwhm", [2.0, 3.0, 5.0])
def test_stars_are_found_where_they_are_and_nothing_else_is(fwhm: float) -> None:
    x, y = scattered(120, SHAPE, gap=8 * fwhm if fwhm < 4 else 24)
    flux = np.geomspace(1.5e3, 2e5, 120) * (fwhm / 3.0)
    image = star_image(SHAPE, x, y, flux, fwhm=fwhm)
    found = detect(image, measure_background(image), fwhm).stars
    away = np.hypot(found.x_px[:, None] - x, found.y_px[:, None] - y)
    assert (away.min(axis=0) < 1.0).mean() > 0.98
    assert (away.min(axis=1) > 2.0).sum() <= 2  # 330,000 pixels at five sigma
    bright = flux > 3e4
    assert away.min(axis=0)[bright].max() < 0.08
    order = away.argmin(axis=1)[:20]
    assert np.all(np.diff(flux[order]) < 0.3 * flux[order][:-1])  # brightest first


def test_touching_stars_are_told_apart() -> None:
    image = star_image(
        SHAPE, np.array([200.0, 206.0]), np.array([200.0, 201.0]), np.array([3e4, 2e4])
    )
    assert len(detect(image, measure_background(image), 3.0).stars) == 2


def test_noise_alone_gives_no_stars() -> None:
    image = noise((1024, 1024), 500, 10)
    assert len(detect(image, measure_background(image), 3.0).stars) <= 2


@pytest.mark.parametrize("fwhm", [2.0, 3.0, 4.5])
def test_single_bright_pixels_are_spikes_not_stars(fwhm: float) -> None:
    x, y = scattered(40, SHAPE)
    image = star_image(SHAPE, x, y, np.full(40, 3e4), fwhm=fwhm)
    rng = np.random.default_rng(3)
    i, j = rng.integers(30, 600, 30), rng.integers(30, 480, 30)
    alone = np.array([np.hypot(x - a, y - b).min() > 15 for a, b in zip(i, j, strict=True)])
    i, j = i[alone], j[alone]
    image[j, i] += 2500
    found = detect(image, measure_background(image), fwhm)
    marked = {(int(a), int(b)) for a, b in found.spikes}
    assert {(int(a), int(b)) for a, b in zip(i, j, strict=True)} <= marked
    assert len(found.stars) == 40


@pytest.mark.parametrize("fwhm", [1.0, 1.3, 2.0, 2.8, 4.0, 7.0])
def test_star_width_is_right(fwhm: float) -> None:
    x, y = scattered(40, SHAPE, gap=40)
    image = star_image(SHAPE, x, y, np.full(40, 1e5), fwhm=fwhm)
    background = measure_background(image)
    stars = detect(image, background, fwhm * 1.1).stars
    sky, _ = background.at(stars.x_px, stars.y_px)
    profile = measure_profile(image, np.zeros(SHAPE, np.uint8), stars, sky, fwhm * 1.1)
    assert profile is not None
    # Just above 2.5 pixels, where the series for what a pixel gathers begins, it is 1% short.
    assert profile.fwhm_px == pytest.approx(fwhm, rel=0.015)
    assert profile.beta == pytest.approx(2.5, rel=0.05)
    # The moments of narrower ones are those of a few pixels.
    assert profile.elongation < (1.05 if fwhm >= 2.0 else 1.15)


def test_centres_drawn_to_every_second_pixel_do_not_widen_the_stars() -> None:
    x, y = scattered(40, (1024, 1280), gap=80)
    # Of a colour sensor a colour has one pixel in four, half as wide as they are apart.
    image = np.ascontiguousarray(
        star_image((1024, 1280), x, y, np.full(40, 1e5), fwhm=2.0)[::2, ::2]
    )
    background = measure_background(image)
    stars = detect(image, background, 1.2).stars
    sky, _ = background.at(stars.x_px, stars.y_px)
    profile = measure_profile(image, np.zeros(image.shape, np.uint8), stars, sky, 1.2, 0.5)
    assert profile is not None
    # About the centres that were found it was 1.11, and β 3.9.
    assert profile.fwhm_px == pytest.approx(1.0, rel=0.015)
    assert profile.beta == pytest.approx(2.5, rel=0.05)


def test_the_star_width_does_not_hang_on_what_it_was_sought_with() -> None:
    x, y = scattered(40, SHAPE, gap=40)
    image = star_image(SHAPE, x, y, np.full(40, 1e5), fwhm=3.0)
    background = measure_background(image)
    stars = detect(image, background, 3.0).stars
    sky, _ = background.at(stars.x_px, stars.y_px)
    flags = np.zeros(SHAPE, np.uint8)
    found = [measure_profile(image, flags, stars, sky, guess) for guess in (2.4, 3.0, 3.9)]
    # The pixels that are fitted reach as far as the guess says, and their noise is not the same.
    widths, betas = [one.fwhm_px for one in found if one], [one.beta for one in found if one]
    assert np.ptp(widths) < 0.01
    assert np.ptp(betas) < 0.06
    assert np.allclose(widths, 3.0, rtol=0.01)


def test_drawn_out_stars_show_in_the_elongation() -> None:
    x, y = scattered(40, SHAPE, gap=40)
    image = sum(
        star_image(SHAPE, x + d, y, np.full(40, 4e4), sigma=4, seed=int(d)) for d in (0, 1, 2, 3)
    )
    background = measure_background(image)
    stars = detect(image, background, 3.5).stars
    # A shift spread over 3 px adds 3²·5/4/12 to a variance of ~1.9: axes in a ratio of 1.3.
    assert np.median(stars.elongation) > 1.2


@pytest.mark.parametrize("angle", [3.0, 27.0, 88.0, 141.0])
@pytest.mark.parametrize("strength", [150.0, 2000.0])
def test_a_trail_is_found_where_it_runs(angle: float, strength: float) -> None:
    x, y = scattered(200, SHAPE)
    image = star_image(SHAPE, x, y, np.geomspace(2e3, 3e5, 200))
    add_trail(image, (300.0, 260.0), angle, strength, 3.0)
    background = measure_background(image)
    found = detect(image, background, 3.0)
    trails = find_trails(image, found.block_means, background, 3.0)
    assert len(trails) == 1
    t = np.linspace(-150, 150, 7)
    on = 300 + t * np.cos(np.radians(angle)), 260 + t * np.sin(np.radians(angle))
    assert trails[0].distance(*on).max() < 1.5


@pytest.mark.parametrize("row", [False, True])
def test_a_bad_column_or_row_is_no_trail_but_a_trail_along_it_is_one(row: bool) -> None:
    x, y = scattered(120, SHAPE)
    image = star_image(SHAPE, x, y, np.geomspace(2e3, 1e5, 120))
    hot = image.copy()
    hot[np.s_[332, 60:] if row else np.s_[60:, 332]] += 300.0
    add_trail(image, (332.0, 332.0), 0.0 if row else 90.0, 900.0, 3.0)
    for seen, count in ((hot, 0), (image, 1)):
        background = measure_background(seen)
        found = detect(seen, background, 3.0)
        assert len(find_trails(seen, found.block_means, background, 3.0)) == count


@pytest.mark.parametrize("axis", [0, 1])
def test_bands_of_a_noisy_camera_are_no_trails(axis: int) -> None:
    """Rows, or columns, that scatter by as much as their pixels do."""
    for seed in range(12):
        x, y = scattered(90, (300, 320), seed=seed)
        image = star_image((300, 320), x, y, np.geomspace(2e3, 1e5, 90), seed=seed)
        bands = np.random.default_rng(seed).normal(0.0, 12.0, image.shape[axis])
        image += bands[:, None] if axis == 0 else bands[None, :]
        background = measure_background(image)
        found = detect(image, background, 3.0)
        assert find_trails(image, found.block_means, background, 3.0) == []


@pytest.mark.parametrize("seed", range(5))
def test_a_crowded_field_has_no_trails(seed: int) -> None:
    x, y = scattered(500, SHAPE, seed=seed, gap=6)
    image = star_image(SHAPE, x, y, np.geomspace(1e3, 5e5, 500), seed=seed)
    background = measure_background(image)
    found = detect(image, background, 3.0)
    assert find_trails(image, found.block_means, background, 3.0) == []


def test_a_cosmic_ray_on_a_star_is_flagged_and_clean_stars_are_not() -> None:
    x, y = scattered(60, SHAPE, gap=30)
    flux = np.geomspace(1e4, 3e5, 60)
    image = star_image(SHAPE, x, y, flux)
    struck = np.arange(10, 60, 5)
    for n in struck:
        image[round(y[n]) + 1, round(x[n]) - 1] += 0.05 * flux[n] + 600
    background = measure_background(image)
    sky, sigma = background.at(x, y)
    flags = np.zeros(SHAPE, np.uint8)
    stars = detect(image, background, 3.0).stars
    profile = measure_profile(image, flags, stars, background.at(stars.x_px, stars.y_px)[0], 3.0)
    assert profile is not None
    mark_strikes(image, flags, x, y, flux, sky, sigma, 1.0, profile)
    marked = np.array(
        [
            flags[int(b) - 3 : int(b) + 5, int(a) - 3 : int(a) + 5].any()
            for a, b in zip(x, y, strict=True)
        ]
    )
    assert marked[struck].all()
    assert not np.delete(marked, struck).any()


def test_a_crowded_image_is_searched_to_its_top() -> None:
    rng = np.random.default_rng(3)
    image = rng.normal(100.0, 5.0, (900, 900)).astype(np.float32)
    # Blobs two pixels wide, four apart: more than can be kept, most of them faint.
    light = rng.exponential(150.0, (225, 225)) + 60.0
    image[::4, ::4] += light
    image[1::4, ::4] += 0.5 * light
    image[::4, 1::4] += 0.5 * light
    background = Background(
        np.full((15, 15), 100.0, np.float32),
        np.full((15, 15), 5.0, np.float32),
        64,
        (900, 900),
    )
    stars = detect(image, background, 1.8).stars
    assert len(stars) > 5000
    assert stars.y_px.max() > 880


@pytest.mark.parametrize("radius", [10.0, 14.0, 20.0])
def test_a_ring_of_light_is_one_star(radius: float) -> None:
    x, y = scattered(16, (600, 600), seed=2, gap=6 * radius)
    light = np.zeros((600, 600), np.float32)
    add_rings(light, x, y, np.geomspace(5e4, 1e6, 16), radius, 3.0)
    rng = np.random.default_rng(4)
    image = (rng.poisson(light) + rng.normal(200, 8, light.shape)).astype(np.float32)
    guess = likely_width(image, measure_background(image))
    flags = np.zeros(image.shape, np.uint8)
    width = see(image, flags, guess).quality.fwhm_px
    seen = see(image, flags, RING_WIDTHS * width)
    assert len(seen.stars) == 16
    places = zip(x, y, strict=True)
    away = [np.hypot(seen.stars.x_px - a, seen.stars.y_px - b).min() for a, b in places]
    assert max(away) < 1.0
    # Half of the light of such a disc, whose hole is 0.4 of it, is within 0.76 of its radius.
    assert seen.quality.fwhm_px == pytest.approx(0.76 * radius / 0.677, rel=0.06)


@given(st.integers(0, 60), st.integers(1, 60), st.floats(0.0, 40.0), st.integers(0, 2**31))
def test_the_nearest_star_and_near_pairs_are_those_of_a_full_search(
    places: int, others: int, reach: float, seed: int
) -> None:
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(-20.0, 120.0, (2, places))
    xo, yo = rng.uniform(0.0, 100.0, (2, others)) * [[1.0], [rng.choice([0.0, 0.01, 1.0])]]
    apart = np.hypot(x[:, None] - xo, y[:, None] - yo)
    near = apart < reach
    index, away = nearest(x, y, xo, yo, reach)
    assert np.array_equal(index, np.where(near.any(axis=1), np.argmin(apart, axis=1), -1))
    assert np.allclose(away, np.where(near.any(axis=1), apart.min(axis=1), np.inf))
    own = np.where(index[:, None] == np.arange(others), apart, np.inf)
    own = np.vstack([own, np.full((1, others), np.inf)])  # where there are no places at all
    owner = np.where(np.isinf(own).all(axis=0), -1, np.argmin(own, axis=0))
    assert np.array_equal(owners_of(index, away, others), owner)
    one, other, gap = pairs_within(x, y, xo, yo, reach)
    assert np.array_equal(np.stack([one, other]), np.stack(np.nonzero(near)))
    assert np.allclose(gap, apart[near])


@pytest.mark.parametrize("odd", [np.nan, np.inf, -np.inf, 1e30])
@pytest.mark.parametrize("share", [1e-4, 0.02, 1.0])
def test_pixels_that_are_no_numbers_leave_the_sky_of_the_others(odd: float, share: float) -> None:
    rng = np.random.default_rng(5)
    image = rng.normal(300.0, 10.0, (200, 260)).astype(np.float32)
    image[rng.random(image.shape) < share] = odd
    seen = measure_background(image)
    assert seen.sky_adu.shape == (3, 4)
    if share < 0.1:
        assert np.abs(seen.sky_adu - 300.0).max() < 3.0
        assert np.abs(seen.noise_adu - 10.0).max() < 2.0
