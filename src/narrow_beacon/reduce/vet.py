"""Which exposures are worth a magnitude: focus, guiding, cloud, trails, saturation."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, median_of_known
from narrow_beacon.core.curve.almanac import SkyAbove, sky_above
from narrow_beacon.core.curve.cast import Cast
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.light_curve import transparency
from narrow_beacon.core.measure.alignment import CENTRED_SNR
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.stars.limits import limit_words
from narrow_beacon.core.stars.quality import Quality
from narrow_beacon.core.stars.troubles import (
    PARTS,
    Looks,
    VetRules,
    light_by_part,
    light_over_usual,
    sky_over_dark,
    troubles_of,
)
from narrow_beacon.plan import Vetting
from narrow_beacon.reduce.light import StarsSeen
from narrow_beacon.reduce.tasks import ExposureResult

THIN_CLOUD = 0.85
WRONG_FIELD = "wrong field"
LIGHT_STEP = RADII_FWHM.index(1.6)
"""The radius by which the light on exposures is told."""
_MOST_STARS = 150
_USUAL = 0.75
"""What a star gives on as many exposures as this at the most is its usual light: half of a night
may be cloud."""


@dataclass(frozen=True)
class Lights:
    """What stars gave on exposures of one group: the share of the clear night's light
    (exposures), and that in parts of the frame (exposures, PARTS, PARTS).
    """

    share: Floats
    parts: Floats


@dataclass(frozen=True)
class Moments:
    """When exposures were taken: JD(UTC) and airmass (exposures), and from where, where that is
    known.
    """

    jd_utc: Floats
    airmass: Floats
    site: Site | None

    def take(self, at: Sequence[int]) -> Moments:
        """Some of them."""
        return Moments(self.jd_utc[list(at)], self.airmass[list(at)], self.site)


def lights_of(
    light: Floats,
    sure: Bools,
    places: Sequence[tuple[Floats, Floats]],
    shape: tuple[int, int],
    airmass: Floats,
) -> Lights:
    """The lights of a group from what its stars gave (exposures, stars), NaN where that is not
    known, and where they stood on each exposure. The share of light is told by those stars that are
    ``sure`` to be seen through cloud too.
    """
    ratio = light_over_usual(light)
    count = light.shape[0]
    level = median_of_known(ratio[:, sure] if sure.any() else ratio, axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        share = transparency(2.5 * np.log10(np.where(level > 0, level, np.nan)), airmass)
        scale = np.where(level > 0, share / level, np.nan)
    share = np.where(level <= 0, 0.0, share)
    parts = np.full((count, PARTS, PARTS), np.nan)
    for at, (x, y) in enumerate(places):
        parts[at] = light_by_part(ratio[at] * scale[at], x, y, shape)
    return Lights(share, parts)


def census_lights(
    seen: StarsSeen, shape: tuple[int, int], airmass: Floats, exposure_s: Floats
) -> Lights:
    """The lights of measured exposures of one group and ``shape`` (height, width), from the
    brightest of the stars seen on them at ``LIGHT_STEP``.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        stands_out = np.sort(seen.counts_adu / seen.uncertainty_adu, axis=0)  # unknown ones last
    known = (~np.isnan(stands_out)).sum(axis=0)
    # Not by its best: of thousands of exposures one has a cosmic ray on any faint star.
    usual = np.minimum((_USUAL * known).astype(int), np.maximum(known - 1, 0))
    snr = np.nan_to_num(np.take_along_axis(stands_out, usual[None], axis=0)[0])
    bright = np.argsort(-snr, kind="stable")[:_MOST_STARS]
    bright = bright[snr[bright] > CENTRED_SNR]
    light = seen.counts_adu[:, bright] / exposure_s[:, None]
    places = [(x[bright], y[bright]) for x, y in zip(seen.x_px, seen.y_px, strict=True)]
    sure: Bools = np.ones(bright.size, bool)
    return lights_of(light, sure, places, shape, airmass)


def spoiled_looks(
    indices: Sequence[int],
    qualities: Sequence[Quality],
    lights: Lights,
    moments: Moments,
    rules: VetRules,
) -> dict[int, str]:
    """Reasons by exposure index for exposures of one group, in order of time, judged by their
    looks.
    """

    def column(name: str) -> Floats:
        return np.array([float(getattr(quality, name)) for quality in qualities])

    sky = column("sky_adu_per_px")
    sun, moon, lit = np.full(sky.size, np.nan), np.full(sky.size, np.nan), float("nan")
    if np.any(sky_over_dark(sky) > rules.sky) and moments.site:
        above = _above(tuple(moments.jd_utc.tolist()), moments.site)
        sun, moon = above.sun_deg, above.moon_deg
        lit = float(above.moon_lit[above.moon_lit.size // 2])
    looks = Looks(
        moments.jd_utc, column("fwhm_px"), column("elongation"), column("angle_deg"), sky,
        lights.share, lights.parts, sun, moon, lit,
    )  # fmt: skip
    return {indices[place]: words for place, words in troubles_of(looks, rules).items()}


@lru_cache(maxsize=16)
def _above(jds: tuple[float, ...], site: Site) -> SkyAbove:
    return sky_above(np.array(jds), 0.0, 0.0, site)  # Sun and Moon alone are asked for


def evidence_of(lights: Lights, at: int) -> dict[str, object]:
    """What is kept of an exposure's light: its share of the clear night's, "light", and that in
    parts of the frame, "parts", rows upwards.
    """
    found: dict[str, object] = {}
    if np.isfinite(lights.share[at]):
        found["light"] = round(float(lights.share[at]), 4)
    parts = lights.parts[at]
    if np.isfinite(parts).any():
        found["parts"] = [
            [round(float(v), 3) if np.isfinite(v) else None for v in row] for row in parts
        ]
    return found


def lights_from(evidence: Sequence[Mapping[str, Any]]) -> Lights:
    """The lights that ``evidence_of`` kept, exposure by exposure."""
    blank = [[None] * PARTS] * PARTS
    return Lights(
        np.array([float(one.get("light", np.nan)) for one in evidence]),
        np.array([one.get("parts") or blank for one in evidence], float),
    )


def said_aside(
    vetting: Vetting, name: str, values: Mapping[str, float], filter_name: str, night: str
) -> str:
    """Why the observer sets an exposure aside, by name or by a limit; nothing where not."""
    if name in vetting.keep:
        return ""
    return vetting.set_aside.get(name, "") or limit_words(
        vetting.limits, values, filter_name, night
    )


def values_of(quality: Quality, step: int, light: float, airmass: float) -> dict[str, float]:
    """What limits are on, of one exposure whose pixels are every ``step``-th of its file."""
    return {
        "star width": step * quality.fwhm_px, "elongation": quality.elongation,
        "sky": quality.sky_adu_per_px, "stars": float(quality.stars), "light": light,
        "noise": quality.noise_ratio, "airmass": airmass,
    }  # fmt: skip


def off_target(results: Sequence[ExposureResult], ra_deg: float, dec_deg: float) -> dict[int, str]:
    """Reasons by exposure index for exposures on which a position of the sky is not."""
    reasons = {}
    for result in results:
        if result.placement:
            words = outside(result.placement.solution, ra_deg, dec_deg)
            if words:
                reasons[result.index] = words
    return reasons


def outside(solution: Solution, ra_deg: float, dec_deg: float) -> str:
    """How far a position is outside of an exposure, in words; nothing where it is inside."""
    x, y = solution.pixel(np.array([ra_deg]), np.array([dec_deg]))
    height, width = solution.shape
    if 0 <= x[0] <= width - 1 and 0 <= y[0] <= height - 1:
        return ""
    away = np.hypot(
        max(-x[0], x[0] - width + 1, 0.0), max(-y[0], y[0] - height + 1, 0.0)
    ) * solution.scale_arcsec_per_px / 60.0  # fmt: skip
    if not np.isfinite(away):
        return f"{WRONG_FIELD}: the target is on another part of the sky"
    return f"{WRONG_FIELD}: the target is {away:.1f}′ outside the frame"


def cloudy(indices: Sequence[int], transparency: Floats, least: float) -> dict[int, str]:
    """Reasons by exposure index for exposures with less than a share of the night's best light."""
    return {
        index: f"cloud: {share:.0%} of the clear night's light comes through"
        for index, share in zip(indices, transparency, strict=True)
        if share < least
    }


def spoiled_cast(
    indices: Sequence[int], census: FilterCensus, step: int, cast: Cast, names: Sequence[str]
) -> dict[int, str]:
    """Reasons by exposure index where a star of the cast can't be measured."""
    flags, counts = census.flags(step), census.at("counts_adu", step)
    reasons: dict[int, str] = {}
    roles = [(cast.target, "target")]
    roles += [(cast.check, "check star")] if cast.check is not None else []
    roles += [(row, "comparison star") for row in cast.comparison]
    words = (
        (StarFlag.TRAIL, "trail through the {role} {name}"),
        (StarFlag.SATURATED, "the {role} {name} is saturated"),
    )
    for row, role in roles:
        column = census.column(row)
        if column is None:
            continue
        for flag, text in words:
            sentence = text.format(role=role, name=names[row])
            for at in np.flatnonzero(flags[:, column] & int(flag)).tolist():
                reasons.setdefault(indices[at], sentence)
    column = census.column(cast.target)
    for at, index in enumerate(indices):
        if column is None or not np.isfinite(counts[at, column]):
            reasons.setdefault(index, f"the target {names[cast.target]} could not be measured")
        elif flags[at, column] & int(StarFlag.EDGE):
            reasons.setdefault(index, f"the target {names[cast.target]} is at the edge")
    return reasons
