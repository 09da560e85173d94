"""What spoils exposures is told from how they look, and by its right name."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest

from narrow_beacon.core.stars.limits import Limit, limit_words
from narrow_beacon.core.stars.troubles import (
    PARTS,
    Looks,
    VetRules,
    light_by_part,
    light_over_usual,
    shaded,
    troubles_of,
)

COUNT = 30


def night() -> Looks:
    """A good night: seeing that wanders, an even sky, clear."""
    rng = np.random.default_rng(5)
    return Looks(
        jd=2461300.4 + np.arange(COUNT) / 600.0,
        fwhm_px=3.0 + np.cumsum(rng.normal(0, 0.05, COUNT)),
        elongation=rng.uniform(1.02, 1.1, COUNT),
        angle_deg=rng.uniform(0, 180, COUNT),
        sky_adu=rng.normal(90, 2, COUNT),
        light=rng.normal(0.99, 0.01, COUNT),
        parts=rng.normal(0.99, 0.02, (COUNT, PARTS, PARTS)),
        sun_deg=np.full(COUNT, -25.0),
        moon_deg=np.full(COUNT, -10.0),
        moon_lit=0.6,
    )


def changed(at: object, **values: object) -> Looks:
    looks = night()
    fields = {name: np.array(getattr(looks, name)) for name in values}
    for name, value in values.items():
        fields[name][at] = value
    return replace(looks, **fields)


def test_a_good_night_has_no_troubles_nor_has_seeing_that_rises_slowly() -> None:
    assert troubles_of(night()) == {}
    assert troubles_of(replace(night(), fwhm_px=np.linspace(2.6, 4.6, COUNT))) == {}


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"fwhm_px": 7.5}, "out of focus: stars are 7.5 px wide"),
        ({"elongation": 1.9, "fwhm_px": 4.2}, "wind: stars are drawn out: elongation 1.90"),
        ({"elongation": 3.1, "fwhm_px": 5.6}, "tracking: stars are drawn out"),
        ({"sky_adu": 900.0}, "bright sky: the sky is 10 times as bright"),
        ({"sky_adu": 900.0, "moon_deg": 30.0}, "moonlight: .* the Moon 30° high, 60% lit"),
        ({"sky_adu": 900.0, "sun_deg": -8.0}, "twilight: .* the Sun 8° below the horizon"),
        ({"light": 0.31}, "cloud: 31% of the clear night's light comes through"),
    ],
)
def test_a_single_trouble_is_named(values: dict[str, float], words: str) -> None:
    found = troubles_of(changed(9, **values))
    assert list(found) == [9]
    assert re.match(words, found[9])


def test_stars_drawn_out_one_way_in_a_row_are_the_mount_and_each_another_way_the_wind() -> None:
    run = slice(10, 14)
    same = changed(run, elongation=1.7, angle_deg=[58.0, 60.0, 57.0, 61.0])
    assert all(words.startswith("tracking") for words in troubles_of(same).values())
    other = changed(run, elongation=1.7, angle_deg=[10.0, 75.0, 140.0, 40.0])
    assert all(words.startswith("wind") for words in troubles_of(other).values())
    # The direction is one of an axis: 179° and 2° are neighbours.
    around = changed(run, elongation=1.7, angle_deg=[178.0, 1.0, 4.0, 179.0])
    assert all(words.startswith("tracking") for words in troubles_of(around).values())


def test_dew_comes_slowly_and_cloud_does_not() -> None:
    run = np.arange(12) / 11
    falling, widening = np.exp(-1.5 * run**1.3), 3.0 * (1 + 0.35 * run)
    dew = troubles_of(changed(slice(10, 22), light=falling, fwhm_px=widening))
    assert set(dew) == set((10 + np.flatnonzero(falling < 0.5)).tolist())
    assert all(words.startswith("dew") for words in dew.values())
    jumpy = np.random.default_rng(3).permutation(falling)
    cloud = troubles_of(changed(slice(10, 22), light=jumpy, fwhm_px=3.0))
    assert all(words.startswith("cloud") for words in cloud.values())


def test_what_stands_before_the_frame_comes_in_from_an_edge() -> None:
    looks = night()
    parts = looks.parts.copy()
    parts[5, :, 3] = 0.05
    found = troubles_of(replace(looks, parts=parts))
    said = "something stands before 25% of the frame, where 5% of the light comes through"
    assert found == {5: f"obstruction: {said}"}
    assert shaded(parts[5])[:, 3].all()
    assert not shaded(parts[5])[:, :3].any()
    # A hole in the middle, or cloud over all of it, is none.
    parts[5] = 1.0
    parts[5, 1:3, 1:3] = 0.05
    assert not shaded(parts[5]).any()
    parts[5] = 0.3
    assert not shaded(parts[5]).any()


def test_light_is_told_from_stars_whatever_their_brightness_and_where_they_stand() -> None:
    rng = np.random.default_rng(2)
    share = np.array([1.0, 0.5, 1.0, 0.8, 1.0, 0.1])
    x, y = rng.uniform(0, 400, (2, 120))
    light = share[:, None] * 10 ** rng.uniform(1, 4, 120) * rng.normal(1, 0.01, (6, 120))
    light[2, x > 300] *= 0.1
    ratio = light_over_usual(light)
    # A median of 120 stars that scatter by 1%.
    assert np.allclose(np.nanmedian(ratio, axis=1) / np.nanmedian(ratio[0]), share, rtol=0.01)
    parts = light_by_part(ratio[2] / np.nanmedian(ratio[2]), x, y, (400, 400))
    assert np.all(parts[:, 3] < 0.15)
    assert np.all(parts[:, :3] > 0.95)


def test_rules_move_what_is_put_forward() -> None:
    looks = changed(9, light=0.4)
    assert troubles_of(looks, VetRules(light=0.3)) == {}
    assert 9 in troubles_of(looks, VetRules(light=0.45))


def test_limits_hold_for_their_filter_and_night_and_not_for_what_is_unknown() -> None:
    wide = Limit("star width", above=4.0, filter="V", night="2026-09-20")
    dim = Limit("light", below=0.7)
    values = {"star width": 4.2, "light": 0.6}
    assert limit_words((wide, dim), values, "V", "2026-09-20") == (
        "limit: star width above 4 px and light below 0.7"
    )
    assert limit_words((wide,), values, "B", "2026-09-20") == ""
    assert limit_words((wide,), values, "V", "2026-09-21") == ""
    assert limit_words((dim,), {"light": float("nan")}, "V", "") == ""
