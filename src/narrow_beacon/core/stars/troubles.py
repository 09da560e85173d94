"""What spoils exposures, told from how they look: focus, wind, tracking, twilight, moonlight,
light of lamps, obstruction, dew, cloud.

Each exposure is judged against the others of its night and filter, by rules that the observer can
change. A reason begins with the trouble's name.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from narrow_beacon.core.arrays import Bools, Floats, median_of_known

PARTS = 4
"""A frame is looked at in so many parts along each side, for what stands in the way."""
_ROBUST_LIMIT = 5.0
_USUAL_STRETCH = 1.25
_TWILIGHT_DEG = -14.0
_MOON_LIT = 0.05
_RUN, _ALONG_DEG, _LINE = 3, 15.0, 2.3
_DEW_RUN, _FALLS, _WIDENS, _JERK = 6, -0.85, 0.6, 0.16
_LEAST_PARTS = 2
_FREE = 0.75
_CLEAR = 0.95
_SEEN = 0.3


@dataclass(frozen=True)
class VetRules:
    """From where on exposures are put forward to be set aside."""

    width: float = 1.6
    """Star width over the usual one of the night."""
    elongation: float = 1.35
    light: float = 0.5
    """Share of the clear night's light."""
    sky: float = 5.0
    """Level of the sky over the night's dark one."""
    shade: float = 0.4
    """Share of the light that reaches parts of the frame, with others free."""


USUAL_RULES = VetRules()


@dataclass(frozen=True)
class Looks:
    """Exposures of one night and filter in order of time; arrays (exposures) of what is known of
    them, not a number where it is not.

    ``light`` is the share of the clear night's light, ``parts`` (exposures, PARTS, PARTS) the light
    in parts of the frame over that of the night, rows upwards. ``sun_deg`` and ``moon_deg`` are
    altitudes, ``moon_lit`` the lit share of the Moon.
    """

    jd: Floats
    fwhm_px: Floats
    elongation: Floats
    angle_deg: Floats
    sky_adu: Floats
    light: Floats
    parts: Floats
    sun_deg: Floats
    moon_deg: Floats
    moon_lit: float = float("nan")


def troubles_of(looks: Looks, rules: VetRules = USUAL_RULES) -> dict[int, str]:
    """Reasons by the place of each exposure that something spoils."""
    found: dict[int, str] = {}
    for judge in (_dewed, _out_of_focus, _drawn_out, _bright_sky, _obstructed, _clouded):
        for place, words in judge(looks, rules).items():
            found.setdefault(place, words)
    return found


def light_over_usual(light: Floats) -> Floats:
    """Each star's light over what it usually gives (exposures, stars), from what it gave on each
    exposure; stars that are seen too rarely have none.
    """
    ratio = np.full(light.shape, np.nan)
    seen = np.isfinite(light).mean(axis=0) >= _SEEN
    if not seen.any():
        return ratio
    with np.errstate(invalid="ignore", divide="ignore"):
        level: Floats = np.ones(light.shape[0])
        for _ in range(2):
            known = light[:, seen] / level[:, None]
            usual = np.nanmedian(known, axis=0)
            own = light[:, seen] / np.where(usual > 0, usual, np.nan)
            level = median_of_known(own, axis=1)
        ratio[:, seen] = own
    return ratio


def light_by_part(ratio: Floats, x_px: Floats, y_px: Floats, shape: tuple[int, int]) -> Floats:
    """The median of stars' light over what they usually give, in each part of a frame (height,
    width): (PARTS, PARTS).
    """
    height, width = shape
    known = np.isfinite(ratio) & np.isfinite(x_px) & np.isfinite(y_px)
    ratio, x_px, y_px = ratio[known], x_px[known], y_px[known]
    column = np.clip((x_px / width * PARTS).astype(int), 0, PARTS - 1)
    row = np.clip((y_px / height * PARTS).astype(int), 0, PARTS - 1)
    part = row * PARTS + column
    order = np.lexsort((ratio, part))
    ends = np.searchsorted(part[order], np.arange(PARTS * PARTS + 1))
    some = np.flatnonzero(np.diff(ends))
    first, count = ends[some], np.diff(ends)[some]
    ratio = ratio[order]
    light = np.full(PARTS * PARTS, np.nan)
    light[some] = 0.5 * (ratio[first + (count - 1) // 2] + ratio[first + count // 2])
    return light.reshape(PARTS, PARTS)


def shaded(parts: Floats, rules: VetRules = USUAL_RULES) -> Bools:
    """Which parts of a frame (PARTS, PARTS) something stands before, with the rest of it free."""
    dark: Bools = np.asarray(parts < rules.shade)
    free = parts > _FREE
    if not (dark.any() and free.any()):
        return np.zeros(dark.shape, bool)
    # What stands in the way comes in from an edge; cloud is anywhere.
    areas, count = scipy.ndimage.label(dark)
    keep: Bools = np.zeros(dark.shape, bool)
    for number in range(1, count + 1):
        area: Bools = areas == number
        at_edge = area[0].any() or area[-1].any() or area[:, 0].any() or area[:, -1].any()
        if at_edge and area.sum() >= _LEAST_PARTS:
            keep |= area
    return keep


def _usual(values: Floats) -> tuple[float, float]:
    """Median and robust scatter; not a number where nothing is known."""
    known = values[np.isfinite(values)]
    if not known.size:
        return float("nan"), float("nan")
    usual = float(np.median(known))
    return usual, 1.4826 * float(np.median(np.abs(known - usual)))


def _out_of_focus(looks: Looks, rules: VetRules) -> dict[int, str]:
    usual, spread = _usual(looks.fwhm_px)
    # Stars that are drawn out are wider too, but not across.
    across = looks.fwhm_px / np.sqrt(np.fmax(looks.elongation, 1.0))
    wide = (across > rules.width * usual) & (across - usual > _ROBUST_LIMIT * spread)
    return {
        int(at): f"out of focus: stars are {looks.fwhm_px[at]:.1f} px wide, {usual:.1f} px on the "
        "others"
        for at in np.flatnonzero(wide)
    }


def _drawn_out(looks: Looks, rules: VetRules) -> dict[int, str]:
    usual, _ = _usual(looks.elongation)
    long = looks.elongation > max(rules.elongation, _USUAL_STRETCH * usual)
    found = {}
    for at in np.flatnonzero(long).tolist():
        words = (
            f"stars are drawn out: elongation {looks.elongation[at]:.2f}, {usual:.2f} on the others"
        )
        run = _same_way(looks, long, at)
        if run >= _RUN:
            words = f"tracking: {words}, in one direction on {run} exposures in a row"
        elif looks.elongation[at] > _LINE:
            words = f"tracking: {words}, into lines"
        else:
            words = f"wind: {words}, and not one way on several in a row"
        found[at] = words
    return found


def _same_way(looks: Looks, long: np.ndarray, at: int) -> int:
    """On how many exposures in a row about one stars are drawn out in the same direction."""
    count = 1
    for step in (-1, 1):
        other = at + step
        while 0 <= other < long.size and long[other]:
            away = abs((looks.angle_deg[other] - looks.angle_deg[at] + 90.0) % 180.0 - 90.0)
            if not away < _ALONG_DEG:
                break
            count += 1
            other += step
    return count


def sky_over_dark(sky_adu: Floats) -> Floats:
    """The sky's level over that of the night's dark quarter; not a number where there is none."""
    known = sky_adu[np.isfinite(sky_adu)]
    dark = float(np.percentile(known, 25)) if known.size else float("nan")
    return sky_adu / dark if dark > 0 else np.full(sky_adu.shape, np.nan)


def _bright_sky(looks: Looks, rules: VetRules) -> dict[int, str]:
    found = {}
    over = sky_over_dark(looks.sky_adu)
    for at in np.flatnonzero(over > rules.sky).tolist():
        words = f"the sky is {over[at]:.0f} times as bright as the night's dark one"
        sun, moon = looks.sun_deg[at], looks.moon_deg[at]
        if sun > _TWILIGHT_DEG:
            side = "below" if sun < 0 else "above"
            words = f"twilight: {words}, the Sun {abs(sun):.0f}° {side} the horizon"
        elif moon > 0 and looks.moon_lit > _MOON_LIT:
            words = f"moonlight: {words}, the Moon {moon:.0f}° high, {looks.moon_lit:.0%} lit"
        else:
            words = f"bright sky: {words}"
        found[at] = words
    return found


def _obstructed(looks: Looks, rules: VetRules) -> dict[int, str]:
    found = {}
    for at in range(looks.jd.size):
        parts = shaded(looks.parts[at], rules)
        if parts.any():
            found[at] = (
                f"obstruction: something stands before {parts.mean():.0%} of the frame, where "
                f"{max(np.nanmedian(looks.parts[at][parts]), 0.0):.0%} of the light comes through"
            )
    return found


def _dewed(looks: Looks, rules: VetRules) -> dict[int, str]:
    """Dew comes slowly: light falls and stars widen, steadily and over many exposures."""
    wide, _ = _usual(looks.fwhm_px)
    spoiled = (looks.light < rules.light) | (looks.fwhm_px > rules.width * wide)
    found = {}
    for at in np.flatnonzero(spoiled).tolist():
        count = _falling(looks, at)
        if not count:
            continue
        found[at] = (
            f"dew: {looks.light[at]:.0%} of the clear night's light comes through, less and less "
            f"over {count} exposures, while stars widened to "
            f"{looks.fwhm_px[at]:.1f} px"
        )
    return found


def _falling(looks: Looks, at: int) -> int:
    """Over how many exposures up to one light fell and stars widened, smoothly; 0 where not."""
    light, width = looks.light, looks.fwhm_px
    first = at
    while first > 0 and light[first - 1] > light[first] - 0.01:
        first -= 1
    # Back to where it was clear, and no farther: what was steady before says nothing.
    clear = np.flatnonzero(
        light[first : at + 1] > _CLEAR * min(float(light[first : at + 1].max()), 1.0)
    )
    first += int(clear[-1]) if clear.size else 0
    own = slice(first, at + 1)
    if at + 1 - first < _DEW_RUN or not np.all(np.isfinite(light[own] + width[own])):
        return 0
    time = np.arange(at + 1 - first, dtype=float)
    steps = np.diff(light[own])
    falls, widens = _in_step(time, light[own]), _in_step(time, width[own])
    jerk = float(np.abs(np.diff(steps)).max()) if steps.size > 1 else 0.0
    steady = falls < _FALLS and widens > _WIDENS and jerk < _JERK
    return at + 1 - first if steady else 0


def _in_step(one: Floats, other: Floats) -> float:
    """Spearman's rank correlation (1904, Am. J. Psych. 15, 72); equal values share a rank. NaN
    where one of them does not change.
    """

    def ranks(values: Floats) -> Floats:
        _, place, count = np.unique(values, return_inverse=True, return_counts=True)
        return np.asarray((np.cumsum(count) - 0.5 * (count - 1))[place], float)

    a, b = ranks(one), ranks(other)
    a, b = a - a.mean(), b - b.mean()
    size = float(np.sqrt((a * a).sum() * (b * b).sum()))
    return float((a * b).sum()) / size if size > 0 else float("nan")


def _clouded(looks: Looks, rules: VetRules) -> dict[int, str]:
    return {
        int(at): f"cloud: {looks.light[at]:.0%} of the clear night's light comes through"
        for at in np.flatnonzero(looks.light < rules.light)
    }
