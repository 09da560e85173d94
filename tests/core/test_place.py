"""Where an exposure is: the right place from any start, or a refusal."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest
from astropy.io import fits
from astropy.wcs import WCS
from hypothesis import given
from hypothesis import strategies as st

from narrow_beacon.bench.fields import solve_field, varied_result
from narrow_beacon.core.catalogue.sky_index import SkyIndex, separation_deg, unit_vectors
from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.chance import false_chance_log10
from narrow_beacon.core.place.fit import fit_solution
from narrow_beacon.core.place.follow import follow
from narrow_beacon.core.place.patterns import CODE_TOLERANCE, catalogue_level, neighbours_within
from narrow_beacon.core.place.solution import Solution, deproject, project
from narrow_beacon.core.place.solve import Hint, Solver
from narrow_beacon.simulate.fields import SimulatedField, make_field
from narrow_beacon.simulate.night import drifted
from narrow_beacon.simulate.pointing import Pointing

SHAPE = (768, 1024)


def grid(shape: tuple[int, int] = SHAPE) -> tuple[np.ndarray, np.ndarray]:
    x, y = np.meshgrid(np.linspace(0, shape[1] - 1, 12), np.linspace(0, shape[0] - 1, 9))
    return x.ravel(), y.ravel()


def fitted(pointing: Pointing, order: int = 4) -> Solution:
    x, y = grid(pointing.shape)
    ra, dec = (np.asarray(v) for v in pointing.wcs().all_pix2world(x, y, 0))
    start = Solution.linear(
        pointing.ra_deg, pointing.dec_deg, 511.5, 383.5, pointing.wcs().wcs.cd, pointing.shape
    )
    return fit_solution(x, y, ra, dec, np.ones(x.size), start, orders=(1, order)).solution


@given(st.floats(0, 360), st.floats(-89, 89), st.floats(-3, 3), st.floats(-3, 3))
def test_projection_and_back(ra0: float, dec0: float, xi: float, eta: float) -> None:
    ra, dec = deproject(np.array([xi]), np.array([eta]), ra0, dec0)
    again = project(ra, dec, ra0, dec0)
    assert np.allclose(again, [[xi], [eta]], atol=1e-9)


@pytest.mark.parametrize("mirrored", [False, True])
@pytest.mark.parametrize("rotation", [0.0, 92.4, 301.0])
def test_turn_and_mirror_are_named_as_the_contract_says(rotation: float, mirrored: bool) -> None:
    solution = fitted(Pointing(80.0, -30.0, 1.2, rotation, mirrored, SHAPE))
    assert solution.rotation_deg == pytest.approx(rotation, abs=1e-6)
    assert solution.mirrored is mirrored
    assert solution.scale_arcsec_per_px == pytest.approx(1.2, rel=1e-6)
    assert np.allclose(solution.centre, (80.0, -30.0), atol=1e-7)
    # North of the centre lies in the direction that the position angle says.
    x, y = solution.pixel(np.array([80.0]), np.array([-29.99]))
    turn = np.degrees(np.arctan2(x[0] - 511.5, y[0] - 383.5)) * (1 if mirrored else -1)
    assert (turn + rotation + 180) % 360 - 180 == pytest.approx(0, abs=0.1) or (
        turn - rotation + 180
    ) % 360 - 180 == pytest.approx(0, abs=0.1)


def test_distortion_is_earned_only_where_there_is_some() -> None:
    assert fitted(Pointing(80.0, 60.0, 3.0, 40.0, False, SHAPE)).sip_order == 1
    assert fitted(Pointing(80.0, 60.0, 3.0, 40.0, False, SHAPE, distortion=6.0)).sip_order == 3


def test_the_header_means_the_same_to_a_standard_reader() -> None:
    solution = fitted(Pointing(80.0, 60.0, 3.0, 40.0, True, SHAPE, distortion=6.0))
    header = fits.Header()
    header.update(solution.header())
    x, y = grid()
    ra, dec = WCS(header).all_pix2world(x + 1, y + 1, 1)
    ours = solution.sky(x, y)
    assert np.allclose(ours[0], ra, atol=1e-9)
    assert np.allclose(ours[1], dec, atol=1e-9)
    back = solution.pixel(np.asarray(ra), np.asarray(dec))
    assert np.allclose(back, (x, y), atol=2e-3)


def test_a_fit_is_not_bent_by_wrong_pairs() -> None:
    rng = np.random.default_rng(1)
    pointing = Pointing(10.0, 20.0, 1.5, 200.0, False, SHAPE)
    x, y = rng.uniform(0, 1000, 80), rng.uniform(0, 760, 80)
    ra, dec = (np.asarray(v) for v in pointing.wcs().all_pix2world(x, y, 0))
    x, y = x + rng.normal(0, 0.1, 80), y + rng.normal(0, 0.1, 80)
    x[:12] += rng.uniform(-9, 9, 12)
    start = Solution.linear(10.0, 20.0, 511.5, 383.5, pointing.wcs().wcs.cd, SHAPE)
    fit = fit_solution(x, y, ra, dec, np.full(80, 0.1), start)
    gx, gy = grid()
    true = pointing.wcs().all_pix2world(gx, gy, 0)
    found = fit.solution.pixel(*(np.asarray(v) for v in true))
    # Six parameters from 68 stars of 0.1 px: a few hundredths of a pixel anywhere.
    assert np.hypot(found[0] - gx, found[1] - gy).max() < 0.1
    assert fit.residual_px == pytest.approx(0.141, rel=0.25)


@pytest.mark.parametrize("seed", range(500, 520))
def test_a_field_is_placed_with_no_hint_at_all(seed: int) -> None:
    result = solve_field(make_field(seed))
    assert result.placed
    assert result.error_px < 2.0  # 40 stars and more, 0.2 px each, distortion at the corners


@pytest.mark.parametrize("seed", range(600, 608))
def test_a_field_of_another_part_of_the_sky_is_refused(seed: int) -> None:
    field = make_field(seed)
    reach = field.pointing.scale_arcsec * max(field.pointing.shape) / 3600
    other = make_field(seed + 10_000, size_deg=reach)
    assert not solve_field(field, Solver(other.ra_deg, other.dec_deg)).placed


@pytest.mark.parametrize("seed", [0, 4, 21, 47])
def test_fields_of_any_scale_are_placed_by_hints_from_good_to_none(seed: int) -> None:
    # 32″, 38″, 19″ and 26″ a pixel; `bench fields` places a thousand.
    varied = varied_result(seed)
    assert varied.solvable
    assert varied.result.placed
    assert varied.result.error_px < 2.0


def test_random_dots_are_refused_and_the_attempts_are_named() -> None:
    rng = np.random.default_rng(5)
    field = make_field(44, size_deg=5.0)
    with pytest.raises(
        NotPlacedError, match=r"tried within 2° of the hint, scale 1″ to 2″.*anywhere"
    ):
        Solver(field.ra_deg, field.dec_deg).place(
            rng.uniform(0, 1000, 90), rng.uniform(0, 760, 90), SHAPE,
            Hint(field.pointing.ra_deg, field.pointing.dec_deg, 1.0, (1.0, 2.0)),
        )  # fmt: skip


def test_too_few_stars_are_refused() -> None:
    field = make_field(3)
    with pytest.raises(NotPlacedError, match="only 5 stars"):
        Solver(field.ra_deg, field.dec_deg).place(field.x_px[:5], field.y_px[:5], SHAPE)


def test_a_poor_hint_is_no_worse_than_none() -> None:
    field = make_field(7)
    far = Hint(field.pointing.ra_deg + 3.0, field.pointing.dec_deg, 1.0, (0.3, 0.4))
    placement = Solver(field.ra_deg, field.dec_deg).place(
        field.x_px, field.y_px, field.pointing.shape, far
    )
    assert placement.solution.scale_arcsec_per_px == pytest.approx(
        field.pointing.scale_arcsec, rel=1e-3
    )
    assert placement.false_log10 < -9


@pytest.mark.parametrize("aspect", [2.0, 0.5, 1.17])
def test_pixels_that_are_no_squares_are_placed_where_the_header_says_so(aspect: float) -> None:
    """Rows added in pairs, columns in pairs, and cameras whose pixels are made so."""
    field = make_field(7)
    height, width = field.pointing.shape
    shape = round(height / aspect), width
    y = (field.y_px + 0.5) / aspect - 0.5
    solver = Solver(field.ra_deg, field.dec_deg)
    with pytest.raises(NotPlacedError):
        solver.place(field.x_px, y, shape)
    placement = solver.place(field.x_px, y, shape, Hint(aspects=(1.5, aspect)))
    assert placement.solution.aspect == pytest.approx(aspect, rel=2e-3)
    across = field.pointing.scale_arcsec
    sides = [float(word) for word in re.findall(r"[\d.]+", placement.solution.scale_words)]
    assert sides == pytest.approx([across, aspect * across], rel=2e-3)
    gx, gy = grid(field.pointing.shape)
    true = field.pointing.wcs().all_pix2world(gx, gy, 0)
    fx, fy = placement.solution.pixel(*(np.asarray(v) for v in true))
    assert np.hypot(fx - gx, (fy + 0.5) * aspect - 0.5 - gy).max() < 2.0
    rows, _, _ = solver.in_frame(placement.solution)
    square = solver.place(field.x_px, field.y_px, field.pointing.shape).solution
    assert set(rows) == set(solver.in_frame(square)[0])
    assert follow(solver, placement.solution, field.x_px + 3.0, y - 2.0) is not None


def next_field(field: SimulatedField, pointing: Pointing) -> tuple[np.ndarray, np.ndarray]:
    """What the camera sees of a field's catalogue after the mount has moved."""
    bright = slice(0, field.ra_deg.size // 2)
    x, y = pointing.pixels(field.ra_deg[bright], field.dec_deg[bright])
    height, width = pointing.shape
    inside = (x > 0) & (x < width) & (y > 0) & (y < height)
    return x[inside], y[inside]


@pytest.mark.parametrize(
    ("dx", "dy", "flip"),
    [(0.4, -0.2, False), (38.0, -27.0, False), (-160.0, 120.0, False), (5.0, 3.0, True)],
)
def test_the_next_exposure_follows_drift_jump_and_flip(dx: float, dy: float, flip: bool) -> None:
    field = make_field(11)
    solver = Solver(field.ra_deg, field.dec_deg)
    last = solver.place(field.x_px, field.y_px, field.pointing.shape).solution
    moved = drifted(field.pointing, dx, dy, flip)
    x, y = next_field(field, moved)
    placement = follow(solver, last, x, y)
    assert placement is not None
    assert placement.how == ("turned by 180°" if flip else "from the exposure before")
    gx, gy = grid(field.pointing.shape)
    true = moved.wcs().all_pix2world(gx, gy, 0)
    found = placement.solution.pixel(*(np.asarray(v) for v in true))
    assert np.hypot(found[0] - gx, found[1] - gy).max() < 1.0


@pytest.mark.parametrize("turned_deg", [1.0, 2.0, 3.0])
def test_of_a_turned_exposure_no_part_is_taken_for_the_whole(turned_deg: float) -> None:
    """The stars about one point stay within reach of their places; the corners are 10 px away."""
    for seed in range(20, 40):
        field = make_field(seed)
        solver = Solver(field.ra_deg, field.dec_deg)
        last = solver.place(field.x_px, field.y_px, field.pointing.shape).solution
        turned = replace(field.pointing, rotation_deg=field.pointing.rotation_deg + turned_deg)
        x, y = next_field(field, turned)
        placement = follow(solver, last, x, y)
        if placement is not None:
            gx, gy = grid(field.pointing.shape)
            true = turned.wcs().all_pix2world(gx, gy, 0)
            found = placement.solution.pixel(*(np.asarray(v) for v in true))
            assert np.hypot(found[0] - gx, found[1] - gy).max() < 2.0


def test_another_field_does_not_follow() -> None:
    field, other = make_field(11), make_field(12)
    solver = Solver(field.ra_deg, field.dec_deg)
    last = solver.place(field.x_px, field.y_px, field.pointing.shape).solution
    assert follow(solver, last, other.x_px, other.y_px) is None


def test_the_chance_of_a_false_solution_bounds_what_chance_does() -> None:
    """The bound must lie above the rate at which random points coincide that often."""
    rng = np.random.default_rng(0)
    trials, tried, share = 20000, 30, 0.05
    hits = rng.binomial(tried - 4, share, trials) + 4
    for matched in (7, 8, 9, 10):
        rate = (hits >= matched).mean()
        assert rate <= 10 ** false_chance_log10(matched, tried, share, 1)
    assert false_chance_log10(25, 30, 0.02, 1000) < -20


def with_catalogue(field: SimulatedField, ra: np.ndarray, dec: np.ndarray) -> SimulatedField:
    return replace(field, ra_deg=ra % 360.0, dec_deg=np.clip(dec, -90, 90))


@pytest.mark.parametrize("seed", [701, 702, 703])
def test_a_catalogue_much_shallower_or_deeper_than_the_exposure_still_places_it(seed: int) -> None:
    field = make_field(seed)
    few = field.ra_deg.size // 4
    assert solve_field(with_catalogue(field, field.ra_deg[:few], field.dec_deg[:few])).error_px < 2
    rng = np.random.default_rng(seed)
    size = field.pointing.scale_arcsec * max(field.pointing.shape) / 3600
    spread = rng.normal(0, 0.2 * size, (2, 9 * field.ra_deg.size))
    ra = np.repeat(field.ra_deg, 9) + spread[0] / np.cos(np.radians(field.pointing.dec_deg))
    dec = np.repeat(field.dec_deg, 9) + spread[1]
    deep = with_catalogue(
        field, np.concatenate([field.ra_deg, ra]), np.concatenate([field.dec_deg, dec])
    )
    assert solve_field(deep).error_px < 2


def test_half_of_the_detections_may_be_false() -> None:
    assert solve_field(make_field(710, false_share=0.5)).error_px < 2


def test_stars_in_any_order_of_brightness_are_placed() -> None:
    field = make_field(711)
    order = np.random.default_rng(1).permutation(field.x_px.size)
    mixed = replace(field, x_px=field.x_px[order], y_px=field.y_px[order])
    result = solve_field(mixed)
    assert not result.placed or result.error_px < 2  # may fail, must not be wrong


def test_a_field_at_the_pole_is_placed() -> None:
    """Right ascension runs through all values within the frame."""
    rng = np.random.default_rng(3)
    pointing = Pointing(0.0, 89.9, 2.0, 40.0, False, SHAPE)
    ra, away = rng.uniform(0, 360, 900), np.sqrt(rng.uniform(0, 1, 900)) * 1.2
    dec = 90.0 - away
    x, y = pointing.pixels(ra[:600], dec[:600])
    inside = (x > 0) & (x < 1023) & (y > 0) & (y < 767)
    placement = Solver(ra, dec).place(x[inside], y[inside], SHAPE)
    assert placement.solution.scale_arcsec_per_px == pytest.approx(2.0, rel=1e-4)
    assert placement.residual_px < 0.01


def scattered_sky(stars: int, dec_deg: float, side_deg: float, seed: int) -> np.ndarray:
    """Unit vectors (stars, 3) of a square of sky, over the pole where its middle is near it."""
    rng = np.random.default_rng(seed)
    xi, eta = rng.uniform(-side_deg / 2, side_deg / 2, (2, stars))
    return unit_vectors(*deproject(xi, eta, 0.0, dec_deg))


@pytest.mark.parametrize(("dec_deg", "side_deg", "reach_deg"), [
    (12.0, 1.0, 0.1), (89.9, 2.0, 0.15), (-60.0, 40.0, 6.0), (0.0, 0.5, 100.0),
])  # fmt: skip
def test_near_stars_are_those_that_every_pair_looked_at_gives(
    dec_deg: float, side_deg: float, reach_deg: float
) -> None:
    vectors = scattered_sky(400, dec_deg, side_deg, seed=7)
    chord = 2.0 * np.sin(np.radians(reach_deg) / 2.0)
    starts, neighbours = neighbours_within(vectors, chord)
    apart = np.linalg.norm(vectors[:, None] - vectors[None], axis=2)
    near = (apart <= chord) & ~np.eye(len(vectors), dtype=bool)
    assert near.any()
    for star in range(len(vectors)):
        own = neighbours[starts[star] : starts[star + 1]]
        np.testing.assert_array_equal(own, np.flatnonzero(near[star]))


def test_patterns_alike_are_the_nearest_that_every_code_looked_at_gives() -> None:
    level = catalogue_level(scattered_sky(1500, 35.0, 1.0, seed=8), 0.12)
    assert level is not None
    kept, rng = level.quads.codes, np.random.default_rng(9)
    # Codes that were measured a little off, as they are, at the edges, and of nothing at all.
    codes = np.concatenate([
        kept[::7] + rng.normal(0.0, 0.4 * CODE_TOLERANCE, kept[::7].shape), kept[::50],
        [[0.0, -0.5, 0.0, -0.5], [1.0, 0.5, 1.0, 0.5], [0.0, 0.0, 1.2, 0.0], [-0.1, 0.7, 0.5, 0.0]],
        rng.uniform([0.0, -0.5, 0.0, -0.5], [1.0, 0.5, 1.0, 0.5], (200, 4)),
    ])  # fmt: skip
    row, pattern, distance = level.alike(codes)
    apart = np.linalg.norm(codes[:, None] - kept[None], axis=2)
    nearest = np.sort(apart, axis=1)[:, :3]
    assert np.count_nonzero(nearest < CODE_TOLERANCE) > 300
    np.testing.assert_array_equal(row, np.nonzero(nearest < CODE_TOLERANCE)[0])
    np.testing.assert_allclose(distance, nearest[nearest < CODE_TOLERANCE], rtol=0, atol=1e-12)
    np.testing.assert_allclose(apart[row, pattern], distance, rtol=0, atol=1e-12)


def test_the_nearest_star_is_found_over_pole_and_midnight() -> None:
    rng = np.random.default_rng(10)
    ra, dec = rng.uniform(0.0, 360.0, 300), rng.uniform(80.0, 90.0, 300)
    index = SkyIndex(ra, dec)
    for place in ((0.0, 89.999), (359.9999, 85.0), (0.0001, 85.0), (180.0, 81.0)):
        row, away = index.nearest(*place)
        every = separation_deg(ra, dec, *place)
        assert row == np.argmin(every)
        assert away == pytest.approx(every[row], abs=1e-9)
